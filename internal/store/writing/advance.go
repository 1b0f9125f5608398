package writing

import (
	"fmt"
	"reflect"
	"slices"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/db"
)

// advance works out the state that one edit brings an entry to.
func (tx *transaction) advance(w *write, e *Edit) error {
	held := tx.held[e.ID]
	if held == nil {
		return fmt.Errorf("entry %s: %w", e.ID, db.ErrNotFound)
	}
	if held.Revision == 0 && held.Origin == "" {
		held.Origin = content.Local
	}
	if e.Origin == content.Local && held.Origin != content.Local {
		return fmt.Errorf("entry %s: %w (%s)", e.ID, db.ErrForeign, held.Origin)
	}
	if e.Origin != "" && e.Origin != content.Local && held.Origin != e.Origin && held.Revision > 0 {
		return content.Problems{
			{
				Entry: e.ID,
				Path:  "origin",
				Rule:  "origin",
				Text:  fmt.Sprintf("the entry belongs to %s now, not to the origin %s", owner(held.Origin), e.Origin),
			},
		}
	}
	t := tx.m.Type(held.Type)
	if t == nil {
		return content.Problems{
			{Entry: e.ID, Path: "type", Rule: "unknown", Text: fmt.Sprintf("there is no type %q", held.Type)},
		}
	}
	if e.IfRevision != 0 && e.IfRevision != held.Revision {
		return &ConflictError{Entry: e.ID, Wanted: e.IfRevision, Present: held.Revision}
	}
	if e.OriginVersion != "" && e.OriginVersion < held.OriginVersion {
		return nil // older than what is held
	}
	for _, tag := range e.Locales {
		if _, ok := tx.m.Locale(tag); !ok {
			return content.Problems{
				{
					Entry: e.ID,
					Path:  "locales",
					Rule:  "locale",
					Text:  fmt.Sprintf("there is no locale %q%s", tag, strictyaml.DidYouMean(tag, tx.m.Tags())),
				},
			}
		}
	}
	if e.Schedule != "" {
		tx.out.schedules = append(tx.out.schedules, e.Schedule)
	}
	if e.Delete {
		tx.out.deleted = append(tx.out.deleted, e.ID)
		tx.next[e.ID] = nil
		w.note(e, held, nil)
		return nil
	}
	a := advancing{tx: tx, w: w, e: e, t: t, next: held.entryState}
	if e.OriginVersion != "" {
		a.next.OriginVersion = e.OriginVersion
	}
	if err := a.run(); err != nil {
		return err
	}
	tx.next[e.ID] = &a.next
	w.note(e, held, &a.next)
	if w.done.Revisions == nil {
		w.done.Revisions = map[string]int{}
	}
	w.done.Revisions[e.ID] = a.next.Revision
	return nil
}

// advancing is one entry on its way to its next state.
type advancing struct {
	tx   *transaction
	w    *write
	e    *Edit
	t    *model.Type
	next entryState
}

func (a *advancing) run() error {
	e, n := a.e, &a.next
	if n.Revision == 0 {
		n.Withheld = e.Withhold
		for _, r := range e.History {
			n.Revision++
			a.tx.out.revisions = append(
				a.tx.out.revisions,
				revisionRow{
					entry:   e.ID,
					number:  n.Revision,
					at:      r.At,
					by:      r.By,
					message: r.Message,
					fields:  r.Fields,
				},
			)
		}
	}
	if e.Live == PublishGiven {
		live, err := a.checked(e.Published, content.For{Publish: true})
		if err != nil {
			return err
		}
		if n.PublishedRevision == 0 || !reflect.DeepEqual(live, n.live) {
			if n.Revision == 0 || !reflect.DeepEqual(live, n.newest) {
				a.revise(live)
			}
			a.publish(n.Revision, live)
		}
	}
	if err := a.save(); err != nil {
		return err
	}
	if n.Revision == 0 {
		return fmt.Errorf("entry %s: %w", e.ID, db.ErrNotFound)
	}
	if e.Review != "" {
		if err := a.review(); err != nil {
			return err
		}
	}
	switch e.Live {
	case PublishNewest:
		if err := a.publishNewest(); err != nil {
			return err
		}
	case TakeBack:
		a.takeBack(e.Locales)
	}
	if e.Retire {
		a.takeBack(nil)
		now := a.tx.now
		n.Retired = &now
	}
	n.Behind = n.PublishedRevision != 0 && !reflect.DeepEqual(n.live, n.newest)
	return nil
}

