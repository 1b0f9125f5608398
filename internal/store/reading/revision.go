package reading

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
)

// renderRevision lays out a revision of an entry as preview would show it if it were
// the newest, and has the root read that. Nothing is found of an entry that is
// retired, or not for readers yet.
func (rd *Reader) renderRevision(
	ctx context.Context, edition string, root *query.Root,
) (statement string, args []any, err error) {
	m, _, err := rd.changes.Model(ctx)
	if err != nil {
		return "", nil, err
	}
	var typ string
	var fields content.Fields
	about := content.About{Revision: root.Revision}
	err = rd.db.Conns(ctx).
		QueryRow(ctx, `select e.type, e.first_published, e.published, r.at, r.fields from entry e join revision r on
			r.environment = e.environment and r.entry = e.id
		where e.environment = $1 and e.id = $2 and r.number = $3 and e.retired is null and not
		e.withheld`, rd.environment, root.Value, root.Revision).
		Scan(&typ, &about.FirstPublished, &about.Published, &about.Updated, &fields)
	t := m.Type(typ)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && t == nil {
		return " from document where false", nil, nil
	}
	if err != nil {
		return "", nil, err
	}
	// Once to learn whose paths it shows, and once with them.
	paths, asked := map[string]string{}, []string{}
	around := content.RenderContext{Find: func(_, _, id string) (string, bool) {
		asked = append(asked, id)
		path, visible := paths[id]
		return path, visible
	}}
	content.Documents(m, t, edition, root.Value, fields, about, &around)
	rows, err := rd.db.Conns(ctx).
		Query(ctx, `select entry, coalesce(path, '') from document where environment = $1 and edition = $2 and
			locale = $3 and entry = any($4)`, rd.environment, edition, root.Locale, asked)
	if err != nil {
		return "", nil, err
	}
	var id, path string
	if _, err := pgx.ForEachRow(rows, []any{&id, &path}, func() error { paths[id] = path; return nil }); err != nil {
		return "", nil, err
	}
	doc, readable := content.Documents(m, t, edition, root.Value, fields, about, &around)[root.Locale]
	if !readable {
		return " from document where false", nil, nil
	}
	laidOut, err := json.Marshal(doc.Fields)
	if err != nil {
		return "", nil, err
	}
	said, err := json.Marshal(doc.About)
	return " from (select $1::text as entry, $2::text as type, $3::jsonb as fields, $4::jsonb as about) document", []any{
		root.Value, t.Name, string(laidOut), string(said),
	}, err
}

// atRevision has the statement of a root read a revision of the entry.
func (rd *Reader) atRevision(
	ctx context.Context, q *query.Query, root *query.Root, st *statement, res *query.Result,
) (err error) {
	st.text = ""
	st.rest, st.args, err = rd.renderRevision(ctx, q.Edition, root)
	// What it was made of is more than is noted: others' paths. It is not kept.
	res.Good = 1
	return err
}
