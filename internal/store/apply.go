package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
)

// Live says what an Edit does to what readers see.
type Live int

// What an Edit may do to what readers see.
const (
	KeepLive      Live = iota // nothing
	PublishNewest             // publish the newest saved state
	PublishGiven              // publish Edit.Published
	TakeBack                  // unpublish
)

// Edit is what one write does to one entry.
type Edit struct {
	ID string
	// Type, Origin and the next two matter when the entry is new.
	Type, Origin, OriginKey string
	// OriginVersion, if not empty, makes the edit do nothing when the entry is
	// held at a later version already.
	OriginVersion string
	// Save, if not nil, becomes the newest saved state.
	Save content.Fields
	Live Live
	// Published is what PublishGiven publishes.
	Published content.Fields
	// PublishedAt is when its origin published it; nil means now.
	PublishedAt *time.Time
	Delete      bool
	// IfRevision, if not 0, refuses the edit when the newest revision is another.
	IfRevision int
}

// Applied is the outcome of Apply.
type Applied struct {
	// Sequence is the number of the last change made; 0 when no reader could see
	// a difference.
	Sequence int64
	At       time.Time
	Changes  []content.Change
}

// ErrModelMoved is the error of a write or read that was planned with another
// version of the model than the database has. Plan again with the present one.
var ErrModelMoved = errors.New("the model has changed meanwhile")

// ConflictError is the error of an edit whose IfRevision does not fit.
type ConflictError struct {
	Entry           string
	Wanted, Present int
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("entry %s is at revision %d by now, not %d; look at what was saved meanwhile, then write again", e.Entry, e.Present, e.Wanted)
}

// ErrForeign is the error of a local edit of an entry that comes from an
// outside origin.
var ErrForeign = errors.New("the entry comes from an outside origin; edit it there")

// entryState is an entry with the fields that matter for its documents.
type entryState struct {
	content.Entry
	live, newest content.Fields
	exists       bool
}

// documents lays out what readers of the edition get of the entry.
func (e *entryState) documents(m *model.Model, t *model.Type, edition string) map[string]content.Document {
	about := content.About{Revision: e.PublishedRevision, FirstPublished: e.FirstPublished, Published: e.Published, Updated: e.Updated}
	fields := e.live
	if edition == content.Preview {
		fields, about.Revision = e.newest, e.Revision
	} else if e.PublishedRevision == 0 {
		return nil
	} else {
		// A draft saved behind the published state is nothing that its readers see.
		about.Updated = *e.Published
	}
	if fields == nil || e.Revision == 0 {
		return nil
	}
	if e.PublishedRevision == 0 {
		about.Published = nil
	}
	return content.Documents(m, t, e.ID, fields, about)
}

// Apply carries out the edits, all or none, and appends what readers can see of
// it to the change log in the same transaction. Its error is a
// content.Problems, a *ConflictError, ErrForeign, ErrNotFound or ErrModelMoved
// where one of them is the reason.
//
// It takes two round trips: one locks the entries and reads them, one writes
// and commits. The head of the log is locked last, so numbers are given in the
// order in which commits become visible.
func (s *Store) Apply(ctx context.Context, m *model.Model, version int64, edits []Edit, by string, cause content.Cause) (Applied, error) {
	edits = slices.Clone(edits)
	sort.SliceStable(edits, func(i, j int) bool { return edits[i].ID < edits[j].ID })
	for i := range edits {
		if i > 0 && edits[i].ID == edits[i-1].ID {
			return Applied{}, fmt.Errorf("entry %s is edited twice in one write", edits[i].ID)
		}
	}
	var done Applied
	err := s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		held, now, err := s.lockEntries(ctx, conn, version, edits)
		if err != nil {
			return err
		}
		var w writes
		var problems content.Problems
		for i := range edits {
			err := w.edit(m, &edits[i], held[edits[i].ID], now, by, cause)
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
		done, err = s.finish(ctx, conn, &w)
		return err
	})
	return done, err
}

const entryColumns = `e.id, e.type, e.origin, e.origin_key, e.origin_version, e.revision, e.published_revision, e.first_published, e.published, e.updated`

