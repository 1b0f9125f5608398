package writing

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// render renders the prose that is written, before anybody else has to wait for it.
func (wr *Writer) render(ctx context.Context, w *write) error {
	deadline := time.Now().Add(renderTimeout)
	late := func() bool { return ctx.Err() != nil || time.Now().After(deadline) }
	for i := range w.edits {
		e := &w.edits[i]
		t := w.m.Type(e.Type)
		if t == nil {
			continue
		}
		for _, fields := range []content.Fields{e.Save, e.Published} {
			leave, err := wr.admit(ctx, w.by)
			if err != nil {
				return err
			}
			err = w.rendered.RenderAll(t, e.ID, fields, late)
			leave()
			if err != nil {
				return cmp.Or(ctx.Err(), err)
			}
		}
	}
	return nil
}

// admit waits until something of a principal that takes nothing but processor time may
// begin. Its error is admission.ErrOverloaded, or that of ctx.
func (wr *Writer) admit(ctx context.Context, principal string) (leave func(), err error) {
	if wr.db.Processor == nil {
		return func() {}, nil
	}
	return wr.db.Processor.Enter(ctx, principal, false)
}

// renderAll lays out the entries' documents. Where other entries live, which
// some paths and links are made of, is asked for when it turns out to matter.
func (tx *transaction) renderAll(ctx context.Context, ids []string) error {
	for {
		for _, id := range ids {
			tx.documents(id)
		}
		if len(tx.missing) == 0 {
			return nil
		}
		var b db.Batch
		// Whoever describes such a file anew waits, and then finds what is written here.
		b.Exec(`select from entry where environment = $1 and id = any($2) and type = 'file' order by id for share`,
			tx.s.environment, slices.Collect(maps.Keys(tx.missing)))
		b.Query(func(r pgx.Rows) error {
			var k pathKey
			var path string
			var file map[string]any
			err := r.Scan(&k.edition, &k.locale, &k.entry, &path, &file)
			tx.paths[k], tx.files[k] = path, file
			return err
		}, `select edition, locale, entry, coalesce(path, ''), case when type = 'file' then fields -> 'file' end
			from document where environment = $1 and entry = any($2)`,
			tx.s.environment, slices.Collect(maps.Keys(tx.missing)))
		if err := b.Run(ctx, tx.conn); err != nil {
			return err
		}
		maps.Copy(tx.asked, tx.missing)
		clear(tx.missing)
		for _, id := range ids {
			delete(tx.laid, id)
		}
	}
}

// write works out what one write does, with all its consequences.
func (tx *transaction) write(ctx context.Context, w *write) error {
	var problems content.Problems
	for i := range w.edits {
		err := tx.advance(w, &w.edits[i])
		var p content.Problems
		if errors.As(err, &p) {
			problems = append(problems, p...)
		} else if err != nil {
			return err
		}
	}
	if len(problems) > 0 {
		return problems
	}
	if err := tx.unreferred(ctx, w); err != nil {
		return err
	}
	what := map[string]string{}
	var ids []string
	for i := range w.edits {
		id := w.edits[i].ID
		if _, written := tx.next[id]; written {
			ids = append(ids, id)
			what[id] = tx.happened(id)
		}
	}
	if err := tx.renderAll(ctx, ids); err != nil {
		return err
	}
	if moved := tx.moved(ids); len(moved) > 0 {
		// Who lives below, or links there, shows it.
		below, err := tx.below(ctx, moved, what)
		if err != nil {
			return err
		}
		if len(below) > 0 {
			ids = append(ids, below...)
			clear(tx.laid)
			if err := tx.renderAll(ctx, ids); err != nil {
				return err
			}
		}
	}
	return tx.render(w, ids, what)
}

// happened says what readers would call what was done to an entry.
func (tx *transaction) happened(id string) string {
	held, next := tx.held[id], tx.next[id]
	switch {
	case next == nil:
		return event.Deleted
	case next.PublishedRevision == 0 && held.PublishedRevision != 0:
		return event.Unpublished
	case next.PublishedRevision != 0 &&
		(next.PublishedRevision != held.PublishedRevision || !reflect.DeepEqual(next.live, held.live)):
		if held.PublishedRevision != 0 &&
			len(
				content.WrittenIn(tx.m.Type(next.Type), next.live),
			) < len(
				content.WrittenIn(tx.m.Type(next.Type), held.live),
			) {
			return event.Unpublished
		}
		return event.Published
	}
	return event.Saved
}

// render notes what differs between the entries' documents and those that there
// are.
func (tx *transaction) render(w *write, ids []string, what map[string]string) error {
	for _, id := range ids {
		held, next := tx.held[id], tx.next[id]
		t := tx.m.Type(held.Type)
		if tx.cycle != "" {
			parents := tx.m.Type(tx.held[w.edits[0].ID].Type).Parents()
			return content.Problems{
				{
					Entry: w.edits[0].ID,
					Path:  "fields." + strings.Join(parents, ", "),
					Rule:  "cycle",
					Text:  "the entry would live below itself; choose another parent",
				},
			}
		}
		if next != nil && !tx.reached[id] {
			tx.out.entries = append(
				tx.out.entries, entryRow{Entry: next.Entry, Title: title(tx.m, t, next.newest), Live: next.live},
			)
			tx.out.takes(t, id, next)
		}
		for _, edition := range content.Editions {
			c, err := tx.difference(w, id, t, edition, what[id], tx.documents(id)[edition])
			if err != nil {
				return err
			}
			if c != nil {
				w.done.Changes = append(w.done.Changes, *c)
			}
		}
	}
	return nil
}

