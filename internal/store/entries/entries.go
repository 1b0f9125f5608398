// Package entries lists entries with their revisions and schedules, for those who edit them.
package entries

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// Entries lists the entries of an environment, with their revisions, for those who edit them.
// It is safe for concurrent use.
type Entries struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
	writer      *writing.Writer
	log         *slog.Logger
}

// New returns the entries of an environment.
func New(d *db.DB, environment string, changes *changelog.Log, writer *writing.Writer, log *slog.Logger) *Entries {
	return &Entries{d, environment, changes, writer, log}
}

// Get returns one entry with its history, but for who refers to it. Its error is ErrNotFound
// if there is none.
func (es *Entries) Get(ctx context.Context, id string) (api.EntryRecord, error) {
	var out api.EntryRecord
	found := false
	conn, err := es.db.Conns(ctx).Acquire(ctx)
	if err != nil {
		return out, err
	}
	defer conn.Release()
	out.Revisions, out.Reviews, out.Schedules = []content.Revision{}, []api.Review{}, []api.Schedule{}
	out.ReferredBy, out.FormerPaths = []api.Referrer{}, []string{}
	var b db.Batch
	b.Query(func(r pgx.Rows) (err error) {
		found = true
		out.EntryInfo, err = scanInfo(r)
		return err
	}, entryInfo+` where e.environment = $1 and e.id = $2 and e.revision > 0`, es.environment, id)
	b.Query(
		func(r pgx.Rows) error { return r.Scan(&out.Shown, &out.Newest) },
		`select e.live, r.fields from entry e join revision r on r.environment = e.environment and r.entry = e.id
			and r.number = e.revision
		where e.environment = $1 and e.id = $2`,
		es.environment,
		id,
	)
	b.Query(func(r pgx.Rows) error {
		var v content.Revision
		err := r.Scan(&v.Number, &v.At, &v.By, &v.Message)
		out.Revisions = append(out.Revisions, v)
		return err
	}, `select number, at, by, message from revision where environment = $1 and entry = $2 order by number desc
		limit 50`, es.environment, id)
	b.Query(func(r pgx.Rows) error {
		var v api.Review
		err := r.Scan(&v.Revision, &v.At, &v.By, &v.What, &v.Remark)
		out.Reviews = append(out.Reviews, v)
		return err
	}, `select revision, at, by, what, remark from review where environment = $1 and entry = $2 order by at desc
		limit 50`, es.environment, id)
	b.Query(func(r pgx.Rows) error {
		v, err := scanSchedule(r)
		out.Schedules = append(out.Schedules, v)
		return err
	}, scheduleInfo+` where s.environment = $1 and s.entry = $2 order by s.state = 'pending' desc, s.at desc limit
		50`, es.environment, id)
	b.Query(func(r pgx.Rows) error {
		var path string
		err := r.Scan(&path)
		out.FormerPaths = append(out.FormerPaths, path)
		return err
	}, `select distinct path from former_path where environment = $1 and entry = $2 order by 1`, es.environment, id)
	if err := b.Run(ctx, conn); err != nil {
		return out, err
	}
	if !found {
		return out, fmt.Errorf("entry %s: %w", id, db.ErrNotFound)
	}
	return out, nil
}

// maxReferrers bounds the entries that are listed as referring to one.
const maxReferrers = 200

// Referrers lists up to 200 entries that refer to one, by whatever field of the model, or show it.
func (es *Entries) Referrers(ctx context.Context, m *model.Model, id string) ([]api.Referrer, error) {
	var links []string
	for _, t := range m.Types {
		for _, f := range t.Fields {
			if f.Kind == model.Reference || f.HasProse() || f.HasFiles() || f.Inner != nil {
				links = append(links, f.Name+"/"+id)
			}
		}
	}
	rows, err := es.db.Conns(ctx).Query(ctx, `select distinct d.entry, d.type, e.title, split_part(l, '/', 1)
		from document d join entry e on e.environment = d.environment and e.id = d.entry, unnest(d.links) l
		where d.environment = $1 and d.links <> '{}' and d.links && $2 and l = any($2) and d.entry <> $3
		order by 3, 1, 4 limit $4`, es.environment, links, id, maxReferrers)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (x api.Referrer, err error) {
		err = r.Scan(&x.Entry, &x.Type, &x.Title, &x.Field)
		return x, err
	})
	return append([]api.Referrer{}, all...), err
}

// Revision returns one revision with its fields, ErrNotFound if there is none.
func (es *Entries) Revision(ctx context.Context, id string, number int) (content.Revision, error) {
	var v content.Revision
	err := es.db.Conns(ctx).
		QueryRow(ctx, `select number, at, by, message, fields from revision where environment = $1 and entry = $2
			and number = $3`, es.environment, id, number).
		Scan(&v.Number, &v.At, &v.By, &v.Message, &v.Fields)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("revision %d of entry %s: %w", number, id, db.ErrNotFound)
	}
	return v, err
}

// LinkedFrom returns the entries that the newest states of some lead to, by a
// reference or a link in prose.
func (es *Entries) LinkedFrom(ctx context.Context, ids []string) ([]string, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select distinct substr(l, strpos(l, '/') + 1) from document d, unnest(d.links) l
		where d.environment = $1 and d.edition = 'preview' and d.entry = any($2) order by 1`, es.environment, ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// EntryAccess is what it takes to know of an entry to say who may touch it.
type EntryAccess struct {
	Type      string
	Title     string
	Published bool
}

// Access returns how entries stand, by id; of those that there are.
func (es *Entries) Access(ctx context.Context, ids []string) (map[string]EntryAccess, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select id, type, title, published_revision > 0 from entry where environment = $1 and id =
			any($2) and revision > 0`, es.environment, ids)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]EntryAccess{}
	for rows.Next() {
		var id string
		var one EntryAccess
		if err := rows.Scan(&id, &one.Type, &one.Title, &one.Published); err != nil {
			return nil, err
		}
		out[id] = one
	}
	return out, rows.Err()
}

