package writing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// records is everything that one transaction writes.
type records struct {
	entries       []entryRow
	deleted       []string
	unborn        []string // made at the beginning, and not wanted after all
	revisions     []revisionRow
	reviews       []reviewRow
	documents     []documentRow
	goneDocuments [][3]string // edition, locale, entry
	former        [][3]string // locale, path, entry
	taken         []takenRow
	unique        []string // entries of types that have unique values
	schedules     []string // that are carried out
}

type entryRow struct {
	content.Entry
	Title string         `json:"title"`
	Live  content.Fields `json:"live"`
}

type revisionRow struct {
	entry       string
	number      int
	at          time.Time
	by, message string
	fields      content.Fields
}

type reviewRow struct {
	Entry string `json:"entry"`
	api.Review
}

type takenRow struct {
	Type   string `json:"type"`
	Field  string `json:"field"`
	Locale string `json:"locale"`
	Value  string `json:"value"`
	Entry  string `json:"entry"`
}

// onlyOne is the value that the only entry of a singleton takes.
const onlyOne = "the only entry"

type documentRow struct {
	content.Document
	fresh         bool // there is none in its place
	edition       string
	about, fields []byte
	links         []string
}

// document notes a document that is to be written, where there is one already or not: fresh.
func (w *records) document(edition string, t *model.Type, d content.Document, fresh bool) error {
	about, err := json.Marshal(d.About)
	if err != nil {
		return err
	}
	fields, err := json.Marshal(d.Fields)
	if err != nil {
		return err
	}
	w.documents = append(
		w.documents, documentRow{
			Document: d, fresh: fresh, edition: edition, about: about, fields: fields, links: d.Links(t),
		},
	)
	return nil
}

// takes notes the values that an entry takes for itself.
func (w *records) takes(t *model.Type, id string, state *entryState) {
	if t.Singleton {
		w.unique = append(w.unique, id)
		w.taken = append(w.taken, takenRow{Type: t.Name, Value: onlyOne, Entry: id})
	}
	for _, f := range t.Fields {
		if !f.Unique || f.Kind == model.Slug {
			continue
		}
		if !slices.Contains(w.unique, id) {
			w.unique = append(w.unique, id)
		}
		for _, fields := range []content.Fields{state.newest, state.live} {
			per, ok := fields[f.Name].(map[string]any)
			if !ok || !f.Translated {
				per = map[string]any{"": fields[f.Name]}
			}
			for tag, v := range per {
				row := takenRow{Type: t.Name, Field: f.Name, Locale: tag, Value: fmt.Sprint(v), Entry: id}
				if v != nil && !slices.Contains(w.taken, row) {
					w.taken = append(w.taken, row)
				}
			}
		}
	}
}

// drop takes out what was queued for some entries.
func (w *records) drop(own map[string]bool) {
	w.entries = slices.DeleteFunc(w.entries, func(r entryRow) bool { return own[r.ID] })
	w.deleted = slices.DeleteFunc(w.deleted, func(id string) bool { return own[id] })
	w.revisions = slices.DeleteFunc(w.revisions, func(r revisionRow) bool { return own[r.entry] })
	w.reviews = slices.DeleteFunc(w.reviews, func(r reviewRow) bool { return own[r.Entry] })
	w.documents = slices.DeleteFunc(w.documents, func(r documentRow) bool { return own[r.Entry] })
	w.goneDocuments = slices.DeleteFunc(w.goneDocuments, func(g [3]string) bool { return own[g[2]] })
	w.former = slices.DeleteFunc(w.former, func(g [3]string) bool { return own[g[2]] })
	w.taken = slices.DeleteFunc(w.taken, func(r takenRow) bool { return own[r.Entry] })
	w.unique = slices.DeleteFunc(w.unique, func(id string) bool { return own[id] })
}

// finish writes everything, then assigns numbers to the changes, and commits:
// one round trip.
func (tx *transaction) finish(ctx context.Context, writes []*write) error {
	var b db.Batch
	s, out := tx.s, &tx.out
	if len(out.schedules) > 0 {
		// All statements are on their way already when an answer comes back, so this
		// one must fail by itself.
		b.Exec(
			`with carried as (update schedule set state = 'done', next_try = null, finished = clock_timestamp(),
				detail = ''
				where environment = $1 and id = any($2::uuid[]) and state = 'pending' returning 1)
			select 1 / (select (count(*) = $3)::int from carried)`,
			s.environment,
			out.schedules,
			len(out.schedules),
		)
	}
	s.queueEntries(&b, out)
	s.queueDocuments(&b, out)
	var groups [][]content.Change
	var acts []api.AuditRecord
	for _, w := range writes {
		acts = append(acts, w.acts...)
		for _, o := range w.signals {
			src, err := json.Marshal(o)
			if err != nil {
				return err
			}
			b.Exec(`insert into signal (environment, event, subject, data) values ($1, $2, $3, $4)`,
				s.environment, o.Event, o.Entry, src)
		}
		if len(w.done.Changes) > 0 {
			groups = append(groups, w.done.Changes)
		}
	}
	s.audit.Queue(&b, acts...)
	if len(groups) > 0 {
		if err := s.changes.Queue(&b, groups); err != nil {
			return err
		}
	}
	for _, w := range writes {
		s.writes.Queue(w.ctx, &b)
	}
	b.Exec(`commit`)
	if err := b.Run(ctx, tx.conn); err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%w: %w", errCommitting, err)
		}
		return alreadyTaken(err, out)
	}
	for _, w := range writes {
		if n := len(w.done.Changes); n > 0 {
			w.done.Sequence, w.done.At = w.done.Changes[n-1].Sequence, w.done.Changes[n-1].At
		}
	}
	return nil
}

