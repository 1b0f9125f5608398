package gateway

import (
	"context"
	"time"
)

const (
	// tidyEvery is how often a node looks whether something can go.
	tidyEvery = 10 * time.Minute
	// keepChanges is how long a change stays in the log when nobody says.
	keepChanges = 30 * 24 * time.Hour
)

// keepTidy lets go of changes and of nodes that nobody asks for any more.
func (g *Gateway) keepTidy(ctx context.Context) {
	for {
		n, err := g.Trim(ctx)
		if err != nil && ctx.Err() == nil {
			g.log.Warn("the change log is not trimmed", "error", err)
		} else if n > 0 {
			g.log.Info("trimmed the change log", "changes", n)
		}
		if !sleep(ctx, tidyEvery, nil) {
			return
		}
	}
}

// Trim forgets nodes that are gone, and takes changes out of the log that are old
// enough and that nobody needs. It returns how many.
func (g *Gateway) Trim(ctx context.Context) (int, error) {
	if err := g.store.ForgetNode(ctx, ""); err != nil {
		return 0, err
	}
	keep := g.o.KeepChanges
	if keep == 0 {
		keep = keepChanges
	}
	all := 0
	for {
		n, err := g.store.TrimChanges(ctx, keep)
		if all += n; err != nil || n == 0 {
			return all, err
		}
	}
}
