package pages

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/pages"
	stored "ubiquon/internal/store/pages"
)

// mostLines bounds the lines of a manifest.
const mostLines = 200_000

// manifest is one that is being taken in.
type manifest struct {
	s     *Service
	site  string
	build stored.Build
	// got has what the builder is known to have got, by the text of the request.
	got map[string]stored.Registration
	out api.Manifest
}

// TakeManifest takes in what a builder says of its pages, line by line: next returns one, and false
// at the end. What comes before a line that is wrong is taken in. Its error is db.ErrNotFound
// when the site has no such build.
func (s *Service) TakeManifest(
	ctx context.Context, site, build string, next func() (pages.Line, bool, error),
) (api.Manifest, error) {
	b, err := s.store.Pages.BuildOf(ctx, site, build)
	if err != nil {
		return api.Manifest{}, err
	}
	if err := s.Flush(ctx, site); err != nil {
		return api.Manifest{}, err
	}
	m := &manifest{s: s, site: site, build: b}
	if m.got, err = s.store.Pages.Got(ctx, site, b.ID); err != nil {
		return api.Manifest{}, err
	}
	var batch, structure []stored.Registration
	var wrong error
	for {
		var l pages.Line
		var more bool
		if l, more, wrong = next(); wrong != nil || !more {
			break
		}
		if m.out.Pages == mostLines {
			wrong = fmt.Errorf("a manifest has at most %d lines", mostLines)
			break
		}
		all, err := m.line(ctx, &l)
		if err != nil {
			return m.out, err
		}
		if m.out.Pages++; l.Page == pages.Structure {
			structure = append(structure, all...) // last, as pages take what is theirs out of it
			continue
		}
		if batch = append(batch, all...); len(batch) >= perFlush {
			if err := m.store(ctx, batch); err != nil {
				return m.out, err
			}
			batch = nil
		}
	}
	if err := m.store(ctx, batch); err != nil {
		return m.out, err
	}
	return m.out, cmp.Or(wrong, m.store(ctx, structure))
}

func (m *manifest) store(ctx context.Context, all []stored.Registration) error {
	if len(all) == 0 {
		return nil
	}
	err := m.s.store.Pages.Register(ctx, m.site, m.s.replica.Node.ID, all, time.Time{}, false,
		m.s.delivery.TypesIn)
	m.s.Wake(m.site)
	return err
}

// line is what a line says that a page was made of.
func (m *manifest) line(ctx context.Context, l *pages.Line) ([]stored.Registration, error) {
	requests := make([]string, 0, len(l.Reads)+len(l.Entries))
	for _, r := range l.Reads {
		requests = append(requests, m.s.below()+r)
	}
	for _, id := range l.Entries {
		requests = append(requests, m.s.below()+"/entries/"+id)
	}
	var out []stored.Registration
	for _, text := range requests {
		got, known := m.got[text]
		if !known {
			var err error
			if got, err = m.find(ctx, text); err != nil {
				return nil, err
			}
			m.got[text] = got
		}
		if m.out.Reads++; got.Answer == "" {
			m.out.Unknown++
		}
		got.Mark, got.Claims = pages.Mark{Page: l.Page, Run: m.build.ID}, l.Page != pages.Structure
		out = append(out, got)
	}
	return out, nil
}

// find finds out what the builder got that did not say so: what the request gives now, unless
// something has changed of the types that it is about since the build was called.
func (m *manifest) find(ctx context.Context, text string) (stored.Registration, error) {
	position := m.s.replica.Applied()
	known, err := m.s.delivery.Find(ctx, principal, text, nil, position)
	if err != nil {
		return stored.Registration{}, fmt.Errorf("what %s gives: %w", m.s.Shown(text), err)
	}
	out := stored.Registration{Request: text, Answer: known.Name, Sequence: position}
	if known.Dependencies == nil {
		return out, nil
	}
	var types []string
	for _, u := range known.Dependencies.Uses {
		types = append(types, u.Type)
	}
	changed, err := m.s.store.Pages.ChangedSince(ctx, m.build.Sequence, types)
	if changed {
		out.Answer = ""
	}
	return out, err
}
