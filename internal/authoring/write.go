package authoring

import (
	"context"
	"errors"
	"slices"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/once"
	"ubiquon/internal/store/writing"
)

// Apply carries out edits, all or none, and returns when this node serves
// nothing older any more, or, with Unproven, when that takes long. Its errors are those of
// store.Apply: then nothing is stored.
func (a *Service) Apply(
	ctx context.Context, edits []writing.Edit, by string, cause content.Cause,
) (writing.Applied, error) {
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

// Once says that a write is made now: see once.Writes.Begin.
func (a *Service) Once(ctx context.Context, w once.Idempotency) (*once.Outcome, error) {
	return a.store.Writes.Begin(ctx, w)
}

// KeepOnce keeps what a write came to: see once.Writes.Keep.
func (a *Service) KeepOnce(ctx context.Context, w once.Idempotency, made once.Outcome) error {
	return a.store.Writes.Keep(ctx, w, made)
}

// BeginWrite says that a write goes on in the background: see once.Writes.BeginWrite.
func (a *Service) BeginWrite(ctx context.Context, key string) error {
	return a.store.Writes.BeginWrite(ctx, key)
}

// EndWrite keeps what it came to: see once.Writes.EndWrite.
func (a *Service) EndWrite(ctx context.Context, key string, made once.Outcome) error {
	return a.store.Writes.EndWrite(ctx, key, made)
}

// WriteOf returns what is known of such a write: see once.Writes.WriteOf.
func (a *Service) WriteOf(ctx context.Context, key string) (once.KnownWrite, error) {
	return a.store.Writes.WriteOf(ctx, key)
}

// withFiles has files that no reader can see so far published with the entries that show them.
func (a *Service) withFiles(ctx context.Context, edits []writing.Edit) ([]writing.Edit, error) {
	m := a.replica.Model()
	if !m.HasFiles() {
		return edits, nil
	}
	var shown, entries []string
	for i := range edits {
		e := &edits[i]
		if e.Live != writing.PublishNewest && e.Live != writing.PublishGiven {
			continue
		}
		if t := m.Type(e.Type); t != nil {
			shown = append(append(shown, content.FileIDs(t, e.Save)...), content.FileIDs(t, e.Published)...)
		}
		if e.Save == nil && e.Live == writing.PublishNewest {
			entries = append(entries, e.ID)
		}
	}
	if len(shown)+len(entries) == 0 {
		return edits, nil
	}
	unseen, err := a.store.Writer.UnpublishedFiles(ctx, shown, entries)
	if err != nil {
		return nil, err
	}
	out := slices.Clone(edits)
	for _, id := range unseen {
		if !slices.ContainsFunc(edits, func(e writing.Edit) bool { return e.ID == id }) {
			out = append(out, writing.Edit{ID: id, Origin: content.Local, Live: writing.PublishNewest})
		}
	}
	return out, nil
}

// write carries out edits; that nothing older is served is seen to later.
func (a *Service) write(
	ctx context.Context, edits []writing.Edit, by string, cause content.Cause,
) (writing.Applied, error) {
	edits, err := a.withFiles(ctx, edits)
	if err != nil {
		return writing.Applied{}, err
	}
	for range 3 {
		m, version := a.replica.Present()
		done, err := a.store.Writer.Apply(ctx, m, version, edits, by, cause)
		if !errors.Is(err, db.ErrModelMoved) {
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
	return writing.Applied{}, db.ErrModelMoved
}