// EntryIDs returns the ids of an origin's entries of one type.
func (es *Entries) EntryIDs(ctx context.Context, origin, typ string) (map[string]string, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select id, origin_key from entry where environment = $1 and origin = $2 and type = $3 and
			revision > 0`, es.environment, origin, typ)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var id, key string
		if err := rows.Scan(&id, &key); err != nil {
			return nil, err
		}
		out[id] = key
	}
	return out, rows.Err()
}

// EntryChanges returns the entry's last changes, the newest first.
func (es *Entries) EntryChanges(ctx context.Context, id string) ([]content.Change, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select `+changelog.ChangeColumns+` from change where environment = $1 and entry = $2 order by
			sequence desc limit 20`, es.environment, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(
		rows, func(r pgx.CollectableRow) (content.Change, error) { return changelog.ScanChange(r) },
	)
}

// LastPublished returns the entry's newest change in the published edition,
// ErrNotFound if there was none.
func (es *Entries) LastPublished(ctx context.Context, id string) (content.Change, error) {
	c, err := changelog.ScanChange(
		es.db.Conns(ctx).
			QueryRow(ctx, `select `+changelog.ChangeColumns+` from change where environment = $1 and entry = $2 and
				edition = 'published'
		order by sequence desc limit 1`, es.environment, id),
	)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("a change of entry %s: %w", id, db.ErrNotFound)
	}
	return c, err
}

// Counts says how many entries of each type there are.
func (es *Entries) Counts(ctx context.Context) (map[string]int, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select type, count(*) from entry where environment = $1 and revision > 0 group by
			type`, es.environment)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var t string
		var n int
		if err := rows.Scan(&t, &n); err != nil {
			return nil, err
		}
		out[t] = n
	}
	return out, rows.Err()
}

// Coverages returns the coverage of the newest saved states, for every type
// that has entries and each of the locales.
func (es *Entries) Coverages(ctx context.Context, locales []string) ([]api.Coverage, error) {
	rows, err := es.db.Conns(ctx).Query(ctx, `select t.type, l.locale,
			count(*) filter (where d.how = 'translated'), count(*) filter (where d.how = 'partly'), count(*) filter
			(where d.how = 'filled in'), count(*) filter (where d.how is null)
		from (select id, type from entry where environment = $1 and revision > 0 and retired is null) t cross join
		unnest($2::text[]) with ordinality l (locale, n)
		left join lateral (select
		`+translation+` as how from document d where d.environment = $1 and d.edition = 'preview' and d.locale =
			l.locale and d.entry = t.id) d on true
		group by 1, 2, l.n order by 1, l.n`, es.environment, locales)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Coverage, error) {
		var c api.Coverage
		err := r.Scan(&c.Type, &c.Locale, &c.Translated, &c.Partly, &c.FilledIn, &c.Missing)
		return c, err
	})
}

// RecordPresence notes that somebody has an entry open, and which of its fields they edit,
// and returns who else has had it open within the last half minute. A session with nobody
// behind it has closed it.
func (es *Entries) RecordPresence(
	ctx context.Context, id, session, who, field string,
) ([]api.FieldEditor, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `with gone as (delete from presence where seen < clock_timestamp() - interval '30 s' or
			(environment, entry, session) = ($1, $2, $3) and $4 = ''),
			here as (insert into presence (environment, entry, session, who, field) select $1, $2, $3, $4, $5
				where $4 <> '' on conflict (environment, entry, session) do update set seen = clock_timestamp(),
				field = excluded.field)
		select distinct who, field from presence where environment = $1 and entry = $2 and session <> $3 and seen >=
		clock_timestamp() - interval '30 s' order by who, field`, es.environment, id, session, who, field)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.FieldEditor])
}

// Analyse has the database look at the sizes of its tables, which it does by
// itself only now and then. After many writes its plans are better for it. Nothing is done
// if it knows of so many entries already that those that have come change little.
func (es *Entries) Analyse(ctx context.Context, come int) error {
	var known float64
	if err := es.db.Conns(ctx).QueryRow(ctx, `select reltuples from pg_class where oid = 'entry'::regclass`).
		Scan(&known); err != nil || known > 2*float64(come) {
		return err
	}
	_, err := es.db.Conns(ctx).Exec(ctx, `analyze entry, revision, document, change`)
	return err
}

// Existing tells which of the ids are those of entries.
func (es *Entries) Existing(ctx context.Context, ids []string) (map[string]bool, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select id from entry where environment = $1 and id = any($2) and revision > 0`, es.environment, ids)
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, pgx.RowTo[string])
	out := map[string]bool{}
	for _, id := range found {
		out[id] = true
	}
	return out, err
}

// DraftPaths returns where the drafts of entries live in a locale, by id; of those that have
// a draft in it. One without a path has an empty one.
func (es *Entries) DraftPaths(ctx context.Context, locale string, ids []string) (map[string]string, error) {
	rows, err := es.db.Conns(ctx).Query(ctx, `select entry, coalesce(about ->> 'path', '') from document
		where environment = $1 and edition = 'preview' and locale = $2 and entry = any($3)`, es.environment, locale, ids)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var id, path string
	_, err = pgx.ForEachRow(rows, []any{&id, &path}, func() error {
		out[id] = path
		return nil
	})
	return out, err
}