func (wr *Writer) queueEntries(b *db.Batch, w *records) {
	if gone := slices.Concat(w.deleted, w.unborn); len(gone) > 0 {
		b.Exec(
			`delete from entry where environment = $1 and (id = any($2) or id = any($3) and revision = 0)`,
			wr.environment, w.deleted, w.unborn,
		)
	}
	if len(w.entries) > 0 {
		src, _ := json.Marshal(w.entries) // plain records
		b.Exec(
			`update entry e set type = n.type, origin_version = n."originVersion", revision = n.revision,
				published_revision = n."publishedRevision",
				first_published = n."firstPublished", published = n.published, updated = n.updated, title = n.title,
				live = nullif(n.live, 'null'::jsonb),
				behind = coalesce(n.behind, false), review = coalesce(n.review, ''), retired = n.retired, withheld =
				coalesce(n.withheld, false)
			from jsonb_to_recordset($2::jsonb) as n (id text, type text, "originVersion" text, revision int,
			"publishedRevision" int,
				"firstPublished" timestamptz, published timestamptz, updated timestamptz, title text, live jsonb,
				behind boolean, review text, retired timestamptz, withheld boolean)
			where e.environment = $1 and e.id = n.id`,
			wr.environment,
			src,
		)
	}
	if len(w.revisions) > 0 {
		var entries, by, messages, fields []string
		var numbers []int
		var at []time.Time
		for _, r := range w.revisions {
			src, _ := json.Marshal(r.fields) // came out of JSON
			entries = append(entries, r.entry)
			by = append(by, r.by)
			messages = append(messages, r.message)
			fields = append(fields, string(src))
			numbers, at = append(numbers, r.number), append(at, r.at)
		}
		b.Exec(`insert into revision (environment, entry, number, at, by, message, fields)
			select $1, entry, number, at, by, message, fields::jsonb
			from unnest($2::text[], $3::int[], $4::timestamptz[], $5::text[], $6::text[], $7::text[]) as n (entry,
			number, at, by, message, fields)`,
			wr.environment, entries, numbers, at, by, messages, fields)
	}
	if len(w.reviews) > 0 {
		src, _ := json.Marshal(w.reviews) // plain records
		b.Exec(`insert into review (environment, entry, revision, at, by, what, remark)
			select $1, entry, revision, at, by, what, coalesce(remark, '')
			from jsonb_to_recordset($2::jsonb) as n (entry text, revision int, at timestamptz, by text, what text,
			remark text)`, wr.environment, src)
	}
	if len(w.unique) > 0 {
		b.Exec(`delete from taken where environment = $1 and entry = any($2)`, wr.environment, w.unique)
		src, _ := json.Marshal(w.taken) // plain records
		b.Exec(`insert into taken (environment, type, field, locale, value, entry)
			select $1, n.* from jsonb_to_recordset($2::jsonb) as n (type text, field text, locale text, value text,
			entry text)`, wr.environment, src)
	}
	if len(w.former) > 0 {
		var locales, paths, entries []string
		for _, f := range w.former {
			locales, paths, entries = append(locales, f[0]), append(paths, f[1]), append(entries, f[2])
		}
		b.Exec(
			`insert into former_path (environment, locale, path, entry) select distinct on (1, 2, 3) $1::text, n.*
				from unnest($2::text[], $3::text[], $4::text[]) as n (locale, path, entry)
			on conflict (environment, locale, path) do update set entry = excluded.entry, since = clock_timestamp()`,
			wr.environment,
			locales,
			paths,
			entries,
		)
	}
}