// moved returns those of the entries that live elsewhere than they did, or that readers
// see now and did not, or the other way round.
func (tx *transaction) moved(ids []string) []string {
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		if tx.shownOtherwise(id) {
			return false
		}
		for _, edition := range content.Editions {
			before, after := tx.held[id].documents[edition], tx.documents(id)[edition]
			for _, tag := range tx.m.Tags() {
				_, was := before[tag]
				if _, is := after[tag]; was != is || pathOf(before[tag]) != pathOf(after[tag]) {
					return false
				}
			}
		}
		return true
	})
}

func pathOf(d content.Document) string {
	if d.About.Path == nil {
		return ""
	}
	return *d.About.Path
}

// difference compares an entry's documents in an edition with what they were,
// and queues what is to be written; nil when nobody could see a difference.
func (tx *transaction) difference(
	w *write, id string, t *model.Type, edition, what string, after map[string]content.Document,
) (*content.Change, error) {
	before := tx.held[id].documents[edition]
	c := content.ChangeBetween(content.ContentChange, edition, id, t, before, after)
	if c == nil {
		return nil, nil
	}
	c.What, c.Cause = what, w.cause
	for tag, d := range before {
		now, stays := after[tag]
		if !stays {
			tx.out.goneDocuments = append(tx.out.goneDocuments, [3]string{edition, tag, id})
		}
		if was := pathOf(d); was != "" && was != pathOf(now) && edition == content.Published && tx.next[id] != nil {
			tx.out.former = append(tx.out.former, [3]string{tag, was, id})
		}
	}
	for tag, d := range after {
		if len(c.Fields[tag]) > 0 {
			_, was := before[tag]
			if err := tx.out.document(edition, t, d, !was); err != nil {
				return nil, err
			}
		}
	}
	return c, nil
}

// documents lays out an entry's documents in both editions, once.
func (tx *transaction) documents(id string) map[string]map[string]content.Document {
	if d, ok := tx.laid[id]; ok {
		return d
	}
	out := map[string]map[string]content.Document{}
	if next := tx.next[id]; next != nil {
		tx.making[id] = true
		t := tx.m.Type(next.Type)
		for _, edition := range content.Editions {
			out[edition] = next.documents(tx.m, t, edition, &tx.around)
		}
		delete(tx.making, id)
	}
	tx.laid[id] = out
	return out
}

// find is where another entry lives, as far as it matters to those below, and whether
// readers can see it.
func (tx *transaction) find(edition, locale, id string) (path string, visible bool) {
	if tx.making[id] {
		tx.cycle = cmp.Or(tx.cycle, id)
		return "", false
	}
	if _, written := tx.next[id]; written {
		d, visible := tx.documents(id)[edition][locale]
		return pathOf(d), visible
	}
	if !tx.asked[id] {
		tx.missing[id] = true
	}
	path, visible = tx.paths[pathKey{edition, locale, id}]
	return path, visible
}

// below reads the entries that show where those live that have moved, so that
// they are rendered again: entries whose path is made of theirs, with all that
// live below those, and entries whose prose links to any of them.
func (tx *transaction) below(ctx context.Context, moved []string, what map[string]string) ([]string, error) {
	var ids []string
	seen := map[string]bool{}
	for _, id := range moved {
		seen[id] = true
	}
	for len(moved) > 0 {
		links := tx.linksTo(moved)
		if len(links) == 0 {
			break
		}
		moved = nil
		var fresh []Edit
		var b db.Batch
		b.Query(func(r pgx.Rows) error {
			var id string
			if err := r.Scan(&id); err != nil || seen[id] {
				return err
			}
			seen[id] = true
			moved = append(moved, id)
			if _, known := tx.held[id]; !known {
				fresh = append(fresh, Edit{ID: id})
			}
			return nil
		}, `select distinct entry from document where environment = $1 and links <> '{}' and links && $2 order by
			entry`, tx.s.environment, links)
		if err := b.Run(ctx, tx.conn); err != nil {
			return nil, err
		}
		if len(moved) > 0 && tx.together {
			return nil, errApart
		}
		if len(fresh) == 0 {
			continue
		}
		if large, ok := ctx.Value(largeWrite{}).(func()); ok && len(ids)+len(fresh) > largeReach {
			large()
		}
		var more db.Batch
		tx.read(&more, fresh)
		if err := more.Run(ctx, tx.conn); err != nil {
			return nil, err
		}
		for _, e := range fresh {
			h := tx.held[e.ID]
			if h == nil || tx.m.Type(h.Type) == nil {
				continue
			}
			state := h.entryState
			tx.next[e.ID] = &state
			what[e.ID] = content.Moved
			tx.reached[e.ID] = true
			ids = append(ids, e.ID)
		}
	}
	return ids, nil
}

// linksTo lists the links by which others would show where the entries live.
func (tx *transaction) linksTo(ids []string) []string {
	var links []string
	for _, id := range ids {
		h := tx.held[id]
		if h == nil {
			continue
		}
		for _, t := range tx.m.Types {
			parents := t.Parents()
			for _, f := range t.Fields {
				shows := f.HasProse() || h.Type == model.FileType && f.HasFiles() ||
					slices.Contains(parents, f.Name) && slices.Contains(f.Types, h.Type)
				if link := f.Name + "/" + id; shows && !slices.Contains(links, link) {
					links = append(links, link)
				}
			}
		}
	}
	return links
}
