package writing

import (
	"context"
	"slices"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// forget undoes what a write that failed has left, so that the others of
// the transaction can be committed.
func (tx *transaction) forget(w *write) {
	w.done, w.acts, w.signals = Applied{}, nil, nil
	own := map[string]bool{}
	for i := range w.edits {
		id := w.edits[i].ID
		own[id] = true
		delete(tx.next, id)
		delete(tx.laid, id)
		if h := tx.held[id]; h != nil && h.Revision == 0 {
			tx.out.unborn = append(tx.out.unborn, id)
		}
	}
	tx.cycle = ""
	tx.out.drop(own)
}

// unreferred refuses to take entries away that others refer to.
func (tx *transaction) unreferred(ctx context.Context, w *write) error {
	var links []string
	for i := range w.edits {
		e := &w.edits[i]
		if (!e.Delete && !e.Retire) || e.EvenIfReferred {
			continue
		}
		typ := tx.held[e.ID].Type
		for _, t := range tx.m.Types {
			for _, f := range t.Fields {
				if canLink(f, typ) {
					links = append(links, f.Name+"/"+e.ID)
				}
			}
		}
	}
	if len(links) == 0 {
		return nil
	}
	found := map[string][]api.Referrer{}
	var b db.Batch
	b.Query(func(r pgx.Rows) error {
		var ref api.Referrer
		var target string
		if err := r.Scan(&ref.Entry, &ref.Type, &ref.Title, &ref.Field, &target); err != nil {
			return err
		}
		if next, written := tx.next[ref.Entry]; !written || next != nil {
			found[target] = append(found[target], ref)
		}
		return nil
	}, `select distinct d.entry, d.type, e.title, split_part(l, '/', 1), split_part(l, '/', 2) from document d
		join entry e on e.environment = d.environment and e.id = d.entry, unnest(d.links) l
		where d.environment = $1 and d.links <> '{}' and d.links && $2 and l = any($2) order by 1,
		4`, tx.s.environment, links)
	if err := b.Run(ctx, tx.conn); err != nil {
		return err
	}
	for i := range w.edits {
		id := w.edits[i].ID
		if by := slices.DeleteFunc(found[id], func(r api.Referrer) bool { return r.Entry == id }); len(by) > 0 {
			return &ReferredError{Entry: id, By: by}
		}
	}
	return nil
}

// canLink tells whether a field may hold a link to an entry of the type.
func canLink(f *model.Field, typ string) bool {
	switch f.Kind {
	case model.Reference:
		return slices.Contains(f.Types, typ)
	case model.Prose:
		return true
	case model.File:
		return typ == model.FileType
	}
	return slices.ContainsFunc(f.Inner, func(t *model.Type) bool {
		return slices.ContainsFunc(t.Fields, func(inner *model.Field) bool { return canLink(inner, typ) })
	})
}
