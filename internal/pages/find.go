package pages

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/delivery"
	stored "ubiquon/internal/store/pages"
)

// What happened, in causes that are no change of an entry.
const (
	causeModel    = "model"
	causeTime     = "time"
	causeLost     = "registrations lost"
	causeFound    = "found on looking anew"
	causeRestored = "an older copy of the content was restored"
	causeMany     = "more pages than are known one by one"
)

// match finds the reads that a commit may have touched.
func (k *keeper) match(commit []*invalidation.Delta) {
	sequence := commit[0].Sequence
	if commit[0].Kind == content.ModelChange {
		if len(k.whole) > 0 {
			k.by = append(k.by, rebuild.Cause{Sequence: sequence, What: causeModel})
		}
		for _, r := range k.reads {
			k.suspect(r, sequence, []rebuild.Cause{{Sequence: sequence, What: causeModel}})
		}
		return
	}
	k.matchWhole(commit)
	found, moved := k.index.Match(commit...)
	for _, m := range moved {
		k.endsAt(m.Subscriber, m.Deadline)
	}
	for _, r := range found {
		k.suspect(r, sequence, k.causesFor(r, commit))
	}
}

// matchWhole notes the changes of a commit that make all of the site stale.
func (k *keeper) matchWhole(commit []*invalidation.Delta) {
	for _, c := range commit {
		if len(k.whole) == 0 || c.Edition != content.Published || len(k.by) == mostCauses ||
			!slices.Contains(k.whole, c.Type) && k.whole[0] != "" {
			continue
		}
		if o := rule.OccurrenceOf(k.s.replica.Model(), &c.Change); o != nil {
			k.by = append(k.by, o.Cause(""))
		}
	}
}

// causesFor are the changes of a commit by which a read may give something else.
func (k *keeper) causesFor(r *read, commit []*invalidation.Delta) []rebuild.Cause {
	var out []rebuild.Cause
	deps := k.index.Set(r.handle)
	for _, all := range []bool{false, true} { // several may do in sum what none does alone
		for _, c := range commit {
			if len(out) < mostCauses && (all || deps.Affected(c)) {
				if o := rule.OccurrenceOf(k.s.replica.Model(), &c.Change); o != nil {
					out = append(out, o.Cause(""))
				}
			}
		}
		if out != nil {
			break
		}
	}
	return out
}

// endsAt notes when a read gives something else by itself; zero for never.
func (k *keeper) endsAt(r *read, at time.Time) {
	delete(k.ends, r)
	if !at.IsZero() {
		k.ends[r] = at
	}
}

// suspect has a read computed: it may give something else since a change.
func (k *keeper) suspect(r *read, since int64, causes []rebuild.Cause) {
	if !k.todo[r] {
		if r.served != nil {
			r.hits, r.served = r.hits/2+int64(r.served()), nil
		}
		r.since, r.causes = since, nil
	}
	k.todo[r] = true
	for _, c := range causes {
		if len(r.causes) < mostCauses {
			r.causes = append(r.causes, c)
		}
	}
}

// learn takes up reads that were registered.
func (k *keeper) learn(ctx context.Context) error {
	more, err := k.s.store.Pages.Reads(ctx, k.site, k.last)
	if err != nil {
		return err
	}
	for _, one := range more {
		r := &read{Read: one}
		k.reads[one.ID] = r
		k.last = one.ID
		k.suspect(r, k.position, []rebuild.Cause{{Sequence: k.position, What: causeFound}})
	}
	return nil
}

// compute finds out what the reads give that are to be tried, as of the position or later. It
// returns those that give something else than is known; those that cannot be tried now are left.
func (k *keeper) compute(ctx context.Context) ([]stored.Answered, error) {
	type found struct {
		r     *read
		known delivery.Known
		err   error
	}
	jobs, results := make(chan *read), make(chan found)
	var wg sync.WaitGroup
	for range min(atOnce, len(k.todo)) {
		wg.Go(func() {
			for r := range jobs {
				known, err := k.s.find(ctx, &r.Read, k.position)
				results <- found{r, known, err}
			}
		})
	}
	todo := make([]*read, 0, len(k.todo))
	for r := range k.todo {
		todo = append(todo, r)
	}
	go func() {
		for _, r := range todo {
			jobs <- r
		}
		close(jobs)
		wg.Wait()
		close(results)
	}()
	var out []stored.Answered
	claimed := time.Now()
	for f := range results {
		r := f.r
		if time.Since(claimed) > claimEvery { // there may be many
			claimed = time.Now()
			if _, _, err := k.s.store.Pages.Claim(ctx, k.site, k.s.replica.Node.ID); err != nil {
				k.s.log.Debug("the claim of a ledger is not renewed; another node may take it over", "error", err)
			}
		}
		if f.err != nil {
			if r.tries++; r.tries < mostTries || ctx.Err() != nil {
				continue
			}
			k.s.log.Warn("a read of a page cannot be computed; its pages count as stale", "site", k.site, "request",
				r.Request, "error", f.err)
			f.known = delivery.Known{Name: "503 " + f.err.Error(), Ends: time.Now().Add(retryUnanswered)}
		}
		r.tries = 0
		delete(k.todo, r)
		k.index.Remove(r.handle)
		r.handle = 0
		k.endsAt(r, f.known.Ends)
		r.served = f.known.Served
		if deps := f.known.Dependencies; deps != nil {
			r.handle = k.index.Add(r, deps)
		}
		if f.known.Name != r.Answer {
			out = append(out, stored.Answered{
				Read: r.ID, Answer: f.known.Name, Since: r.since, Causes: r.causes,
				Hits: r.hits,
			})
		}
	}
	return out, ctx.Err()
}

// retryUnanswered is after how long a read is tried again that could not be answered.
const retryUnanswered = 30 * time.Second

// find finds out what a read gives, as of a position or later.
func (s *Service) find(ctx context.Context, r *stored.Read, position int64) (delivery.Known, error) {
	var rights *access.Rights
	if r.Rights != "" {
		own, err := grantsOf(r.Rights)
		if err != nil {
			return delivery.Known{}, fmt.Errorf("the grants of a read: %w", err)
		}
		rights = &access.Rights{Own: own}
	}
	return s.delivery.Find(ctx, principal, r.Request, rights, position)
}
