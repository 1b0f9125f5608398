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

// Entries lists entries.
func (g *Gateway) Entries(ctx context.Context, f store.EntryFilter) ([]store.EntryInfo, int, error) {
	return g.store.ListEntries(ctx, f)
}

// EntryDetail is everything to know about one entry.
type EntryDetail struct {
	store.EntryInfo
	// EditAt is where an entry of an outside origin is edited.
	EditAt    string             `json:"editAt,omitempty"`
	Revisions []content.Revision `json:"revisions"`
	Changes   []content.Change   `json:"changes"`
	Events    []EventTrace       `json:"events"`
}

// Entry returns one entry with its history; store.ErrNotFound if there is none.
func (g *Gateway) Entry(ctx context.Context, id string) (EntryDetail, error) {
	if !content.ValidID(id) {
		return EntryDetail{}, fmt.Errorf("entry %q: %w", id, store.ErrNotFound)
	}
	info, revisions, err := g.store.Entry(ctx, id)
	if err != nil {
		return EntryDetail{}, err
	}
	d := EntryDetail{EntryInfo: info, Revisions: revisions}
	if source := g.origins[info.Origin]; source != nil {
		d.EditAt = source.EditAddress(info.Type, info.OriginKey)
	}
	if d.Changes, err = g.store.EntryChanges(ctx, id); err != nil {
		return d, err
	}
	d.Events, err = g.Events(ctx, store.EventFilter{Entry: id, Limit: 10})
	return d, err
}
