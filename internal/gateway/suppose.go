package gateway

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store"
)

// Supposition is a change that is supposed, and what it would do on this node.
type Supposition struct {
	What    string       `json:"what"`
	Changes int          `json:"changes"`
	Expires []HeldAnswer `json:"expires"`
	Of      int          `json:"of"` // answers held
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

// Suppose says what publishing the newest state of an entry would expire and
// rebuild, or unpublishing it; or what a change that was made would, if it were made
// now.
func (g *Gateway) Suppose(ctx context.Context, entry, what string, sequence int64) (Supposition, error) {
	var changes []content.Change
	var err error
	if sequence > 0 {
		if changes, err = g.store.ChangesFrom(ctx, sequence-1, 1); err == nil && (len(changes) == 0 || changes[0].Sequence != sequence) {
			err = fmt.Errorf("the change %d: %w", sequence, store.ErrNotFound)
		}
	} else {
		changes, err = g.store.SupposedChanges(ctx, g.Model(), entry, what)
	}
	if err != nil {
		return Supposition{}, err
	}
	for i := range changes {
		changes[i].At = time.Now() // filters that speak of now are asked about now
	}
	out := Supposition{What: what, Changes: len(changes), Expires: []HeldAnswer{}, Of: g.cache.Stats().Responses, Rules: []RuleVerdict{}, Sites: []string{}}
	for _, r := range g.cache.Simulate(changes) {
		out.Expires = append(out.Expires, g.heldAnswer(r))
	}
	for i := range changes {
		out.What = changes[i].What
		for j := range g.rules {
			fires, why := g.rules[j].Fires(&changes[i])
			out.Rules = append(out.Rules, RuleVerdict{g.rules[j].Name, fires, why})
			if fires {
				out.Sites = append(out.Sites, sitesOf(&g.rules[j])...)
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
func (g *Gateway) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	return g.store.Changes(ctx, entry, below, limit)
}

// Change returns one change of the log. Its error is store.ErrNotFound.
func (g *Gateway) Change(ctx context.Context, sequence int64) (ChangeDetail, error) {
	found, err := g.store.ChangesFrom(ctx, sequence-1, 1)
	if err == nil && (len(found) == 0 || found[0].Sequence != sequence) {
		err = fmt.Errorf("the change %d: %w", sequence, store.ErrNotFound)
	}
	if err != nil {
		return ChangeDetail{}, err
	}
	runs, err := g.store.RunsOf(ctx, sequence)
	return ChangeDetail{found[0], runs}, err
}

// ChangeDetail is a change with what the rules made of it.
type ChangeDetail struct {
	content.Change
	Rules []store.RuleRun `json:"rules"`
}
