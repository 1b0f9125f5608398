package entries

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
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

// EntryInfo is an entry as those who run the service see it.
type EntryInfo struct {
	content.Entry
	Title string        `json:"title"`
	State content.State `json:"state"`
	// Locales says, for each locale that the newest saved state can be read in,
	// whether it is translated, partly translated (the rest is filled in) or
	// wholly filled in from a fallback.
	Locales map[string]string `json:"locales"`
	// Live lists the locales that readers have it in, filled in ones not counted.
	Live []string `json:"live"`
	// Next is when the next schedule is due.
	Next *time.Time `json:"next"`
}

// How much of an entry is translated.
const (
	Translated = "translated"
	Partly     = "partly"
	FilledIn   = "filled in"
)

// EntryFilter narrows ListEntries; empty parts do not.
type EntryFilter struct {
	Type, Origin string
	// State; without one, retired entries are left out.
	State content.State
	// Search is looked for in title, slug and id, whatever the case.
	Search string
	// Missing is a locale in which something is not translated.
	Missing string
	// RefersTo is an entry that those listed refer to.
	RefersTo string
	IDs      []string
	// Types that it is narrowed to; nil means all.
	Types         []string
	Limit, Offset int
}

const (
	// translation is how much of the document d is translated.
	translation = `case when not d.about -> 'locales' ? d.locale then 'filled in' when jsonb_array_length(d.about ->
		'filledIn') > 0 then 'partly' else 'translated' end`

	// stateOf is the state of the entry e.
	stateOf = `case when e.retired is not null then 'retired' when e.review = 'submitted' then 'in review'
		when exists (select from schedule s where s.environment = e.environment and s.entry = e.id and s.state =
		'pending') then 'scheduled'
		when e.published_revision = 0 then 'draft' when e.behind then 'revised' else 'published' end`

	entryInfo = `select ` + writing.EntryColumns + `, e.title, ` + stateOf + `,
		(select coalesce(jsonb_object_agg(d.locale, ` + translation +
		`), '{}') from document d where d.environment = e.environment and d.edition = 'preview' and d.entry = e.id),
		array(select d.locale from document d where d.environment = e.environment and d.edition = 'published' and
		d.entry = e.id and d.about -> 'locales' ? d.locale order by d.locale),
		(select min(s.at) from schedule s where s.environment = e.environment and s.entry = e.id and s.state =
		'pending')
		from entry e`
)

func scanInfo(r pgx.Row) (EntryInfo, error) {
	var i EntryInfo
	err := r.Scan(append(writing.EntryTargets(&i.Entry), &i.Title, &i.State, &i.Locales, &i.Live, &i.Next)...)
	return i, err
}

// ListEntries returns entries, those saved last first, and how many there are
// in all.
func (es *Entries) List(ctx context.Context, f EntryFilter) ([]EntryInfo, int, error) {
	const where = ` where e.environment = $1 and e.revision > 0 and ($2 = '' or e.type = $2) and ($3 = '' or
		e.origin = $3)
		and case when $4 = '' then e.retired is null else $4 = ` + stateOf + ` end
		and ($5 = '' or position(lower($5) in lower(e.title)) > 0 or e.id = $5 or exists (select from document d
			where d.environment = e.environment and d.entry = e.id and d.slug = $5))
		and ($6 = '' or not exists (select from document d where d.environment = e.environment and d.edition =
		'preview' and d.entry = e.id and d.locale = $6
			and ` + translation + ` = 'translated'))
		and ($7 = '' or exists (select from document d, unnest(d.links) l where d.environment = e.environment and
		d.entry = e.id and d.links <> '{}' and substr(l, strpos(l, '/') + 1) = $7))
		and ($8::text[] is null or e.id = any($8)) and ($9::text[] is null or e.type = any($9))`
	args := []any{es.environment, f.Type, f.Origin, string(f.State), f.Search, f.Missing, f.RefersTo, f.IDs, f.Types}
	var total int
	if err := es.db.Conns(ctx).QueryRow(ctx, `select count(*) from entry e`+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	rows, err := es.db.Conns(ctx).
		Query(ctx, entryInfo+where+` order by e.updated desc, e.id limit $10 offset $11`,
			append(args, f.Limit, f.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (EntryInfo, error) { return scanInfo(r) })
	return out, total, err
}

// EntryRecord is one entry with everything that is kept of it.
type EntryRecord struct {
	EntryInfo
	// Newest is the newest saved state, Shown what readers get.
	Newest content.Fields `json:"newest"`
	Shown  content.Fields `json:"shown"`
	// Revisions, the newest first, at most fifty, without their fields.
	Revisions []content.Revision `json:"revisions"`
	Reviews   []writing.Review   `json:"reviews"`
	Schedules []Schedule         `json:"schedules"`
	// ReferredBy lists entries that refer to it, at most a hundred.
	ReferredBy []writing.Referrer `json:"referredBy"`
	// FormerPaths are where it lived before.
	FormerPaths []string `json:"formerPaths"`
}

// Entry returns one entry with its history. Its error is ErrNotFound if there is
// none.
func (es *Entries) Get(ctx context.Context, id string) (EntryRecord, error) {
	var out EntryRecord
	found := false
	conn, err := es.db.Conns(ctx).Acquire(ctx)
	if err != nil {
		return out, err
	}
	defer conn.Release()
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
		var v writing.Review
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
		var v writing.Referrer
		err := r.Scan(&v.Entry, &v.Type, &v.Title, &v.Field)
		out.ReferredBy = append(out.ReferredBy, v)
		return err
	}, `select distinct d.entry, d.type, e.title, f.name from document d join entry e on e.environment =
		d.environment and e.id = d.entry,
			(select distinct split_part(l, '/', 1) as name from document a, unnest(a.links) l where a.environment =
			$1 and split_part(l, '/', 2) = $2) f
		where d.environment = $1 and d.links <> '{}' and d.links @> array[f.name || '/' || $2] order by 3, 1 limit
		100`, es.environment, id)
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

// Standing is what it takes to know of an entry to say who may touch it.
type EntryAccess struct {
	Type      string
	Title     string
	Published bool
}

// Standings returns how entries stand, by id; of those that there are.
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

// Coverage is how much of one type is translated into one locale.
type Coverage struct {
	Type       string `json:"type"`
	Locale     string `json:"locale"`
	Translated int    `json:"translated"`
	Partly     int    `json:"partly"`
	FilledIn   int    `json:"filledIn"`
	Missing    int    `json:"missing"`
}

// Coverages returns the coverage of the newest saved states, for every type
// that has entries and each of the locales.
func (es *Entries) Coverages(ctx context.Context, locales []string) ([]Coverage, error) {
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
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (Coverage, error) {
		var c Coverage
		err := r.Scan(&c.Type, &c.Locale, &c.Translated, &c.Partly, &c.FilledIn, &c.Missing)
		return c, err
	})
}

