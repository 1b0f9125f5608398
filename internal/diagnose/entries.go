package diagnose

import (
	"context"
	"fmt"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

// Entry returns one entry with its history; db.ErrNotFound if there is none.
func (d *Service) Entry(ctx context.Context, id string) (api.EntryDetail, error) {
	if !content.ValidID(id) {
		return api.EntryDetail{}, fmt.Errorf("entry %q: %w", id, db.ErrNotFound)
	}
	record, err := d.store.Entries.Get(ctx, id)
	if err != nil {
		return api.EntryDetail{}, err
	}
	detail := api.EntryDetail{EntryRecord: record}
	if detail.ReferredBy, err = d.store.Entries.Referrers(ctx, d.replica.Model(), id); err != nil {
		return detail, err
	}
	if source := d.ingest.Source(detail.Origin); source != nil {
		detail.EditAt = source.EditAddress(detail.Type, detail.OriginKey)
	}
	if detail.Changes, err = d.store.Entries.EntryChanges(ctx, id); err != nil {
		return detail, err
	}
	detail.Events, err = d.ingest.Events(ctx, api.EventFilter{Entry: id, Limit: 10})
	return detail, err
}
