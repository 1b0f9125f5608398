package gateway

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store"
)

// rulePause is how long rules rest after changes, so that many that come close
// together take one transaction.
const rulePause = 20 * time.Millisecond

// runRules hands every change to the rules, once, whichever node gets it.
func (g *Gateway) runRules(ctx context.Context) {
	for {
		_, n, err := g.store.Advance(ctx, "rules", func(tx pgx.Tx, changes []content.Change) error { return g.fireRules(ctx, tx, changes) })
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			g.troubles.Failed(g.log, "rules cannot be run; trying on", "error", err)
		}
		if n > 0 {
			for _, c := range g.wakeBuilds {
				nudge(c)
			}
			g.news.tell("builds")
		}
		pause, wake := time.Second, g.wakeRules
		if n > 0 {
			// There may be more: what comes within a moment is judged together.
			pause, wake = rulePause, nil
		}
		if !sleep(ctx, pause, wake) {
			return
		}
	}
}

type wish struct {
	causes   []rebuild.Cause
	sequence int64
	now      bool
}

func (g *Gateway) fireRules(ctx context.Context, tx pgx.Tx, changes []content.Change) error {
	wishes := map[string]*wish{}
	for i := range changes {
		c := &changes[i]
		if c.Kind != content.ContentChange || (c.Edition == content.Preview && c.What != "saved") {
			continue // the published edition's change speaks for both
		}
		for j := range g.rules {
			r := &g.rules[j]
			fires, why := r.Fires(c)
			if fires {
				for _, step := range r.Do {
					w := wishes[step.Rebuild.Site]
					if w == nil {
						w = &wish{}
						wishes[step.Rebuild.Site] = w
					}
					slugs, paths := c.Places()
					w.causes = append(w.causes, rebuild.Cause{Sequence: c.Sequence, Rule: r.Name, Entry: c.Entry, Type: c.Type, What: c.What, Event: c.Cause.Event, Locales: sortedKeys(c.Fields), Slugs: slugs, Paths: paths})
					w.sequence, w.now = max(w.sequence, c.Sequence), w.now || step.Rebuild.Now
					why = "asked for a build of " + step.Rebuild.Site
				}
			}
			if fires {
				g.rulesFired.Add(1)
			} else {
				g.rulesHeld.Add(1)
			}
			if err := g.store.AddRuleRun(ctx, tx, c.Sequence, r, fires, why); err != nil {
				return err
			}
		}
	}
	for site, w := range wishes {
		if _, err := g.store.RequestBuildIn(ctx, tx, site, w.causes, w.sequence, w.now); err != nil {
			return err
		}
	}
	return nil
}

// Rebuild asks for a build of a site, now or after the usual wait.
func (g *Gateway) Rebuild(ctx context.Context, site, by string, immediately bool) (rebuild.Build, error) {
	if s, ok := g.sites[site]; !ok || s.Build == nil {
		return rebuild.Build{}, fmt.Errorf("site %s with a build: %w", site, store.ErrNotFound)
	}
	b, err := g.store.RequestBuild(ctx, site, []rebuild.Cause{{By: by}}, g.cache.Applied(), immediately)
	nudge(g.wakeBuilds[site])
	g.news.tell("builds")
	return b, err
}

// orderCauses bounds the causes that an order names.
const orderCauses = 100

// Order is the body of a call to a builder.
type Order struct {
	Build    string `json:"build"`
	Number   int64  `json:"number"`
	Site     string `json:"site"`
	Sequence int64  `json:"sequence"` // read content at this state or later
	// Causes are the first hundred; Counts says how many there are in all, by what happened
	// (published, unpublished, deleted, moved, saved, and "asked for" by somebody).
	Causes []rebuild.Cause `json:"causes"`
	Counts map[string]int  `json:"counts"`
	// Report is where the builder posts {"state": "started"}, {"state":
	// "finished"} or {"state": "failed", "error": "why"} with the site's key.
	Report string `json:"report,omitempty"`
}

