package entries

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/why"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// EntriesNamed returns the ids of the entries that are known, or were known
// before, by an id, slug or path; those it is the present name of come first.
// present says how many these are. slugFields are the names of the slug fields
// of all types.
func (es *Entries) EntriesNamed(
	ctx context.Context, name string, slugFields []string,
) (ids []string, present int, err error) {
	collect := func(sql string, args ...any) error {
		rows, err := es.db.Conns(ctx).Query(ctx, sql, append([]any{es.environment, name}, args...)...)
		if err != nil {
			return err
		}
		found, err := pgx.CollectRows(rows, pgx.RowTo[string])
		for _, id := range found {
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
		return err
	}
	if strings.HasPrefix(name, "/") {
		err = collect(
			`select entry from document where environment = $1 and path = $2 order by edition = 'published' desc,
				entry`,
		)
		present = len(ids)
		if err == nil && present == 0 {
			err = collect(`select entry from former_path where environment = $1 and path = $2 order by since desc`)
		}
		return ids, present, err
	}
	if err = collect(`select id from entry where environment = $1 and id = $2 and revision > 0`); err != nil {
		return nil, 0, err
	}
	if err = collect(`select entry from document where environment = $1 and slug = $2 order by edition = 'published'
		desc, entry`); err != nil {
		return nil, 0, err
	}
	if present = len(ids); present > 0 {
		return ids, present, nil
	}
	// Entries that nobody is shown have no document; former slugs are only in
	// revisions.
	for _, field := range slugFields {
		if err = collect(`select e.id from entry e join revision r on r.environment = e.environment and r.entry =
			e.id and r.number = e.revision
			where e.environment = $1 and r.fields ->> $3 = $2 order by e.updated desc limit 5`, field); err != nil {
			return nil, 0, err
		}
	}
	if present = len(ids); present > 0 {
		return ids, present, nil
	}
	for _, field := range slugFields {
		if err = collect(`select entry from revision where environment = $1 and fields ->> $3 = $2 group by entry
			order by max(at) desc limit 5`, field); err != nil {
			return nil, 0, err
		}
	}
	return ids, 0, nil
}

// maxSlugs bounds the slugs that are looked through for near ones.
const maxSlugs = 200_000

// NearSlugs returns the entries whose slugs are nearest to one, at most three.
func (es *Entries) NearSlugs(ctx context.Context, slug string) ([]why.Near, error) {
	slug = slug[strings.LastIndexByte(slug, '/')+1:]
	rows, err := es.db.Conns(ctx).Query(ctx, `select distinct on (entry) entry, type, slug from document
		where environment = $1 and edition = 'preview' and slug is not null and abs(length(slug) - $2) <= $3 order
		by entry limit $4`, es.environment, len(slug), len(slug)/3+2, maxSlugs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	type candidate struct {
		why.Near
		distance int
	}
	var found []candidate
	for rows.Next() {
		var c candidate
		if err := rows.Scan(&c.ID, &c.Type, &c.Slug); err != nil {
			return nil, err
		}
		if c.distance = levenshtein.ComputeDistance(slug, c.Slug); c.distance <= len(slug)/3+1 ||
			strings.Contains(c.Slug, slug) && len(slug) > 3 {
			found = append(found, c)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	slices.SortFunc(found, func(a, b candidate) int { return a.distance - b.distance })
	var out []why.Near
	for _, c := range found[:min(3, len(found))] {
		if err := es.db.Conns(ctx).QueryRow(ctx, `select title from entry where environment = $1 and id =
			$2`, es.environment, c.ID).Scan(&c.Title); err != nil {
			return nil, err
		}
		out = append(out, c.Near)
	}
	return out, nil
}

// ShownDocument is what readers of an edition and a locale get of an entry.
type ShownDocument struct {
	Slug, Path string
	// Locales are those that it is written in.
	Locales []string
}

// DocumentOf returns what readers of an edition and a locale get of an entry; nil
// if they get nothing.
func (es *Entries) DocumentOf(ctx context.Context, id, edition, locale string) (*ShownDocument, error) {
	var out ShownDocument
	err := es.db.Conns(ctx).
		QueryRow(ctx, `select coalesce(slug, ''), coalesce(path, ''), array(select jsonb_array_elements_text(about
			-> 'locales')) from document
		where environment = $1 and entry = $2 and edition = $3 and locale = $4`, es.environment, id, edition, locale).
		Scan(&out.Slug, &out.Path, &out.Locales)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return &out, err
}

// StoredDocument is a document as filters see it.
type StoredDocument struct {
	ID, Type string
	Fields   map[string]any
	About    map[string]any
}

// StoredDocuments returns what readers of an edition and a locale get of the
// entries with some ids; or, with a field, of those of the types whose field
// refers to one of them.
func (es *Entries) StoredDocuments(
	ctx context.Context, edition, locale string, ids []string, field string, types []string,
) ([]StoredDocument, error) {
	condition := `entry = any($4) and ($6 = '' and $5::text[] is null or type = any($5))`
	if field != "" {
		condition = `type = any($5) and links <> '{}' and links && (select array_agg($6 || '/' || id) from
			unnest($4::text[]) as n (id))`
	}
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select entry, type, fields, about from document where environment = $1 and edition = $2 and
			locale = $3 and `+condition+` limit 1000`,
			es.environment, edition, locale, ids, types, field)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[StoredDocument])
}

// Reference is a link from what readers get of an entry.
type Reference struct {
	Field, ID, Type, Title, Origin string
	// Shown is true when readers of the same edition and locale get it too.
	Shown bool
}

// ReferencesOf returns where an entry leads to, as readers of an edition and a
// locale get it.
func (es *Entries) ReferencesOf(ctx context.Context, id, edition, locale string) ([]Reference, error) {
	rows, err := es.db.Conns(ctx).Query(ctx, `select split_part(l, '/', 1), t.id, t.type, t.title, t.origin,
			exists (select from document o where o.environment = t.environment and o.entry = t.id and o.edition =
			d.edition and o.locale = d.locale)
		from document d, unnest(d.links) l join entry t on t.environment = $1 and t.id = split_part(l, '/', 2) and
		t.revision > 0
		where d.environment = $1 and d.entry = $2 and d.edition = $3 and d.locale = $4 order by 1, 4,
		2`, es.environment, id, edition, locale)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Reference])
}

// LastChange returns the entry's newest change in an edition; with what not
// empty, the newest of that kind. Its error is ErrNotFound if there was none.
func (es *Entries) LastChange(ctx context.Context, id, edition, what string) (content.Change, error) {
	c, err := changelog.ScanChange(
		es.db.Conns(ctx).
			QueryRow(ctx, `select `+changelog.ChangeColumns+` from change where environment = $1 and entry = $2 and
				edition = $3 and ($4 = '' or what = $4)
		order by sequence desc limit 1`, es.environment, id, edition, what),
	)
	if errors.Is(err, pgx.ErrNoRows) {
		err = db.ErrNotFound
	}
	return c, err
}

// LastRefusal returns when an announcement of an origin was last refused, and
// why; nil for never.
func (es *Entries) LastRefusal(ctx context.Context, origin string) (*time.Time, string, error) {
	var at time.Time
	var detail string
	err := es.db.Conns(ctx).
		QueryRow(ctx, `select received, detail from event where environment = $1 and origin = $2 and state =
			'refused' order by received desc limit 1`, es.environment, origin).
		Scan(&at, &detail)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, "", nil
	}
	return &at, detail, err
}

// PathsShowing returns where the entries live that show another one, itself
// first: title and path of each.
func (es *Entries) PathsShowing(ctx context.Context, id, edition, locale string, links []string) ([]why.Near, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select d.entry, d.type, coalesce(d.slug, ''), e.title, d.path from document d join entry e on
			e.environment = d.environment and e.id = d.entry
		where d.environment = $1 and d.edition = $3 and d.locale = $4 and d.path is not null and (d.entry = $2 or
		d.links <> '{}' and d.links && $5)
		order by d.entry = $2 desc, d.path limit 20`, es.environment, id, edition, locale, links)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[why.Near])
}

// CountsByEdition says how many entries of each type each edition has.
func (es *Entries) CountsByEdition(ctx context.Context) (map[string]map[string]int, error) {
	rows, err := es.db.Conns(ctx).
		Query(ctx, `select type, count(*) filter (where published_revision > 0), count(*) from entry
		where environment = $1 and revision > 0 and retired is null and not withheld group by type`, es.environment)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]map[string]int{}
	for rows.Next() {
		var typ string
		var published, all int
		if err := rows.Scan(&typ, &published, &all); err != nil {
			return nil, err
		}
		out[typ] = map[string]int{content.Published: published, content.Preview: all}
	}
	return out, rows.Err()
}