func entryTargets(e *content.Entry) []any {
	return []any{&e.ID, &e.Type, &e.Origin, &e.OriginKey, &e.OriginVersion, &e.Revision, &e.PublishedRevision, &e.FirstPublished, &e.Published, &e.Updated}
}

type heldEntry struct {
	entryState
	documents map[string]map[string]content.Document // by edition and locale
}

// lockEntries begins the transaction, makes rows for entries that are new, and
// returns all that the edits need to know.
func (s *Store) lockEntries(ctx context.Context, conn *pgxpool.Conn, version int64, edits []Edit) (map[string]*heldEntry, time.Time, error) {
	var all []string
	var ids, types, origins, keys []string
	for _, e := range edits {
		all = append(all, e.ID)
		if e.Save != nil || e.Live == PublishGiven {
			ids, types = append(ids, e.ID), append(types, e.Type)
			origins, keys = append(origins, e.Origin), append(keys, e.OriginKey)
		}
	}
	held := map[string]*heldEntry{}
	var now time.Time
	var b batch
	b.exec(`begin`)
	b.exec(`select pg_advisory_xact_lock_shared($1, hashtext($2))`, lockContent, s.Environment)
	if len(ids) > 0 {
		b.exec(`insert into entry (environment, id, type, origin, origin_key, updated)
			select $1, id, type, origin, key, clock_timestamp() from unnest($2::text[], $3::text[], $4::text[], $5::text[]) as n (id, type, origin, key)
			on conflict do nothing`, s.Environment, ids, types, origins, keys)
	}
	b.query(func(r pgx.Rows) error {
		h := &heldEntry{documents: map[string]map[string]content.Document{content.Published: {}, content.Preview: {}}}
		h.exists = true
		if err := r.Scan(append(entryTargets(&h.Entry), &now)...); err != nil {
			return err
		}
		held[h.ID] = h
		return nil
	}, `select `+entryColumns+`, greatest(clock_timestamp(), e.updated) from entry e where e.environment = $1 and e.id = any($2) order by e.id for update`, s.Environment, all)
	b.query(func(r pgx.Rows) error {
		var present int64
		if err := r.Scan(&present); err != nil {
			return err
		}
		if present != version {
			return ErrModelMoved
		}
		return nil
	}, `select model_version from head where environment = $1`, s.Environment)
	b.query(func(r pgx.Rows) error {
		var id string
		var number int
		var fields content.Fields
		if err := r.Scan(&id, &number, &fields); err != nil {
			return err
		}
		h := held[id]
		if number == h.Revision {
			h.newest = fields
		}
		if number == h.PublishedRevision {
			h.live = fields
		}
		return nil
	}, `select r.entry, r.number, r.fields from revision r join entry e on e.environment = r.environment and e.id = r.entry
		where r.environment = $1 and r.entry = any($2) and r.number in (e.revision, e.published_revision)`, s.Environment, all)
	b.query(func(r pgx.Rows) error {
		var edition string
		var d content.Document
		if err := r.Scan(&edition, &d.Locale, &d.Entry, &d.Type, &d.Slug, &d.About, &d.Fields); err != nil {
			return err
		}
		held[d.Entry].documents[edition][d.Locale] = d
		return nil
	}, `select edition, locale, entry, type, coalesce(slug, ''), about, fields from document where environment = $1 and entry = any($2)`, s.Environment, all)
	err := b.run(ctx, conn)
	return held, now, err
}

