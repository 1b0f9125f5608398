package diagnose

import (
	"context"
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/ingest"
	"ubiquon/internal/store"
)

// EntryDetail is everything to know about one entry.
type EntryDetail struct {
	store.EntryRecord
	// EditAt is where an entry of an outside origin is edited.
	EditAt  string              `json:"editAt,omitempty"`
	Changes []content.Change    `json:"changes"`
	Events  []ingest.EventTrace `json:"events"`
}

// Entry returns one entry with its history; store.ErrNotFound if there is none.
func (d *Service) Entry(ctx context.Context, id string) (EntryDetail, error) {
	if !content.ValidID(id) {
		return EntryDetail{}, fmt.Errorf("entry %q: %w", id, store.ErrNotFound)
	}
	record, err := d.store.Entry(ctx, id)
	if err != nil {
		return EntryDetail{}, err
	}
	detail := EntryDetail{EntryRecord: record}
	if source := d.ingest.Source(detail.Origin); source != nil {
		detail.EditAt = source.EditAddress(detail.Type, detail.OriginKey)
	}
	if detail.Changes, err = d.store.EntryChanges(ctx, id); err != nil {
		return detail, err
	}
	detail.Events, err = d.ingest.Events(ctx, store.EventFilter{Entry: id, Limit: 10})
	return detail, err
}
