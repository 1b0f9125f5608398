package gateway

import (
	"context"
	"time"
)

// keepIndexes makes the indexes that the model asks for, at the start and whenever
// the model changes.
func (g *Gateway) keepIndexes(ctx context.Context) {
	for {
		done, err := g.store.KeepIndexes(ctx, func(step string) { g.log.Info("indexes are brought up to the model", "step", step) })
		if ctx.Err() != nil {
			return
		}
		again := time.Hour
		switch {
		case err != nil:
			again = 10 * time.Second
			g.log.Warn("the indexes that the model asks for could not be made; trying again", "error", err)
		case !done:
			again = time.Second // another node is at it, perhaps for another model
		}
		if !sleep(ctx, again, g.wakeIndexes) {
			return
		}
	}
}
