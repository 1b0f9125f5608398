package ingest

import (
	"context"
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/mapping"
	"ubiquon/internal/origin"
)

// noReferred begins the reason of an item that refers to an entry that is not there.
const noReferred = "it refers to an entry that is not here: there is no "

// resolve puts, in items, ids in the place of what stands for them: those of adopted entries, and those
// of entries that the origin knows by slug or path. It returns the items that are whole then, and hands
// to bad those of which a reference leads nowhere.
func (in *Service) resolve(
	ctx context.Context, items []origin.Item, bad func(origin.BadItem),
) ([]origin.Item, error) {
	if err := in.resolveAdopted(ctx, items); err != nil {
		return nil, err
	}
	wanted := map[[2]string][]string{}
	for i := range items {
		for _, fields := range []content.Fields{items[i].Saved, items[i].Live} {
			content.MapTexts(fields, func(text string) string {
				if l, is := mapping.LookupOf(text); is {
					wanted[[2]string{l.By, l.Type}] = append(wanted[[2]string{l.By, l.Type}], l.Name)
				}
				return text
			})
		}
	}
	if len(wanted) == 0 {
		return items, nil
	}
	found := map[mapping.Lookup]string{}
	for of, names := range wanted {
		ids, err := in.store.Rejected.Look(ctx, of[0], of[1], names)
		if err != nil {
			return nil, err
		}
		for name, id := range ids {
			found[mapping.Lookup{By: of[0], Type: of[1], Name: name}] = id
		}
	}
	whole := items[:0]
	for i := range items {
		var missing error
		for _, fields := range []content.Fields{items[i].Saved, items[i].Live} {
			content.MapTexts(fields, func(text string) string {
				l, is := mapping.LookupOf(text)
				if !is {
					return text
				}
				id, known := found[l]
				if !known {
					missing = fmt.Errorf(noReferred+"%s with the %s %q", l.Type, l.By, l.Name)
				}
				return id
			})
		}
		if missing != nil {
			bad(origin.BadItem{Type: items[i].Type, Key: items[i].Key, Slug: in.slugOf(&items[i]), Err: missing})
			continue
		}
		whole = append(whole, items[i])
	}
	return whole, nil
}

// resolveAdopted replaces, in items, the ids that are made of an origin's keys by those of
// the adopted entries, which were made of another origin's.
func (in *Service) resolveAdopted(ctx context.Context, items []origin.Item) error {
	var ids []string
	for i := range items {
		ids = append(ids, items[i].ID)
		content.MapIDs(items[i].Saved, func(id string) string { ids = append(ids, id); return id })
		content.MapIDs(items[i].Live, func(id string) string { ids = append(ids, id); return id })
	}
	adopted, err := in.store.Rejected.Adopted(ctx, ids)
	if err != nil || len(adopted) == 0 {
		return err
	}
	other := func(id string) string {
		if entry, is := adopted[id]; is {
			return entry
		}
		return id
	}
	for i := range items {
		items[i].ID = other(items[i].ID)
		content.MapIDs(items[i].Saved, other)
		content.MapIDs(items[i].Live, other)
	}
	return nil
}
