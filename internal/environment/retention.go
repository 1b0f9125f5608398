package environment

import (
	"context"
	"errors"
	"time"

	"ubiquon/internal/background"
)

const (
	// retainEvery is how often a node looks whether something can go.
	retainEvery = 10 * time.Minute
	// keepChanges, keepEvents and keepAudit are how long changes stay in the log, events
	// and lines of the audit log when the configuration does not say.
	keepChanges = 30 * 24 * time.Hour
	keepEvents  = 90 * 24 * time.Hour
	keepAudit   = 2 * 365 * 24 * time.Hour
)

// keepRuns is how long is kept what rules made of events, and what people were told.
const keepRuns = 30 * 24 * time.Hour

// keepSettings is how long the versions of settings that were removed are kept, and the types that
// a site has read.
const keepSettings = 90 * 24 * time.Hour

// retention is how long things are kept.
type retention struct{ changes, events, audit time.Duration }

// retain lets go of what nobody asks for any more.
func (e *Environment) retain(ctx context.Context) {
	for {
		n, err := e.Trim(ctx)
		if err != nil && ctx.Err() == nil {
			e.log.Warn("the change log is not trimmed", "error", err)
		} else if n > 0 {
			e.log.Info("trimmed the change log", "changes", n)
		}
		if err := e.dropOld(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("what is old enough to go is still kept", "error", err)
		}
		if !background.Sleep(ctx, retainEvery, nil) {
			return
		}
	}
}

// dropOld forgets events, what rules made of changes, builds, lines of the audit log, sessions
// and preview links that are older than they are kept.
func (e *Environment) dropOld(ctx context.Context) error {
	for {
		n, err := e.store.Events.Trim(ctx, e.keepFor.events)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	for {
		n, err := e.store.Runs.Trim(ctx, keepRuns)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	for {
		n, err := e.store.Events.TrimBuilds(ctx, e.keepFor.events)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	if err := e.Pages.Trim(ctx); err != nil {
		return err
	}
	if err := e.store.Events.TrimCaptured(ctx); err != nil {
		return err
	}
	if n, err := e.TrimAudit(ctx); err != nil {
		return err
	} else if n > 0 {
		e.log.Info("trimmed the audit log", "lines", n)
	}
	if err := e.store.Accounts.DropSessions(ctx, e.Accounts.SessionIdle()); err != nil {
		return err
	}
	return errors.Join(
		e.store.Changes.TrimSamples(ctx), e.store.PreviewLinks.Trim(ctx), e.store.Writes.Trim(ctx),
		e.store.Rejected.Trim(ctx, e.keepFor.events), e.store.Outbox.Trim(ctx, keepRuns),
		e.store.Settings.Trim(ctx, keepSettings),
	)
}

// TrimAudit takes lines out of the audit log that are older than they are kept, and
// returns how many.
func (e *Environment) TrimAudit(ctx context.Context) (int, error) {
	return e.store.Audit.Trim(ctx, e.keepFor.audit)
}

// Trim forgets nodes that are gone, and takes changes out of the log that are old
// enough and that nobody needs. It returns how many.
func (e *Environment) Trim(ctx context.Context) (int, error) {
	if err := e.store.Changes.ForgetNode(ctx, ""); err != nil {
		return 0, err
	}
	all := 0
	for {
		n, err := e.store.Changes.TrimChanges(ctx, e.keepFor.changes)
		if all += n; err != nil || n == 0 {
			return all, err
		}
	}
}
