package gateway

import (
	"context"
	"errors"
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// Apply carries out edits, all or none, and returns when this node serves
// nothing older any more. Its errors are those of store.Apply.
func (g *Gateway) Apply(ctx context.Context, edits []store.Edit, by string, cause content.Cause) (store.Applied, error) {
	before := g.cache.Applied()
	done, err := g.write(ctx, edits, by, cause)
	if err != nil || done.Sequence == 0 {
		return done, err
	}
	reached := func(ctx context.Context) error { return g.reachIn(ctx, done.Sequence, g.cache.Applied, 0) }
	if before >= done.Sequence {
		reached = g.prove // it was another log that was followed: an older copy was restored
	}
	if err := reached(context.WithoutCancel(ctx)); err != nil {
		return done, fmt.Errorf("stored as sequence %d, but: %w", done.Sequence, err)
	}
	return done, nil
}

// write carries out edits; that nothing older is served is seen to later.
func (g *Gateway) write(ctx context.Context, edits []store.Edit, by string, cause content.Cause) (store.Applied, error) {
	for range 3 {
		st := g.state.Load()
		done, err := g.store.Apply(ctx, st.model, st.version, edits, by, cause)
		if !errors.Is(err, store.ErrModelMoved) {
			if done.Sequence > 0 {
				nudge(g.follow.tell)
			}
			return done, err
		}
		if err := g.loadModel(ctx); err != nil {
			return done, err
		}
	}
	return store.Applied{}, store.ErrModelMoved
}
