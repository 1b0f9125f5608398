package gateway

import (
	"context"
	"errors"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// Apply carries out edits, all or none, and returns when this node serves
// nothing older any more, or, with Unproven, when that takes long. Its errors are those of
// store.Apply: then nothing is stored.
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
	// Until this node is that far again it answers nothing from its cache.
	done.Unproven = reached(context.WithoutCancel(ctx)) != nil
	return done, nil
}

// Once says that a write is made now: see store.BeginOnce.
func (g *Gateway) Once(ctx context.Context, w store.Once) (*store.Made, error) {
	return g.store.BeginOnce(ctx, w)
}

// KeepOnce keeps what a write came to: see store.KeepOnce.
func (g *Gateway) KeepOnce(ctx context.Context, w store.Once, made store.Made) error {
	return g.store.KeepOnce(ctx, w, made)
}

// BeginWrite says that a write goes on in the background: see store.BeginWrite.
func (g *Gateway) BeginWrite(ctx context.Context, key string) error {
	return g.store.BeginWrite(ctx, key)
}

// EndWrite keeps what it came to: see store.EndWrite.
func (g *Gateway) EndWrite(ctx context.Context, key string, made store.Made) error {
	return g.store.EndWrite(ctx, key, made)
}

// WriteOf returns what is known of such a write: see store.WriteOf.
func (g *Gateway) WriteOf(ctx context.Context, key string) (store.KnownWrite, error) {
	return g.store.WriteOf(ctx, key)
}

// write carries out edits; that nothing older is served is seen to later.
func (g *Gateway) write(ctx context.Context, edits []store.Edit, by string, cause content.Cause) (store.Applied, error) {
	for range 3 {
		st := g.state.Load()
		done, err := g.store.Apply(ctx, st.model, st.version, edits, by, cause)
		if !errors.Is(err, store.ErrModelMoved) {
			g.noteWrite(err)
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