// edit works out what one edit writes.
func (w *writes) edit(m *model.Model, e *Edit, held *heldEntry, now time.Time, by string, cause content.Cause) error {
	if held == nil {
		return fmt.Errorf("entry %s: %w", e.ID, ErrNotFound)
	}
	if held.Revision == 0 && held.Origin == "" {
		held.Origin = content.Local
	}
	if e.Origin == content.Local && held.Origin != content.Local {
		return fmt.Errorf("entry %s: %w (%s)", e.ID, ErrForeign, held.Origin)
	}
	t := m.Type(held.Type)
	if t == nil {
		return content.Problems{{Entry: e.ID, Path: "type", Rule: "unknown", Text: fmt.Sprintf("there is no type %q", held.Type)}}
	}
	if e.IfRevision != 0 && e.IfRevision != held.Revision {
		return &ConflictError{Entry: e.ID, Wanted: e.IfRevision, Present: held.Revision}
	}
	if e.OriginVersion != "" && e.OriginVersion < held.OriginVersion {
		return nil // older than what is held
	}
	next := held.entryState
	if e.OriginVersion != "" {
		next.OriginVersion = e.OriginVersion
	}
	what := event.Saved
	if e.Delete {
		w.deleted = append(w.deleted, e.ID)
		next.Revision, next.PublishedRevision, what = 0, 0, event.Deleted
	} else {
		if err := next.advance(m, t, e, now, by, w); err != nil {
			return err
		}
		switch {
		case next.PublishedRevision == 0 && held.PublishedRevision != 0:
			what = event.Unpublished
		case next.PublishedRevision != held.PublishedRevision:
			what = event.Published
		}
		w.entries = append(w.entries, entryRow{Entry: next.Entry, Title: title(m, t, next.newest)})
	}
	for _, edition := range content.Editions {
		before, after := held.documents[edition], next.documents(m, t, edition)
		differing := content.Differences(t, before, after)
		if len(differing) == 0 {
			continue
		}
		c := content.Change{Kind: content.ContentChange, Edition: edition, Entry: e.ID, Type: t.Name, What: what, Fields: differing,
			Before: map[string]content.Fields{}, After: map[string]content.Fields{}, Cause: cause}
		for tag, d := range before {
			c.Before[tag] = d.Values(t)
			if _, stays := after[tag]; !stays {
				w.goneDocuments = append(w.goneDocuments, [3]string{edition, tag, e.ID})
			}
		}
		for tag, d := range after {
			c.After[tag] = d.Values(t)
			if len(differing[tag]) > 0 {
				if err := w.document(edition, d); err != nil {
					return err
				}
			}
		}
		w.changes = append(w.changes, c)
	}
	return nil
}

// advance moves the entry on by an edit that does not delete it.
func (n *entryState) advance(m *model.Model, t *model.Type, e *Edit, now time.Time, by string, w *writes) error {
	save := func(fields content.Fields, complete bool) (content.Fields, error) {
		fields = content.Normalise(m, t, e.ID, fields)
		if p := content.Check(m, t, e.ID, fields, complete); len(p) > 0 {
			return nil, p
		}
		return fields, nil
	}
	revise := func(fields content.Fields) {
		n.Revision++
		n.newest, n.Updated = fields, now
		w.revisions = append(w.revisions, revisionRow{entry: e.ID, number: n.Revision, at: now, by: by, fields: fields})
	}
	publish := func() {
		n.PublishedRevision, n.live, n.Published = n.Revision, n.newest, &now
		if e.PublishedAt != nil {
			n.Published = e.PublishedAt
		}
		if n.FirstPublished == nil {
			n.FirstPublished = n.Published
		}
	}
	if e.Live == PublishGiven {
		live, err := save(e.Published, true)
		if err != nil {
			return err
		}
		if n.PublishedRevision == 0 || !reflect.DeepEqual(live, n.live) {
			if n.Revision == 0 || !reflect.DeepEqual(live, n.newest) {
				revise(live)
			}
			publish()
		}
	}
	if e.Save != nil {
		fields, err := save(e.Save, e.Live == PublishNewest)
		if err != nil {
			return err
		}
		if n.Revision == 0 || !reflect.DeepEqual(fields, n.newest) {
			revise(fields)
		}
	}
	switch e.Live {
	case PublishNewest:
		if n.Revision == 0 {
			return fmt.Errorf("entry %s: %w", e.ID, ErrNotFound)
		}
		if p := content.Check(m, t, e.ID, n.newest, true); len(p) > 0 {
			return p
		}
		if n.PublishedRevision != n.Revision {
			publish()
		}
	case TakeBack:
		n.PublishedRevision, n.live, n.Published = 0, nil, nil
	}
	return nil
}

