package accounts

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/store/db"
)

// Views are lists that people have kept under a name, for everybody in the environment. It is
// safe for concurrent use.
type Views struct {
	db          *db.DB
	environment string
}

// NewViews returns the views of an environment.
func NewViews(d *db.DB, environment string) *Views { return &Views{d, environment} }

// maxViews bounds how many views an environment has.
const maxViews = 1000

// List returns all of them, by page and name.
func (vs *Views) List(ctx context.Context) ([]api.SavedView, error) {
	rows, err := vs.db.Conns(ctx).Query(ctx, `select id, page, name, query, by, saved from saved_view
		where environment = $1 order by page, name`, vs.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.SavedView])
}

// Save keeps a view, in place of the one of its page and name. Its error is an
// *api.BadParameterError when there are too many.
func (vs *Views) Save(ctx context.Context, v api.SavedView) (api.SavedView, error) {
	var n int
	err := vs.db.Conns(ctx).QueryRow(ctx, `select count(*) from saved_view where environment = $1`, vs.environment).
		Scan(&n)
	if err == nil && n >= maxViews {
		err = api.BadParameter("name", "there are %d saved views already, as many as are kept; remove one first", n)
	}
	if err != nil {
		return v, err
	}
	err = vs.db.Conns(ctx).QueryRow(ctx, `insert into saved_view (environment, id, page, name, query, by)
		values ($1, $2, $3, $4, $5, $6) on conflict (environment, page, name) do update set query = excluded.query,
		by = excluded.by, saved = clock_timestamp() returning id, saved`,
		vs.environment, strings.ToLower(rand.Text()[:8]), v.Page, v.Name, v.Query, v.By).Scan(&v.ID, &v.Saved)
	return v, err
}

// Remove removes a view. Its error is db.ErrNotFound when there is none.
func (vs *Views) Remove(ctx context.Context, id string) error {
	tag, err := vs.db.Conns(ctx).Exec(ctx, `delete from saved_view where environment = $1 and id = $2`, vs.environment, id)
	if err == nil && tag.RowsAffected() == 0 {
		return fmt.Errorf("saved view %q: %w", id, db.ErrNotFound)
	}
	return err
}
