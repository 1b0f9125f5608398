package automation

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/db"
)

// rulePause is how long rules rest after changes, so that many that come close
// together take one transaction.
const rulePause = 20 * time.Millisecond

// runRules hands every change to the rules, once, whichever node gets it.
func (a *Service) runRules(ctx context.Context) {
	for {
		_, n, err := a.store.Builds.ConsumeChanges(
			ctx, "rules", func(tx pgx.Tx, changes []content.Change) error { return a.fireRules(ctx, tx, changes) },
		)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.work.Failures.Failed(a.log, "rules cannot be run; trying on", "error", err)
		}
		if n > 0 {
			for _, c := range a.wakeBuilds {
				background.Nudge(c)
			}
			a.news.Tell("builds")
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

type buildRequest struct {
	causes   []rebuild.Cause
	sequence int64
	now      bool
}

func (a *Service) fireRules(ctx context.Context, tx pgx.Tx, changes []content.Change) error {
	wishes := map[string]*buildRequest{}
	for i := range changes {
		c := &changes[i]
		if c.Kind != content.ContentChange || (c.Edition == content.Preview && c.What != "saved") {
			continue // the published edition's change speaks for both
		}
		for j := range a.Rules {
			r := &a.Rules[j]
			fires, why := r.Fires(c)
			if fires {
				for _, step := range r.Do {
					w := wishes[step.Rebuild.Site]
					if w == nil {
						w = &buildRequest{}
						wishes[step.Rebuild.Site] = w
					}
					slugs, paths := c.Places()
					w.causes = append(
						w.causes,
						rebuild.Cause{
							Sequence: c.Sequence,
							Rule:     r.Name,
							Entry:    c.Entry,
							Type:     c.Type,
							What:     c.What,
							Event:    c.Cause.Event,
							Locales:  slices.Sorted(maps.Keys(c.Fields)),
							Slugs:    slugs,
							Paths:    paths,
						},
					)
					w.sequence, w.now = max(w.sequence, c.Sequence), w.now || step.Rebuild.Now
					why = "asked for a build of " + step.Rebuild.Site
				}
			}
			if fires {
				a.rulesFired.Add(1)
			} else {
				a.rulesHeld.Add(1)
			}
			if err := a.store.Builds.AddRuleRun(ctx, tx, c.Sequence, r, fires, why); err != nil {
				return err
			}
		}
	}
	for site, w := range wishes {
		if _, err := a.store.Builds.RequestIn(ctx, tx, site, w.causes, w.sequence, w.now); err != nil {
			return err
		}
	}
	return nil
}

// Rebuild asks for a build of a site, now or after the usual wait.
func (a *Service) Rebuild(ctx context.Context, site, by string, immediately bool) (rebuild.Build, error) {
	if s, ok := a.sites[site]; !ok || s.Build == nil {
		return rebuild.Build{}, fmt.Errorf("site %s with a build: %w", site, db.ErrNotFound)
	}
	b, err := a.store.Builds.Request(ctx, site, []rebuild.Cause{{By: by}}, a.cache.Applied(), immediately)
	background.Nudge(a.wakeBuilds[site])
	a.news.Tell("builds")
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
func (a *Service) callBuilder(ctx context.Context, site string, call *rebuild.Call) {
	for {
		b, wait, err := a.store.Builds.NextCall(ctx, site, call)
		if ctx.Err() != nil {
			return
		}
		switch {
		case err != nil:
			a.work.Failures.Failed(a.log, "builds cannot be looked after; trying on", "site", site, "error", err)
			wait = time.Second
		case b != nil:
			a.news.Tell("builds")
			a.place(ctx, b, call)
			continue
		}
		if !background.Sleep(ctx, wait, a.wakeBuilds[site]) {
			return
		}
	}
}

func (a *Service) place(ctx context.Context, b *rebuild.Build, call *rebuild.Call) {
	order := Order{
		Build:    b.ID,
		Number:   b.Number,
		Site:     b.Site,
		Sequence: b.Sequence,
		Causes:   b.Causes[:min(len(b.Causes), orderCauses)],
		Counts:   b.Counts,
		Report:   a.address + "/control/v1/builds/" + b.ID + "/reports",
	}
	if call.Silent() {
		order.Report = ""
	}
	failure, wait := "", time.Duration(0)
	if err := a.caller.Post(ctx, call.Call, call.Secret, b.ID, order); err != nil {
		failure = err.Error()
		var answered *outbound.AnswerError
		if errors.As(err, &answered) {
			wait = answered.RetryAfter
		}
		a.work.Failures.Failed(
			a.log, "the builder of "+b.Site+" did not take the call; it will be made again", "build", b.Number,
			"attempt", b.Attempts, "error", err,
		)
	}
	if err := a.store.Builds.Called(ctx, b, call.Silent(), failure, wait); err != nil && ctx.Err() == nil {
		a.log.Error("a call cannot be noted; it will be made again", "site", b.Site, "build", b.Number, "error", err)
	}
}

// ReportBuild takes a builder's word on a build: started, finished or failed.
func (a *Service) ReportBuild(ctx context.Context, id, state, reason string) (rebuild.Build, error) {
	b, err := a.store.Builds.Report(ctx, id, rebuild.State(state), state == "started", reason)
	if errors.Is(err, builds.ErrNotRunning) {
		// It has ended for us; but whoever reports works.
		if known, heard := a.store.Builds.Get(ctx, id); heard == nil &&
			a.store.Builds.HeardOf(ctx, known.Site) == nil {
			background.Nudge(a.wakeBuilds[known.Site])
		}
	}
	if err == nil {
		if b.State == rebuild.Failed {
			a.work.Failures.Failed(
				a.log, "builds of "+b.Site+" fail; they are tried again", "build", b.Number, "failures", b.Failures+1,
				"error", b.Error,
			)
		}
		background.Nudge(a.wakeBuilds[b.Site])
		a.news.Tell("builds")
	}
	return b, err
}

// Build returns one build.
func (a *Service) Build(ctx context.Context, id string) (rebuild.Build, error) {
	return a.store.Builds.Get(ctx, id)
}

// Builds lists builds, the newest first.
func (a *Service) Builds(ctx context.Context, f api.BuildFilter) ([]rebuild.Build, error) {
	return a.store.Builds.List(ctx, f)
}

// Sites lists the sites, by name.
func (a *Service) Sites(ctx context.Context) ([]api.SiteInfo, error) {
	out := []api.SiteInfo{}
	for _, name := range slices.Sorted(maps.Keys(a.sites)) {
		builds, err := a.store.Builds.List(ctx, api.BuildFilter{Site: name, Limit: 12})
		if err != nil {
			return nil, err
		}
		out = append(out, api.SiteInfo{Name: name, Site: a.sites[name], Builds: builds})
	}
	return out, nil
}