func title(m *model.Model, t *model.Type, fields content.Fields) string {
	switch v := fields[t.Title].(type) {
	case string:
		return v
	case map[string]any:
		for _, tag := range m.Tags() {
			if s, ok := v[tag].(string); ok {
				return s
			}
		}
	}
	return ""
}

// writes is everything that one transaction writes.
type writes struct {
	entries       []entryRow
	deleted       []string
	revisions     []revisionRow
	documents     []documentRow
	goneDocuments [][3]string // edition, locale, entry
	deleteAll     bool        // every document
	model         []byte
	changes       []content.Change
}

type entryRow struct {
	content.Entry
	Title string `json:"title"`
}

type revisionRow struct {
	entry  string
	number int
	at     time.Time
	by     string
	fields content.Fields
}

type documentRow struct {
	content.Document
	edition       string
	about, fields []byte
}

func (w *writes) document(edition string, d content.Document) error {
	about, err := json.Marshal(d.About)
	if err != nil {
		return err
	}
	fields, err := json.Marshal(d.Fields)
	if err != nil {
		return err
	}
	w.documents = append(w.documents, documentRow{Document: d, edition: edition, about: about, fields: fields})
	return nil
}

// finish writes everything, then assigns numbers to the changes, and commits:
// one round trip.
func (s *Store) finish(ctx context.Context, conn *pgxpool.Conn, w *writes) (Applied, error) {
	var b batch
	if w.model != nil {
		b.exec(`insert into environment (name, model) values ($1, $2) on conflict (name) do update set model = excluded.model`, s.Environment, w.model)
		b.exec(`insert into head (environment, sequence, commit, at, model_version) values ($1, 0, 0, clock_timestamp(), 1)
			on conflict (environment) do update set model_version = head.model_version + 1`, s.Environment)
	}
	if w.deleteAll {
		b.exec(`delete from document where environment = $1`, s.Environment)
	}
	s.queueEntries(&b, w)
	s.queueDocuments(&b, w)
	done := Applied{Changes: w.changes}
	if len(w.changes) > 0 {
		if err := s.queueChanges(&b, &done); err != nil {
			return done, err
		}
	}
	b.exec(`commit`)
	if err := b.run(ctx, conn); err != nil {
		return Applied{}, slugTaken(err, w)
	}
	if n := len(done.Changes); n > 0 {
		done.Sequence, done.At = done.Changes[n-1].Sequence, done.Changes[n-1].At
	}
	return done, nil
}

func (s *Store) queueEntries(b *batch, w *writes) {
	if len(w.deleted) > 0 {
		b.exec(`delete from entry where environment = $1 and id = any($2)`, s.Environment, w.deleted)
	}
	if len(w.entries) > 0 {
		src, _ := json.Marshal(w.entries) // plain records
		b.exec(`update entry e set origin_version = n."originVersion", revision = n.revision, published_revision = n."publishedRevision",
				first_published = n."firstPublished", published = n.published, updated = n.updated, title = n.title
			from jsonb_to_recordset($2::jsonb) as n (id text, "originVersion" text, revision int, "publishedRevision" int,
				"firstPublished" timestamptz, published timestamptz, updated timestamptz, title text)
			where e.environment = $1 and e.id = n.id`, s.Environment, src)
	}
	if len(w.revisions) > 0 {
		var entries, by, fields []string
		var numbers []int
		var at []time.Time
		for _, r := range w.revisions {
			src, _ := json.Marshal(r.fields) // came out of JSON
			entries, by, fields = append(entries, r.entry), append(by, r.by), append(fields, string(src))
			numbers, at = append(numbers, r.number), append(at, r.at)
		}
		b.exec(`insert into revision (environment, entry, number, at, by, fields)
			select $1, entry, number, at, by, fields::jsonb
			from unnest($2::text[], $3::int[], $4::timestamptz[], $5::text[], $6::text[]) as n (entry, number, at, by, fields)`,
			s.Environment, entries, numbers, at, by, fields)
	}
}

