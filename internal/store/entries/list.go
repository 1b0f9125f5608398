package entries

import (
	"context"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/store/writing"
)

// How much of an entry is translated.
const (
	Translated = "translated"
	Partly     = "partly"
	FilledIn   = "filled in"
)

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

func scanInfo(r pgx.Row) (api.EntryInfo, error) {
	var i api.EntryInfo
	err := r.Scan(append(writing.EntryTargets(&i.Entry), &i.Title, &i.State, &i.Locales, &i.Live, &i.Next)...)
	return i, err
}

// List returns entries, those saved last first, and how many there are
// in all.
func (es *Entries) List(ctx context.Context, f api.EntryFilter) ([]api.EntryInfo, int, error) {
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
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.EntryInfo, error) { return scanInfo(r) })
	return out, total, err
}