// callBuilder calls a site's builder whenever a build is due.
func (g *Gateway) callBuilder(ctx context.Context, site string, call *rebuild.Call) {
	for {
		b, wait, err := g.store.NextCall(ctx, site, call)
		if ctx.Err() != nil {
			return
		}
		switch {
		case err != nil:
			g.troubles.Failed(g.log, "builds cannot be looked after; trying on", "site", site, "error", err)
			wait = time.Second
		case b != nil:
			g.news.tell("builds")
			g.place(ctx, b, call)
			continue
		}
		if !sleep(ctx, wait, g.wakeBuilds[site]) {
			return
		}
	}
}

func (g *Gateway) place(ctx context.Context, b *rebuild.Build, call *rebuild.Call) {
	order := Order{Build: b.ID, Number: b.Number, Site: b.Site, Sequence: b.Sequence, Causes: b.Causes[:min(len(b.Causes), orderCauses)], Counts: b.Counts,
		Report: g.o.Address + "/control/v1/builds/" + b.ID + "/reports"}
	if call.Silent() {
		order.Report = ""
	}
	failure, wait := "", time.Duration(0)
	if err := g.caller.Post(ctx, call.Call, call.Secret, b.ID, order); err != nil {
		failure = err.Error()
		var answered *outbound.AnswerError
		if errors.As(err, &answered) {
			wait = answered.RetryAfter
		}
		g.troubles.Failed(g.log, "the builder of "+b.Site+" did not take the call; it will be made again", "build", b.Number, "attempt", b.Attempts, "error", err)
	}
	if err := g.store.Called(ctx, b, call.Silent(), failure, wait); err != nil && ctx.Err() == nil {
		g.log.Error("a call cannot be noted; it will be made again", "site", b.Site, "build", b.Number, "error", err)
	}
}

// ReportBuild takes a builder's word on a build: started, finished or failed.
func (g *Gateway) ReportBuild(ctx context.Context, id, state, reason string) (rebuild.Build, error) {
	b, err := g.store.ReportBuild(ctx, id, rebuild.State(state), state == "started", reason)
	if errors.Is(err, store.ErrNotRunning) {
		// It has ended for us; but whoever reports works.
		if known, heard := g.store.Build(ctx, id); heard == nil && g.store.HeardOf(ctx, known.Site) == nil {
			nudge(g.wakeBuilds[known.Site])
		}
	}
	if err == nil {
		if b.State == rebuild.Failed {
			g.troubles.Failed(g.log, "builds of "+b.Site+" fail; they are tried again", "build", b.Number, "failures", b.Failures+1, "error", b.Error)
		}
		nudge(g.wakeBuilds[b.Site])
		g.news.tell("builds")
	}
	return b, err
}

// Build returns one build.
func (g *Gateway) Build(ctx context.Context, id string) (rebuild.Build, error) {
	return g.store.Build(ctx, id)
}

// Builds lists builds, the newest first.
func (g *Gateway) Builds(ctx context.Context, f store.BuildFilter) ([]rebuild.Build, error) {
	return g.store.ListBuilds(ctx, f)
}

// SiteInfo is a site with how it stands.
type SiteInfo struct {
	Name string `json:"name"`
	rebuild.Site
	Builds []rebuild.Build `json:"builds"` // the last ones, the newest first
}

// Sites lists the sites, by name.
func (g *Gateway) Sites(ctx context.Context) ([]SiteInfo, error) {
	out := []SiteInfo{}
	for _, name := range sortedKeys(g.sites) {
		builds, err := g.store.ListBuilds(ctx, store.BuildFilter{Site: name, Limit: 12})
		if err != nil {
			return nil, err
		}
		out = append(out, SiteInfo{Name: name, Site: g.sites[name], Builds: builds})
	}
	return out, nil
}