func (s *Store) queueDocuments(b *batch, w *writes) {
	if len(w.goneDocuments) > 0 {
		var editions, locales, entries []string
		for _, g := range w.goneDocuments {
			editions, locales, entries = append(editions, g[0]), append(locales, g[1]), append(entries, g[2])
		}
		b.exec(`delete from document d using unnest($2::text[], $3::text[], $4::text[]) as n (edition, locale, entry)
			where d.environment = $1 and d.edition = n.edition and d.locale = n.locale and d.entry = n.entry`, s.Environment, editions, locales, entries)
	}
	if len(w.documents) == 0 {
		return
	}
	var editions, locales, entries, types, about, fields []string
	var slugs []*string
	var published, first []*time.Time
	var updated []time.Time
	for i := range w.documents {
		d := &w.documents[i]
		editions, locales, entries, types = append(editions, d.edition), append(locales, d.Locale), append(entries, d.Entry), append(types, d.Type)
		about, fields = append(about, string(d.about)), append(fields, string(d.fields))
		published, first, updated = append(published, d.About.Published), append(first, d.About.FirstPublished), append(updated, d.About.Updated)
		var slug *string
		if d.Slug != "" {
			slug = &d.Slug
		}
		slugs = append(slugs, slug)
	}
	b.exec(`insert into document (environment, edition, locale, entry, type, slug, published, first_published, updated, about, fields)
		select $1, edition, locale, entry, type, slug, published, first, updated, about::jsonb, fields::jsonb
		from unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::timestamptz[], $8::timestamptz[], $9::timestamptz[], $10::text[], $11::text[])
			as n (edition, locale, entry, type, slug, published, first, updated, about, fields)
		on conflict (environment, edition, locale, entry) do update set type = excluded.type, slug = excluded.slug, published = excluded.published,
			first_published = excluded.first_published, updated = excluded.updated, about = excluded.about, fields = excluded.fields`,
		s.Environment, editions, locales, entries, types, slugs, published, first, updated, about, fields)
}

// queueChanges appends to the change log. The head's row is taken here, by the
// last statement before the commit.
func (s *Store) queueChanges(b *batch, done *Applied) error {
	src, err := json.Marshal(done.Changes)
	if err != nil {
		return err
	}
	b.query(func(r pgx.Rows) error {
		var n int
		var sequence, commit int64
		var id string
		var at time.Time
		if err := r.Scan(&n, &sequence, &commit, &id, &at); err != nil {
			return err
		}
		c := &done.Changes[n-1]
		c.Sequence, c.Commit, c.ID, c.At = sequence, commit, id, at
		return nil
	}, `with taken as (
			update head set sequence = sequence + $3, commit = commit + 1, at = greatest(at, clock_timestamp())
			where environment = $1 returning sequence - $3 as base, commit, at)
		insert into change (environment, sequence, commit, at, kind, edition, entry, type, what, fields, before, after, cause)
		select $1, t.base + n, t.commit, t.at, c ->> 'kind', coalesce(c ->> 'edition', ''), coalesce(c ->> 'entry', ''), coalesce(c ->> 'type', ''),
			coalesce(c ->> 'what', ''), c -> 'fields', c -> 'before', c -> 'after', c -> 'cause'
		from taken t, jsonb_array_elements($2::jsonb) with ordinality as l (c, n)
		returning sequence - (select base from taken), sequence, commit, id::text, at`, s.Environment, src, len(done.Changes))
	return nil
}

// slugTaken turns the database's word for two entries with one slug into a
// problem that names entry and field.
func slugTaken(err error, w *writes) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || pg.ConstraintName != "document_slug" {
		return err
	}
	var found content.Problems
	for i := range w.documents {
		d := &w.documents[i]
		if d.Slug != "" && strings.Contains(pg.Detail, ", "+d.Slug+")") {
			found = append(found, content.Problem{Entry: d.Entry, Path: "fields.slug", Rule: "unique",
				Text: fmt.Sprintf("another %s has the slug %q in %s; choose another", d.Type, d.Slug, d.Locale)})
			break
		}
	}
	if found == nil {
		return err
	}
	return found
}