func (wr *Writer) queueDocuments(b *db.Batch, w *records) {
	if len(w.goneDocuments) > 0 {
		var editions, locales, entries []string
		for _, g := range w.goneDocuments {
			editions, locales, entries = append(editions, g[0]), append(locales, g[1]), append(entries, g[2])
		}
		b.Exec(`delete from document d using unnest($2::text[], $3::text[], $4::text[]) as n (edition, locale, entry)
			where d.environment = $1 and d.edition = n.edition and d.locale = n.locale and d.entry =
			n.entry`, wr.environment, editions, locales, entries)
	}
	fresh, others := &documentColumns{}, &documentColumns{}
	for i := range w.documents {
		if d := &w.documents[i]; d.fresh {
			fresh.add(d)
		} else {
			others.add(d)
		}
	}
	fresh.queue(b, wr.environment, "")
	others.queue(b, wr.environment, ` on conflict (environment, edition, locale, entry) do update set
		type = excluded.type, slug = excluded.slug, published = excluded.published,
		first_published = excluded.first_published, updated = excluded.updated, about = excluded.about,
		fields = excluded.fields, path = excluded.path, links = excluded.links`)
}

// documentColumns are documents by column.
type documentColumns struct {
	editions, locales, entries, types, about, fields, links []string
	slugs, paths                                            []*string
	published, first                                        []*time.Time
	updated                                                 []time.Time
}

func (c *documentColumns) add(d *documentRow) {
	c.editions = append(c.editions, d.edition)
	c.locales = append(c.locales, d.Locale)
	c.entries = append(c.entries, d.Entry)
	c.types = append(c.types, d.Type)
	c.about, c.fields = append(c.about, string(d.about)), append(c.fields, string(d.fields))
	c.published = append(c.published, d.About.Published)
	c.first = append(c.first, d.About.FirstPublished)
	c.updated = append(c.updated, d.About.Updated)
	var slug *string
	if d.Slug != "" {
		slug = &d.Slug
	}
	c.slugs, c.paths = append(c.slugs, slug), append(c.paths, d.About.Path)
	c.links = append(c.links, strings.Join(d.links, ",")) // names and ids have no commas
}

// queue queues what inserts the documents, if there are any.
func (c *documentColumns) queue(b *db.Batch, environment, onConflict string) {
	if len(c.entries) == 0 {
		return
	}
	b.Exec(`insert into document (environment, edition, locale, entry, type, slug, published, first_published, updated,
			about, fields, path, links)
		select $1, edition, locale, entry, type, slug, published, first, updated, about::jsonb, fields::jsonb, path,
		string_to_array(links, ',')
		from unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::timestamptz[],
		$8::timestamptz[], $9::timestamptz[], $10::text[], $11::text[], $12::text[], $13::text[])
			as n (edition, locale, entry, type, slug, published, first, updated, about, fields, path, links)`+onConflict,
		environment, c.editions, c.locales, c.entries, c.types, c.slugs, c.published, c.first, c.updated, c.about,
		c.fields, c.paths, c.links)
}

// alreadyTaken turns the database's word for two entries with one slug, path or
// unique value into a problem that names entry and field.
func alreadyTaken(err error, w *records) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return err
	}
	is := func(v string) bool { return v != "" && strings.Contains(pg.Detail, ", "+v+")") }
	if pg.Code == "22012" && len(w.schedules) > 0 {
		return ErrScheduleGone
	}
	switch pg.ConstraintName {
	case "document_slug":
		for i := range w.documents {
			if d := &w.documents[i]; is(d.Slug) {
				return content.Problems{{
					Entry: d.Entry, Path: "fields.slug", Rule: "unique",
					Text: fmt.Sprintf("another %s has the slug %q in %s; choose another", d.Type, d.Slug, d.Locale),
				}}
			}
		}
	case "document_path":
		for i := range w.documents {
			if d := &w.documents[i]; d.About.Path != nil && is(*d.About.Path) {
				return content.Problems{{
					Entry: d.Entry, Path: "about.path", Rule: "unique",
					Text: fmt.Sprintf(
						"another entry lives at %s in %s; choose another slug or parent", *d.About.Path, d.Locale,
					),
				}}
			}
		}
	case "taken_value":
		for _, r := range w.taken {
			if r.Value == onlyOne && is(onlyOne) {
				return content.Problems{
					{
						Entry: r.Entry,
						Path:  "type",
						Rule:  "singleton",
						Text: fmt.Sprintf(
							"there is an entry of type %s already, and there can be only one; edit that", r.Type,
						),
					},
				}
			}
			if is(r.Value) && strings.Contains(pg.Detail, ", "+r.Field+", ") {
				path := "fields." + r.Field
				if r.Locale != "" {
					path += "." + r.Locale
				}
				return content.Problems{
					{
						Entry: r.Entry,
						Path:  path,
						Rule:  "unique",
						Text:  fmt.Sprintf("another %s has the %s %q; it must be unique", r.Type, r.Field, r.Value),
					},
				}
			}
		}
	}
	return err
}
