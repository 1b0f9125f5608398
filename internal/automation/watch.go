package automation

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
)

const (
	// watchEvery is how often is looked at what goes wrong by itself.
	watchEvery = 5 * time.Second
	// silentAfter is for how long reading an origin fails before it counts as silent.
	silentAfter = time.Minute
	// lostAfter is for how long a node says nothing before it counts as lost.
	lostAfter = 30 * time.Second
	// overdueAfter is how long an entry waits for approval before somebody is reminded.
	overdueAfter = 3 * 24 * time.Hour
)

// Signal notes an event of the service for the rules, unless the same was noted of the subject
// within a time.
func (a *Service) Signal(ctx context.Context, event, subject, detail string, within time.Duration) {
	o := rule.Occurrence{Event: event, Subject: subject, Detail: detail, At: time.Now(), Origin: content.Local}
	added, err := a.store.Runs.AddSignal(ctx, o, within)
	if err != nil && ctx.Err() == nil {
		a.work.Failures.Failed(a.log, "an event cannot be noted for the rules", "event", event, "error", err)
	}
	if added {
		background.Nudge(a.wakeRules)
	}
}

// watch notes what nobody announces: origins that cannot be read and nodes that are gone. Every
// node looks; what one has noted another does not.
func (a *Service) watch(ctx context.Context) {
	for background.Sleep(ctx, watchEvery, nil) {
		a.watchOrigins(ctx)
		a.watchNodes(ctx)
		a.remind(ctx)
	}
}

func (a *Service) watchOrigins(ctx context.Context) {
	for name, h := range a.o.Origins() {
		silent, err := a.store.Runs.LastSignal(ctx, rule.OriginDown, name)
		if err != nil {
			return
		}
		back, err := a.store.Runs.LastSignal(ctx, rule.OriginBack, name)
		if err != nil {
			return
		}
		down := silent.After(back)
		switch {
		case h.Error != "" && h.Since != nil && time.Since(*h.Since) > silentAfter && !down:
			a.Signal(ctx, rule.OriginDown, name, h.Error, silentAfter)
		case h.Error == "" && h.LastSuccess != nil && h.LastSuccess.After(silent) && down:
			a.Signal(ctx, rule.OriginBack, name, "", silentAfter)
		}
	}
}

func (a *Service) watchNodes(ctx context.Context) {
	nodes, err := a.store.Changes.Nodes(ctx)
	if err != nil {
		return
	}
	for _, n := range nodes {
		if n.Silent > lostAfter && n.ID != a.replica.Node.ID {
			a.Signal(
				ctx,
				rule.NodeLost,
				n.Name,
				"it was last heard of at "+n.Seen.UTC().Format(time.RFC3339),
				24*time.Hour,
			)
		}
	}
}

// remind has people told of entries that wait for approval for long.
func (a *Service) remind(ctx context.Context) {
	if a.settings.State().Mail == nil {
		return
	}
	err := a.store.Runs.Begin(ctx, func(tx pgx.Tx) error {
		late, err := a.store.Outbox.Overdue(ctx, tx, overdueAfter)
		if err != nil {
			return err
		}
		for _, r := range late {
			o := &rule.Occurrence{Event: overdue, At: r.Since, Type: r.Type, Entry: r.Entry, Title: r.Title, By: r.By}
			if err := a.notify(ctx, tx, o); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil && ctx.Err() == nil {
		a.work.Failures.Failed(a.log, "nobody can be reminded of what waits for approval; trying on", "error", err)
	}
}
