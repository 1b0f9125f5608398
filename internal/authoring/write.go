package authoring

import (
	"context"
	"errors"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// Apply carries out edits, all or none, and returns when this node serves
// nothing older any more, or, with Unproven, when that takes long. Its errors are those of
// store.Apply: then nothing is stored.
func (a *Service) Apply(ctx context.Context, edits []store.Edit, by string, cause content.Cause) (store.Applied, error) {
	before := a.cache.Applied()
	done, err := a.write(ctx, edits, by, cause)
	if err != nil || done.Sequence == 0 {
		return done, err
	}
	reached := func(ctx context.Context) error {
		return a.replica.AwaitSequenceEvery(ctx, done.Sequence, a.cache.Applied, 0)
	}
	if before >= done.Sequence {
		reached = a.replica.VerifyCurrent // it was another log that was followed: an older copy was restored
	}
	// Until this node is that far again it answers nothing from its cache.
	done.Unproven = reached(context.WithoutCancel(ctx)) != nil
	return done, nil
}

// Once says that a write is made now: see store.BeginOnce.
func (a *Service) Once(ctx context.Context, w store.Once) (*store.Made, error) {
	return a.store.BeginOnce(ctx, w)
}

// KeepOnce keeps what a write came to: see store.KeepOnce.
func (a *Service) KeepOnce(ctx context.Context, w store.Once, made store.Made) error {
	return a.store.KeepOnce(ctx, w, made)
}

// BeginWrite says that a write goes on in the background: see store.BeginWrite.
func (a *Service) BeginWrite(ctx context.Context, key string) error {
	return a.store.BeginWrite(ctx, key)
}

// EndWrite keeps what it came to: see store.EndWrite.
func (a *Service) EndWrite(ctx context.Context, key string, made store.Made) error {
	return a.store.EndWrite(ctx, key, made)
}

// WriteOf returns what is known of such a write: see store.WriteOf.
func (a *Service) WriteOf(ctx context.Context, key string) (store.KnownWrite, error) {
	return a.store.WriteOf(ctx, key)
}

// write carries out edits; that nothing older is served is seen to later.
func (a *Service) write(ctx context.Context, edits []store.Edit, by string, cause content.Cause) (store.Applied, error) {
	for range 3 {
		m, version := a.replica.Present()
		done, err := a.store.Apply(ctx, m, version, edits, by, cause)
		if !errors.Is(err, store.ErrModelMoved) {
			a.noteWrite(err)
			if done.Sequence > 0 {
				a.replica.Announce()
			}
			return done, err
		}
		if err := a.replica.ReloadModel(ctx); err != nil {
			return done, err
		}
	}
	return store.Applied{}, store.ErrModelMoved
}
