package pages

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/db"
)

// mostListed bounds the pages of one answer.
const mostListed = 1000

// List lists pages of a site, by path. Its error is db.ErrNotFound when there is no such site.
func (s *Service) List(ctx context.Context, f api.PageFilter) (api.SitePages, error) {
	out := api.SitePages{Items: []api.SitePage{}}
	if f.Site == "" {
		return out, api.BadParameter("site", "say of which site")
	}
	if _, known := s.o.Settings.State().Sites[f.Site]; !known {
		return out, fmt.Errorf("site %s: %w", f.Site, db.ErrNotFound)
	}
	if f.Limit <= 0 {
		f.Limit = 100
	}
	f.Limit = min(f.Limit, mostListed)
	if err := s.Flush(ctx, f.Site); err != nil {
		return out, err
	}
	ledger, err := s.store.Pages.Ledger(ctx, f.Site)
	if errors.Is(err, db.ErrNotFound) {
		return out, nil // none of its pages has said anything yet
	}
	if err != nil {
		return out, err
	}
	out.Ledger = ledger
	var reads []int64
	if f.Entry != "" {
		if reads, err = s.readsShowing(ctx, f.Site, f.Entry); err != nil {
			return out, err
		}
	}
	f.Limit++
	if out.Items, err = s.store.Pages.List(ctx, f, reads); err != nil {
		return out, err
	}
	if len(out.Items) == f.Limit {
		out.Items = out.Items[:f.Limit-1]
		out.Next = out.Items[len(out.Items)-1].Page
	}
	for i := range out.Items {
		for j, text := range out.Items[i].Reads {
			out.Items[i].Reads[j] = s.Shown(text)
		}
	}
	return out, nil
}

// Shown is a request as people write it: of the published edition what stands below it.
func (s *Service) Shown(text string) string {
	r, err := query.ParseRequest(text)
	if err != nil {
		return text
	}
	if below, is := strings.CutPrefix(r.Address, s.below()); is && (r.Language == "" || r.Language == "*") {
		return below
	}
	return r.String()
}

// below is how addresses of the published edition begin.
func (s *Service) below() string {
	return "/content/" + s.replica.Environment() + "/" + content.Published
}

// longestLook bounds how long the node looks for what shows an entry that does not keep the ledger.
const longestLook = 5 * time.Second

// readsShowing are the reads of a site whose answers were made of an entry. A node that does not
// keep the ledger has the answers computed that it does not hold.
func (s *Service) readsShowing(ctx context.Context, site, entry string) ([]int64, error) {
	s.mu.Lock()
	k := s.keepers[site]
	s.mu.Unlock()
	out := []int64{}
	locales := s.replica.Model().Tags()
	if k != nil {
		for _, locale := range locales {
			for _, r := range k.present().Reading(content.Published, entry, locale) {
				out = append(out, r.ID)
			}
		}
		return out, nil
	}
	all, err := s.store.Pages.Reads(ctx, site, 0)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, longestLook)
	defer cancel()
	for _, r := range all {
		known, err := s.delivery.Find(ctx, principal, r.Request, nil, 0)
		if err != nil {
			return nil, fmt.Errorf("which reads show the entry is not found out in time: %w", err)
		}
		if known.Dependencies == nil {
			continue
		}
		for _, e := range known.Dependencies.Entries {
			if e.ID == entry {
				out = append(out, r.ID)
				break
			}
		}
	}
	return out, nil
}