// save takes up what the edit saves, restores or discards.
func (a *advancing) save() error {
	e, n := a.e, &a.next
	fields := e.Save
	switch {
	case e.Restore != 0:
		if fields = n.revisions[e.Restore]; fields == nil {
			return fmt.Errorf("revision %d of entry %s: %w", e.Restore, e.ID, db.ErrNotFound)
		}
		if e.Message == "" {
			e.Message = fmt.Sprintf("restored revision %d", e.Restore)
		}
	case e.Discard:
		if n.PublishedRevision == 0 {
			return content.Problems{
				{
					Entry: e.ID,
					Path:  "do",
					Rule:  "discard",
					Text:  "nothing of it is published that one could go back to; delete it, or restore a revision",
				},
			}
		}
		fields = n.live
		if e.Message == "" {
			e.Message = "draft discarded"
		}
	}
	if fields == nil {
		return nil
	}
	want := content.For{}
	if e.Live == PublishNewest {
		// What would keep it from being published is said at once with the rest.
		if want.Publish = true; e.Origin == content.Local {
			if want.Locales = e.Locales; want.Locales == nil {
				want.Locales = a.active(content.WrittenIn(a.t, fields))
			}
		}
	}
	fields, err := a.checked(fields, want)
	if err != nil {
		return err
	}
	if e.Save != nil && !e.Loose && e.Origin == content.Local {
		if p := a.dangling(fields); len(p) > 0 {
			return p
		}
	}
	if n.Revision == 0 || n.Retired != nil || !reflect.DeepEqual(fields, n.newest) {
		a.revise(fields)
	}
	return nil
}

// checked returns the fields as they are stored, or what is wrong with them.
func (a *advancing) checked(fields content.Fields, want content.For) (content.Fields, error) {
	fields = content.Normalise(a.tx.m, a.t, a.e.ID, fields)
	if a.t.IsBuiltIn() {
		if err := a.takeFacts(fields); err != nil {
			return nil, err
		}
	}
	if p := content.Check(a.tx.m, a.t, a.e.ID, fields, want); len(p) > 0 {
		return nil, p
	}
	return fields, nil
}

// dangling finds references that lead to nothing, or to an entry of a type that
// the field does not allow.
func (a *advancing) dangling(fields content.Fields) content.Problems {
	var found content.Problems
	for _, leaf := range content.Leaves(a.t, fields, false) {
		id, ok := leaf.Value.(string)
		if leaf.Field.Kind == model.File {
			id = content.FileID(leaf.Value)
			ok = id != ""
		} else if leaf.Field.Kind != model.Reference {
			continue
		}
		if !ok {
			continue
		}
		typ := a.tx.there[id]
		if i := slices.IndexFunc(a.w.edits, func(o Edit) bool { return o.ID == id && !o.Delete }); i >= 0 &&
			typ == "" {
			typ = a.w.edits[i].Type
		}
		if id == a.e.ID {
			typ = a.t.Name
		}
		if leaf.Field.Kind == model.File && typ != "" {
			found = append(found, a.unfit(leaf, id, typ)...)
			continue
		}
		switch {
		case typ == "":
			found = append(
				found,
				content.Problem{
					Entry: a.e.ID,
					Path:  leaf.Path,
					Rule:  "reference",
					Text:  fmt.Sprintf("there is no entry %q", id),
				},
			)
		case !slices.Contains(leaf.Field.Types, typ):
			found = append(
				found,
				content.Problem{
					Entry: a.e.ID,
					Path:  leaf.Path,
					Rule:  "types",
					Text:  fmt.Sprintf("entry %s is a %s; allowed are %v", id, typ, leaf.Field.Types),
				},
			)
		}
	}
	return found
}

// revise makes the fields the newest revision. What was said of the one before
// is not said of this one.
func (a *advancing) revise(fields content.Fields) {
	n := &a.next
	n.Revision++
	n.newest, n.writer, n.Updated, n.Review, n.Retired = fields, a.w.by, a.tx.now, "", nil
	a.tx.out.revisions = append(
		a.tx.out.revisions,
		revisionRow{
			entry:   a.e.ID,
			number:  n.Revision,
			at:      a.tx.now,
			by:      a.w.by,
			message: a.e.Message,
			fields:  fields,
		},
	)
}
