package diagnose

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/delivery"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/db"
)

// Simulation is a change that is supposed, and what it would do on this node.
type Simulation struct {
	What    string                `json:"what"`
	Changes int                   `json:"changes"`
	Expires []delivery.CacheEntry `json:"expires"`
	Of      int                   `json:"of"` // answers held
	// Rules says for each rule whether it would fire, or why not.
	Rules []RuleVerdict `json:"rules"`
	// Sites that would be rebuilt.
	Sites []string `json:"sites"`
}

// RuleVerdict is what a rule makes of a change.
type RuleVerdict struct {
	Rule  string `json:"rule"`
	Fires bool   `json:"fires"`
	Why   string `json:"why,omitempty"`
}

// Simulate says what publishing the newest state of an entry would expire and
// rebuild, or unpublishing it; or what a change that was made would, if it were made
// now.
func (d *Service) Simulate(ctx context.Context, entry, what string, sequence int64) (Simulation, error) {
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
		return Simulation{}, err
	}
	for i := range changes {
		changes[i].At = time.Now() // filters that speak of now are asked about now
	}
	out := Simulation{
		What:    what,
		Changes: len(changes),
		Expires: []delivery.CacheEntry{},
		Of:      d.cache.Stats().Responses,
		Rules:   []RuleVerdict{},
		Sites:   []string{},
	}
	for _, r := range d.cache.Simulate(invalidation.Deltas(changes...)) {
		out.Expires = append(out.Expires, d.delivery.CacheEntry(r))
	}
	for i := range changes {
		out.What = changes[i].What
		for j := range d.automation.Rules {
			fires, why := d.automation.Rules[j].Fires(&changes[i])
			out.Rules = append(out.Rules, RuleVerdict{d.automation.Rules[j].Name, fires, why})
			if fires {
				out.Sites = append(out.Sites, sitesOf(&d.automation.Rules[j])...)
			}
		}
	}
	slices.Sort(out.Sites)
	out.Sites = slices.Compact(out.Sites)
	return out, nil
}

func sitesOf(r *rule.Rule) []string {
	var out []string
	for _, step := range r.Do {
		out = append(out, step.Rebuild.Site)
	}
	return out
}

// Changes lists changes of the log, the newest first, below a sequence if that is
// not 0.
func (d *Service) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	return d.store.Changes.Changes(ctx, entry, below, limit)
}

// Change returns one change of the log. Its error is db.ErrNotFound.
func (d *Service) Change(ctx context.Context, sequence int64) (ChangeDetail, error) {
	found, err := d.store.Changes.ChangesFrom(ctx, sequence-1, 1)
	if err == nil && (len(found) == 0 || found[0].Sequence != sequence) {
		err = fmt.Errorf("the change %d: %w", sequence, db.ErrNotFound)
	}
	if err != nil {
		return ChangeDetail{}, err
	}
	runs, err := d.store.Builds.RunsOf(ctx, sequence)
	return ChangeDetail{found[0], runs}, err
}

// ChangeDetail is a change with what the rules made of it.
type ChangeDetail struct {
	content.Change
	Rules []builds.RuleRun `json:"rules"`
}
