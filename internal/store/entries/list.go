package entries

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/store/clause"
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

// sorts are the orders that entries are listed in.
var sorts = map[string]string{
	"title": `e.title collate "und-x-icu"`, "type": "e.type", "origin": "e.origin", "updated": "e.updated",
	"published": "e.published",
}

// Sorts names the orders that entries are listed in; each also with - before it, for
// descending.
func Sorts() []string { return slices.Sorted(maps.Keys(sorts)) }

// List returns entries in the order that f asks for, and how many there are in all. The
// filter, if there is one, is on drafts of f.Type in f.Locale. Files are listed only where they are asked for.
func (es *Entries) List(
	ctx context.Context, f api.EntryFilter, drafts *filter.Filter,
) ([]api.EntryInfo, int, error) {
	where := ` where e.environment = $1 and e.revision > 0 and ($2 = '' or e.type = $2) and ($3 = '' or
		e.origin = $3)
		and case when $4 = '' then e.retired is null else $4 = ` + stateOf + ` end
		and ($5 = '' or position(lower($5) in lower(e.title)) > 0 or e.id = $5 or exists (select from document d
			where d.environment = e.environment and d.entry = e.id and d.slug = $5))
		and ($6 = '' or not exists (select from document d where d.environment = e.environment and d.edition =
		'preview' and d.entry = e.id and d.locale = $6
			and ` + translation + ` = 'translated'))
		and ($7 = '' or exists (select from document d, unnest(d.links) l where d.environment = e.environment and
		d.entry = e.id and d.links <> '{}' and substr(l, strpos(l, '/') + 1) = $7))
		and (e.type <> 'file' or $2 = 'file' or $8::text[] is not null)
		and ($8::text[] is null or e.id = any($8)) and ($9::text[] is null or e.type = any($9))`
	args := clause.Params{
		es.environment, f.Type, f.Origin, string(f.State), f.Search, f.Missing, f.RefersTo, f.IDs, f.Types,
	}
	if len(f.AnyType) > 0 {
		where += " and e.type = any(" + args.Add(f.AnyType, "text[]") + ")"
	}
	if drafts != nil {
		where += ` and exists (select from document d where d.environment = e.environment and d.edition = 'preview'
			and d.entry = e.id and d.locale = ` + args.Add(f.Locale, "text")
		c := clause.Condition{Args: &args}
		where += " and (" + c.Expr(drafts.Expr, "d") + "))"
	}
	by, descending := strings.CutPrefix(cmp.Or(f.Sort, "-updated"), "-")
	column, ok := sorts[by]
	if !ok {
		return nil, 0, fmt.Errorf("entries: no order %q", f.Sort)
	}
	if descending {
		column += " desc nulls last"
	}
	var total int
	if err := es.db.Conns(ctx).QueryRow(ctx, `select count(*) from entry e`+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	rows, err := es.db.Conns(ctx).Query(ctx, entryInfo+where+` order by `+column+`, e.id limit `+
		args.Add(f.Limit, "")+` offset `+args.Add(f.Offset, ""), args...)
	if err != nil {
		return nil, 0, err
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.EntryInfo, error) { return scanInfo(r) })
	return out, total, err
}
