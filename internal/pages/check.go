package pages

import (
	"context"
	"fmt"

	"ubiquon/internal/api"
	"ubiquon/internal/store/db"
)

// mostChecked bounds the requests that one check makes.
const mostChecked = 20_000

// Check makes the requests of a site's pages again, and holds what they give against the ledger. What
// changes meanwhile may be among what it finds. Its error is db.ErrNotFound when there is no such
// site.
func (s *Service) Check(ctx context.Context, site string) (api.PageCheck, error) {
	out := api.PageCheck{Wrong: []api.WrongRead{}}
	if _, known := s.o.Settings.State().Sites[site]; !known {
		return out, fmt.Errorf("site %s: %w", site, db.ErrNotFound)
	}
	if err := s.Flush(ctx, site); err != nil {
		return out, err
	}
	all, err := s.store.Pages.Reads(ctx, site, 0)
	if err != nil {
		return out, err
	}
	if len(all) > mostChecked {
		all, out.Unchecked = all[:mostChecked], len(all)-mostChecked
	}
	position := s.replica.Applied()
	for _, r := range all {
		known, err := s.find(ctx, &r, position)
		if err != nil {
			return out, err
		}
		out.Reads++
		if r.Answer != "" && r.Answer != known.Name {
			out.Wrong = append(out.Wrong, api.WrongRead{Request: s.Shown(r.Request), Known: r.Answer, Is: known.Name})
		}
	}
	return out, nil
}
