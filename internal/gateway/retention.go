package gateway

import (
	"cmp"
	"context"
	"errors"
	"time"

	"ubiquon/internal/store"
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

// retain lets go of what nobody asks for any more.
func (g *Gateway) retain(ctx context.Context) {
	for {
		n, err := g.Trim(ctx)
		if err != nil && ctx.Err() == nil {
			g.log.Warn("the change log is not trimmed", "error", err)
		} else if n > 0 {
			g.log.Info("trimmed the change log", "changes", n)
		}
		if err := g.dropOld(ctx); err != nil && ctx.Err() == nil {
			g.log.Warn("what is old enough to go is still kept", "error", err)
		}
		if !sleep(ctx, retainEvery, nil) {
			return
		}
	}
}

// dropOld forgets events, what rules made of changes, builds, lines of the audit log, sessions and preview links that are
// older than they are kept.
func (g *Gateway) dropOld(ctx context.Context) error {
	for {
		n, err := g.store.TrimEvents(ctx, cmp.Or(g.o.KeepEvents, keepEvents))
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	for {
		n, err := g.store.TrimRuns(ctx, cmp.Or(g.o.KeepEvents, keepEvents))
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	if n, err := g.TrimAudit(ctx); err != nil {
		return err
	} else if n > 0 {
		g.log.Info("trimmed the audit log", "lines", n)
	}
	if err := g.store.DropSessions(ctx, g.sessionIdle()); err != nil {
		return err
	}
	return errors.Join(g.store.DropPreviewLinks(ctx), g.store.DropOnce(ctx), g.store.DropUntakenUnseen(ctx, cmp.Or(g.o.KeepEvents, keepEvents)))
}

// TrimAudit takes lines out of the audit log that are older than they are kept, and
// returns how many.
func (g *Gateway) TrimAudit(ctx context.Context) (int, error) {
	return g.store.TrimAudit(ctx, cmp.Or(g.o.KeepAudit, keepAudit))
}

// VerifyAudit checks that the audit log is whole: see store.VerifyAudit.
func (g *Gateway) VerifyAudit(ctx context.Context, contains string) (store.AuditState, error) {
	return g.store.VerifyAudit(ctx, contains)
}

// Trim forgets nodes that are gone, and takes changes out of the log that are old
// enough and that nobody needs. It returns how many.
func (g *Gateway) Trim(ctx context.Context) (int, error) {
	if err := g.store.ForgetNode(ctx, ""); err != nil {
		return 0, err
	}
	all := 0
	for {
		n, err := g.store.TrimChanges(ctx, cmp.Or(g.o.KeepChanges, keepChanges))
		if all += n; err != nil || n == 0 {
			return all, err
		}
	}
}
