package diagnose

import (
	"context"
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/ingest"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/events"
)

// EntryDetail is everything to know about one entry.
type EntryDetail struct {
	entries.EntryRecord
	// EditAt is where an entry of an outside origin is edited.
	EditAt  string              `json:"editAt,omitempty"`
	Changes []content.Change    `json:"changes"`
	Events  []ingest.EventTrace `json:"events"`
}

// Entry returns one entry with its history; db.ErrNotFound if there is none.
func (d *Service) Entry(ctx context.Context, id string) (EntryDetail, error) {
	if !content.ValidID(id) {
		return EntryDetail{}, fmt.Errorf("entry %q: %w", id, db.ErrNotFound)
	}
	record, err := d.store.Entries.Get(ctx, id)
	if err != nil {
		return EntryDetail{}, err
	}
	detail := EntryDetail{EntryRecord: record}
	if source := d.ingest.Source(detail.Origin); source != nil {
		detail.EditAt = source.EditAddress(detail.Type, detail.OriginKey)
	}
	if detail.Changes, err = d.store.Entries.EntryChanges(ctx, id); err != nil {
		return detail, err
	}
	detail.Events, err = d.ingest.Events(ctx, events.EventFilter{Entry: id, Limit: 10})
	return detail, err
}
