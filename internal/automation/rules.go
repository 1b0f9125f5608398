package automation

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/runs"
)

// rulePause is how long rules rest after changes, so that many that come close
// together take one transaction.
const rulePause = 20 * time.Millisecond

// runRules hands every change and every event of the service to the rules, once, whichever node
// gets it.
func (a *Service) runRules(ctx context.Context) {
	for {
		n, err := a.decide(ctx)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.work.Failures.Failed(a.log, "rules cannot be run; trying on", "error", err)
		}
		if n > 0 {
			for _, site := range a.SiteNames() {
				background.Nudge(a.wakeBuild(site))
			}
			background.Nudge(a.wakeSteps)
			a.news.Tell("builds")
			a.news.Tell("runs")
		}
		pause, wake := time.Second, a.wakeRules
		if n > 0 {
			// There may be more: what comes within a short time is judged together.
			pause, wake = rulePause, nil
		}
		if !background.Sleep(ctx, pause, wake) {
			return
		}
	}
}

// decide hands the next changes and events to the rules, and returns how many there were.
func (a *Service) decide(ctx context.Context) (int, error) {
	st := a.settings.State()
	_, n, err := a.store.Runs.ConsumeChanges(ctx, "rules", needValues(st),
		func(tx pgx.Tx, changes []content.Change) error {
			var all []*rule.Occurrence
			for i := range changes {
				if o := rule.OccurrenceOf(a.replica.Model(), &changes[i]); o != nil {
					all = append(all, o)
				}
			}
			return a.fire(ctx, tx, st, all)
		})
	if err != nil {
		return n, err
	}
	signals, err := a.store.Runs.ConsumeSignals(ctx, func(tx pgx.Tx, found []rule.Occurrence) error {
		all := make([]*rule.Occurrence, len(found))
		for i := range found {
			all[i] = &found[i]
			if err := a.describe(ctx, all[i]); err != nil {
				return err
			}
			if err := a.notify(ctx, tx, all[i]); err != nil {
				return err
			}
		}
		return a.fire(ctx, tx, st, all)
	})
	if signals > 0 {
		background.Nudge(a.wakeMail)
	}
	return n + signals, err
}

// needValues reports whether some rule looks at what entries hold. Those that do not are spared
// reading it: it is most of what is read.
func needValues(st *settings.State) bool {
	return slices.ContainsFunc(st.Rules, func(r rule.Rule) bool {
		return !r.Off && (r.When != "" || slices.ContainsFunc(r.Do, func(s rule.Step) bool { return s.Rebuild == nil }))
	})
}

type buildRequest struct {
	causes   []rebuild.Cause
	sequence int64
	now      bool
}

// fire decides on occurrences and notes what came of it. Builds that the first steps ask for are
// asked for in the same transaction: once, and together.
func (a *Service) fire(ctx context.Context, tx pgx.Tx, st *settings.State, all []*rule.Occurrence) error {
	if err := a.addRoles(ctx, st, all); err != nil {
		return err
	}
	builds := map[string]*buildRequest{}
	var made []runs.Run
	now := time.Now()
	for _, o := range all {
		for _, c := range st.Compiled {
			if c.At != "" && o.Event != rule.Clock {
				continue // events are nothing to it
			}
			r := runs.Run{Rule: c, Source: sourceOf(o), About: o, Decision: c.Decide(o, now)}
			if r.Fires {
				a.rulesFired.Add(1)
				r.Done = requestBuilds(builds, c, o)
			} else {
				a.rulesHeld.Add(1)
			}
			made = append(made, r)
		}
		for name, why := range st.Broken {
			made = append(made, runs.Run{
				Rule: &rule.Compiled{Rule: rule.Rule{Name: name}}, Source: sourceOf(o), About: o,
				Decision: rule.Decision{Reason: "broken: " + why},
			})
		}
	}
	if err := a.store.Runs.Add(ctx, tx, made); err != nil {
		return err
	}
	// In one order on all nodes: each takes the lock of its site.
	for _, site := range slices.Sorted(maps.Keys(builds)) {
		w := builds[site]
		if _, err := a.store.Builds.RequestIn(ctx, tx, site, w.causes, w.sequence, w.now); err != nil {
			return err
		}
	}
	return nil
}

