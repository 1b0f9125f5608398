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
	for range 3 {
		st := g.state.Load()
		done, err := g.store.Apply(ctx, st.model, st.version, edits, by, cause)
		if errors.Is(err, store.ErrModelMoved) {
			if err := g.loadModel(ctx); err != nil {
				return done, err
			}
			continue
		}
		if err != nil || done.Sequence == 0 {
			return done, err
		}
		nudge(g.follow.tell)
		if err := g.reach(context.WithoutCancel(ctx), done.Sequence); err != nil {
			return done, fmt.Errorf("stored as sequence %d, but: %w", done.Sequence, err)
		}
		return done, nil
	}
	return store.Applied{}, store.ErrModelMoved
}
