package diagnose

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/store/db"
)

// Simulate says what publishing the newest state of an entry would expire and
// rebuild, or unpublishing it; or what a change that was made would, if it were made
// now.
func (d *Service) Simulate(ctx context.Context, entry, what string, sequence int64) (api.Simulation, error) {
	var changes []content.Change
	var err error
	if sequence > 0 {
		if changes, err = d.store.Changes.ChangesFrom(ctx, sequence-1, 1); err == nil &&
			(len(changes) == 0 || changes[0].Sequence != sequence) {
			err = fmt.Errorf("the change %d: %w", sequence, db.ErrNotFound)
		}
	} else {
		changes, err = d.store.Entries.SimulateChanges(ctx, d.replica.Model(), entry, what)
	}
	if err != nil {
		return api.Simulation{}, err
	}
	for i := range changes {
		changes[i].At = time.Now() // filters that speak of now are asked about now
	}
	out := api.Simulation{
		What:    what,
		Changes: len(changes),
		Expires: []api.CacheEntry{},
		Of:      d.cache.Stats().Responses,
		Rules:   []api.RuleVerdict{},
		Sites:   []string{},
	}
	for _, r := range d.cache.Simulate(invalidation.Deltas(changes...)) {
		out.Expires = append(out.Expires, d.delivery.CacheEntry(r))
	}
	for i := range changes {
		out.What = changes[i].What
		for _, v := range d.automation.Verdicts(&changes[i]) {
			out.Rules = append(out.Rules, v.RuleVerdict)
			out.Sites = append(out.Sites, v.Sites...)
		}
	}
	slices.Sort(out.Sites)
	out.Sites = slices.Compact(out.Sites)
	out.Pages, err = d.pages.Affected(ctx, changes)
	return out, err
}

// Changes lists changes of the log, the newest first, below a sequence if that is
// not 0.
func (d *Service) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	return d.store.Changes.Changes(ctx, entry, below, limit)
}

// Change returns one change of the log. Its error is db.ErrNotFound.
func (d *Service) Change(ctx context.Context, sequence int64) (api.ChangeDetail, error) {
	found, err := d.store.Changes.ChangesFrom(ctx, sequence-1, 1)
	if err == nil && (len(found) == 0 || found[0].Sequence != sequence) {
		err = fmt.Errorf("the change %d: %w", sequence, db.ErrNotFound)
	}
	if err != nil {
		return api.ChangeDetail{}, err
	}
	runs, err := d.store.Runs.OfChange(ctx, sequence)
	return api.ChangeDetail{Change: found[0], Rules: runs}, err
}