// SawOpen notes that somebody has an entry open, and returns who else has had it
// open within the last half minute. A session with nobody behind it has closed
// it.
func (es *Entries) RecordPresence(ctx context.Context, id, session, who string) ([]string, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `with gone as (delete from presence where seen < clock_timestamp() - interval '30 s' or
			(environment, entry, session) = ($1, $2, $3) and $4 = ''),
			here as (insert into presence (environment, entry, session, who) select $1, $2, $3, $4 where $4 <> ''
				on conflict (environment, entry, session) do update set seen = clock_timestamp())
		select distinct who from presence where environment = $1 and entry = $2 and session <> $3 and seen >=
		clock_timestamp() - interval '30 s' order by who`, es.environment, id, session, who)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Analyse has the database look at the sizes of its tables, which it does by
// itself only now and then. After many writes its plans are better for it.
func (es *Entries) Analyse(ctx context.Context) error {
	_, err := es.db.Conns(ctx).Exec(ctx, `analyze entry, revision, document, change`)
	return err
}

// There tells which of the ids are those of entries.
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

// Exported is an entry with everything that an export says of it.
type Exported struct {
	content.Entry
	Newest, Live content.Fields
	// Revisions are the earlier ones, the oldest first, if they were asked for.
	Revisions []content.Revision
}

// EachEntry calls each for every entry of an origin, of some types or, with none,
// of all, in the order of ids. It reads some at a time, not one snapshot.
func (es *Entries) EachEntry(
	ctx context.Context, types []string, origin string, revisions bool, each func(*Exported) error,
) error {
	const atOnce = 200
	for last := ""; ; {
		rows, err := es.db.Conns(ctx).
			Query(ctx, `select `+writing.EntryColumns+`, e.live, r.number, r.at, r.by, r.message, r.fields
			from (select * from entry where environment = $1 and origin = $2 and ($3::text[] is null or type =
			any($3)) and revision > 0 and id > $4 order by id limit $5) e
			join revision r on r.environment = e.environment and r.entry = e.id and (r.number = e.revision or $6)
			order by e.id, r.number`,
				es.environment, origin, types, last, atOnce, revisions)
		if err != nil {
			return err
		}
		var found []*Exported
		for rows.Next() {
			var e Exported
			var v content.Revision
			if err := rows.Scan(append(writing.EntryTargets(&e.Entry), &e.Live, &v.Number, &v.At, &v.By, &v.Message,
				&v.Fields)...); err != nil {
				rows.Close()
				return err
			}
			if len(found) == 0 || found[len(found)-1].ID != e.ID {
				found = append(found, &e)
			}
			if now := found[len(found)-1]; v.Number == now.Revision {
				now.Newest = v.Fields
			} else {
				now.Revisions = append(now.Revisions, v)
			}
		}
		if rows.Close(); rows.Err() != nil {
			return rows.Err()
		}
		for _, e := range found {
			if err := each(e); err != nil {
				return err
			}
		}
		if len(found) < atOnce {
			return nil
		}
		last = found[len(found)-1].ID
	}
}
