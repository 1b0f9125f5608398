package authoring

import (
	"context"
	"time"

	"ubiquon/internal/background"
)

// keepIndexes makes the indexes that the model asks for, at the start and whenever
// the model changes.
func (a *Service) keepIndexes(ctx context.Context) {
	for {
		done, err := a.store.Entries.KeepIndexes(
			ctx, func(step string) { a.log.Info("indexes are brought up to the model", "step", step) },
		)
		if ctx.Err() != nil {
			return
		}
		again := time.Hour
		switch {
		case err != nil:
			again = 10 * time.Second
			a.log.Warn("the indexes that the model asks for could not be made; trying again", "error", err)
		case !done:
			again = time.Second // another node is at it, perhaps for another model
		}
		if !background.Sleep(ctx, again, a.wakeIndexes) {
			return
		}
	}
}
