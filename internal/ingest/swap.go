package ingest

import (
	"context"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/writing"
)

// Rehearse says what would become of the entries of one origin if another one took its place for the
// types that it maps: which change hands, and in what those differ from what the other has; edits is told
// what would be written then. Nothing is changed. by is as for Adopt; given is what the
// origin would be configured as, nil for what it is.
func (in *Service) Rehearse(
	ctx context.Context, old, name, by string, given *origin.Config, progress Progress,
	edits func([]writing.Edit) error,
) (adoption api.Adoption, differences api.Comparison, err error) {
	source, end, err := in.toTry(name, given)
	if err != nil {
		return adoption, differences, err
	}
	defer end()
	matched := map[string]string{}
	adoption, err = in.adopt(ctx, old, source, by, "", false, progress, matched)
	if err != nil {
		return adoption, differences, err
	}
	other := func(made string) string {
		if entry, is := matched[made]; is {
			return entry
		}
		return made
	}
	differences, err = in.compare(ctx, source, old, func(item *origin.Item) {
		item.ID = other(item.ID)
		content.MapIDs(item.Saved, other)
		content.MapIDs(item.Live, other)
	}, progress, func(items []origin.Item) error {
		all := make([]writing.Edit, len(items))
		for i := range items {
			item := &items[i]
			item.Saved, item.Live = content.Mirrored(item.Saved), content.Mirrored(item.Live)
			all[i] = editOf(old, *item)
		}
		return edits(all)
	})
	return adoption, differences, err
}
