package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
)

// EntryInfo is an entry as those who run the service see it.
type EntryInfo struct {
	content.Entry
	Title   string        `json:"title"`
	State   content.State `json:"state"`
	Locales []string      `json:"locales"` // with a preview document
}

// EntryFilter narrows ListEntries; empty parts do not.
type EntryFilter struct {
	Type, Origin string
	State        content.State
	// Search is looked for in title, slug and id, whatever the case.
	Search        string
	Limit, Offset int
}

const entryInfo = `select ` + entryColumns + `, e.title, array(select d.locale from document d
	where d.environment = e.environment and d.edition = 'preview' and d.entry = e.id order by d.locale) from entry e`

func scanInfo(r pgx.Row) (EntryInfo, error) {
	var i EntryInfo
	err := r.Scan(append(entryTargets(&i.Entry), &i.Title, &i.Locales)...)
	i.State = i.Entry.State()
	return i, err
}

// ListEntries returns entries, those saved last first, and how many there are
// in all.
func (s *Store) ListEntries(ctx context.Context, f EntryFilter) ([]EntryInfo, int, error) {
	const where = ` where e.environment = $1 and e.revision > 0 and ($2 = '' or e.type = $2) and ($3 = '' or e.origin = $3)
		and ($4 = '' or $4 = case when e.published_revision = 0 then 'draft' when e.published_revision = e.revision then 'published' else 'revised' end)
		and ($5 = '' or position(lower($5) in lower(e.title)) > 0 or e.id = $5 or exists (select from document d
			where d.environment = e.environment and d.entry = e.id and d.slug = $5))`
	args := []any{s.Environment, f.Type, f.Origin, string(f.State), f.Search}
	var total int
	if err := s.Pool.QueryRow(ctx, `select count(*) from entry e`+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	rows, err := s.Pool.Query(ctx, entryInfo+where+` order by e.updated desc, e.id limit $6 offset $7`, append(args, f.Limit, f.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (EntryInfo, error) { return scanInfo(r) })
	return out, total, err
}

// Entry returns one entry with its newest revisions, the newest first, at most
// fifty. Its error is ErrNotFound if there is none.
func (s *Store) Entry(ctx context.Context, id string) (EntryInfo, []content.Revision, error) {
	info, err := scanInfo(s.Pool.QueryRow(ctx, entryInfo+` where e.environment = $1 and e.id = $2`, s.Environment, id))
	if errors.Is(err, pgx.ErrNoRows) {
		return info, nil, fmt.Errorf("entry %s: %w", id, ErrNotFound)
	}
	if err != nil {
		return info, nil, err
	}
	rows, err := s.Pool.Query(ctx, `select number, at, by, fields from revision where environment = $1 and entry = $2 order by number desc limit 50`, s.Environment, id)
	if err != nil {
		return info, nil, err
	}
	revisions, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Revision, error) {
		var v content.Revision
		err := r.Scan(&v.Number, &v.At, &v.By, &v.Fields)
		return v, err
	})
	return info, revisions, err
}

// EntryIDs returns the ids of an origin's entries of one type.
func (s *Store) EntryIDs(ctx context.Context, origin, typ string) (map[string]string, error) {
	rows, err := s.Pool.Query(ctx, `select id, origin_key from entry where environment = $1 and origin = $2 and type = $3 and revision > 0`, s.Environment, origin, typ)
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
func (s *Store) EntryChanges(ctx context.Context, id string) ([]content.Change, error) {
	rows, err := s.Pool.Query(ctx, `select `+changeColumns+` from change where environment = $1 and entry = $2 order by sequence desc limit 20`, s.Environment, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return scanChange(r) })
}

// LastPublished returns the entry's newest change in the published edition,
// ErrNotFound if there was none.
func (s *Store) LastPublished(ctx context.Context, id string) (content.Change, error) {
	c, err := scanChange(s.Pool.QueryRow(ctx, `select `+changeColumns+` from change where environment = $1 and entry = $2 and edition = 'published'
		order by sequence desc limit 1`, s.Environment, id))
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("a change of entry %s: %w", id, ErrNotFound)
	}
	return c, err
}

// Counts says how many entries of each type there are.
func (s *Store) Counts(ctx context.Context) (map[string]int, error) {
	rows, err := s.Pool.Query(ctx, `select type, count(*) from entry where environment = $1 and revision > 0 group by type`, s.Environment)
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