// sourceOf is what makes a run of a rule unique.
func sourceOf(o *rule.Occurrence) string {
	switch {
	case o.Sequence > 0:
		return fmt.Sprintf("c%d", o.Sequence)
	case o.Event == rule.Clock:
		return fmt.Sprintf("t%d", o.At.Unix())
	}
	return fmt.Sprintf("s%d", o.Signal)
}

// requestBuilds gathers the builds that the first steps of a rule ask for, and returns what is
// said of those steps.
func requestBuilds(builds map[string]*buildRequest, c *rule.Compiled, o *rule.Occurrence) (done []string) {
	for i := range c.Do {
		step := c.Do[i].Rebuild
		if step == nil {
			break
		}
		w := builds[step.Site]
		if w == nil {
			w = &buildRequest{}
			builds[step.Site] = w
		}
		w.causes = append(w.causes, o.Cause(c.Name))
		w.sequence, w.now = max(w.sequence, o.Sequence), w.now || step.Now
		done = append(done, "asked for a build of "+step.Site)
	}
	return done
}

// addRoles says which roles those have who did something, if a condition asks.
func (a *Service) addRoles(ctx context.Context, st *settings.State, all []*rule.Occurrence) error {
	asked := slices.ContainsFunc(st.Compiled, func(c *rule.Compiled) bool { return c.UsesRole() })
	if !asked || len(all) == 0 {
		return nil
	}
	accounts, err := a.store.Accounts.Accounts(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		for _, account := range accounts {
			if strings.EqualFold(account.Email, o.By) {
				o.Role = string(account.Role)
			}
		}
	}
	return nil
}

// runClock sets off the rules that fire by themselves. Every node tries; the database lets one
// of them.
func (a *Service) runClock(ctx context.Context) {
	for {
		wait, err := a.tick(ctx)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.work.Failures.Failed(a.log, "rules with times cannot be run; trying on", "error", err)
			wait = time.Second
		}
		if !background.Sleep(ctx, min(wait, time.Minute), a.wakeClock) {
			return
		}
	}
}

func (a *Service) tick(ctx context.Context) (wait time.Duration, err error) {
	st := a.settings.State()
	timed := map[string]*rule.Compiled{}
	_, now, err := a.store.Runs.Clocks(ctx)
	if err != nil {
		return 0, err
	}
	var wanted []runs.Clock
	for _, c := range st.Compiled {
		if next := c.Next(now); !next.IsZero() {
			timed[c.Name] = c
			wanted = append(wanted, runs.Clock{Rule: c.Name, Version: c.Version, Next: next})
		}
	}
	if err := a.store.Runs.KeepClocks(ctx, wanted); err != nil {
		return 0, err
	}
	all, now, err := a.store.Runs.Clocks(ctx)
	if err != nil {
		return 0, err
	}
	wait = time.Minute
	for _, at := range all {
		c := timed[at.Rule]
		if c == nil || c.Version != at.Version {
			continue
		}
		if at.Next.After(now) {
			wait = min(wait, at.Next.Sub(now))
			continue
		}
		if err := a.ring(ctx, st, c, at, now); err != nil {
			return 0, err
		}
		wait = 0
	}
	return wait, nil
}

// ring sets off one rule. What was missed meanwhile is made up for once.
func (a *Service) ring(ctx context.Context, st *settings.State, c *rule.Compiled, at runs.Clock, now time.Time) error {
	o := &rule.Occurrence{Event: rule.Clock, At: at.Next, Origin: content.Local}
	err := a.store.Runs.Begin(ctx, func(tx pgx.Tx) error {
		first, err := a.store.Runs.Advance(ctx, tx, at, c.Next(now))
		if err != nil || !first {
			return err
		}
		alone := *st
		alone.Compiled, alone.Broken = []*rule.Compiled{c}, nil
		return a.fire(ctx, tx, &alone, []*rule.Occurrence{o})
	})
	background.Nudge(a.wakeSteps)
	a.news.Tell("runs")
	return err
}
