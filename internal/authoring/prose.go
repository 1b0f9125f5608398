package authoring

import (
	"context"

	"ubiquon/internal/api"
	"ubiquon/internal/core/prose"
	"ubiquon/internal/core/strictyaml"
)

// RenderProse returns a text as a reader of drafts would get it, with its links to entries.
// Its error is an *api.BadParameterError where the text is refused or the locale unknown.
func (a *Service) RenderProse(ctx context.Context, in api.ProseText) (api.RenderedProse, error) {
	m := a.replica.Model()
	if in.Locale == "" {
		in.Locale = m.Default()
	}
	if _, ok := m.Locale(in.Locale); !ok {
		return api.RenderedProse{}, api.BadParameter(
			"locale", "there is no locale %q%s", in.Locale, strictyaml.DidYouMean(in.Locale, m.Tags()),
		)
	}
	if err := prose.Check(in.Text); err != nil {
		return api.RenderedProse{}, api.BadParameter("text", "%s", err)
	}
	r := prose.Render(in.Text, in.Marks)
	paths, err := a.store.Entries.DraftPaths(ctx, in.Locale, r.Targets)
	if err != nil {
		return api.RenderedProse{}, err
	}
	html, _ := r.Forms(func(id string) prose.Target {
		path, ok := paths[id]
		return prose.Target{Path: path, Visible: ok}
	})["html"].(string)
	return api.RenderedProse{HTML: html, Lost: append([]string{}, prose.Lost(in.Text, in.Marks)...)}, nil
}
