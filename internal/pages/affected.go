package pages

import (
	"context"
	"maps"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/pages"
)

// Affected tells which pages of which sites changes may make stale that have not happened.
func (s *Service) Affected(ctx context.Context, changes []content.Change) ([]api.AffectedPages, error) {
	known, err := s.store.Pages.Sites(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	keepers := maps.Clone(s.keepers)
	s.mu.Unlock()
	out := []api.AffectedPages{}
	for _, site := range known {
		one := api.AffectedPages{Site: site, Pages: []string{}}
		k := keepers[site]
		if k == nil {
			one.Elsewhere = true
			out = append(out, one)
			continue
		}
		deltas := invalidation.Deltas(changes...)
		all := make([]*invalidation.Delta, len(deltas))
		for i := range deltas {
			all[i] = &deltas[i]
		}
		var reads []int64
		for _, r := range k.present().Simulate(all...) {
			reads = append(reads, r.ID)
		}
		if one.Pages, err = s.store.Pages.Using(ctx, site, reads, pages.MostListed); err != nil {
			return nil, err
		}
		if i := slices.Index(one.Pages, pages.Structure); i >= 0 {
			one.Whole, one.Pages = true, slices.Delete(one.Pages, i, i+1)
		}
		out = append(out, one)
	}
	return out, nil
}
