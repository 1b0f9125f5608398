package entries

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
	"ubiquon/internal/store/db"
)

// indexPrefix begins the names of the indexes that models ask for.
const indexPrefix = "document_by_"

// indexesOf returns the statements that make the indexes which the model of an environment
// asks for, by the indexes' names. Another environment may have fields of other kinds under the
// same names, so each index is for one environment. A list is in an index in either direction, since what has
// no value comes last in both; lists of values are found by what they contain.
func indexesOf(environment string, m *model.Model) map[string]string {
	out := map[string]string{}
	add := func(t *model.Type, using string) {
		sum := sha256.Sum256([]byte(environment + " " + t.Name + " " + using))
		name := indexPrefix + hex.EncodeToString(sum[:8])
		out[name] = "create index concurrently " + name + " on document using " + using +
			" where" + strings.TrimPrefix(clause.InType(environment, t.Name), " and")
	}
	for _, t := range m.Types {
		for _, f := range t.Fields {
			switch {
			case !f.Indexed:
			case f.Several:
				add(t, "gin ((coalesce(fields -> "+clause.Quote(f.Name)+", '[]')) jsonb_path_ops)")
			case !f.Sortable(): // a reference
				add(t, "btree (edition, locale, ((fields ->> "+clause.Quote(f.Name)+`) collate "C"))`)
			default:
				for _, descending := range []bool{false, true} {
					expression, _, _ := clause.SortColumn(query.Sort{By: f.Name, Kind: f.Kind})
					add(
						t,
						"btree (edition, locale, ("+expression+")"+clause.Direction(
							descending, false,
						)+", entry)",
					)
				}
			}
		}
	}
	return out
}

// KeepIndexes makes the indexes that the models of this database ask for and drops
// those that none asks for any more, without holding up readers or writers. It does
// nothing, and returns false, while another node is at it. Told, if not nil, hears
// of each step before it is taken.
func (es *Entries) KeepIndexes(ctx context.Context, told func(string)) (done bool, err error) {
	conn, err := es.db.Conns(ctx).Acquire(ctx)
	if err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	defer conn.Release()
	// Nobody waits for this lock: who waits in a statement has a snapshot, and
	// making an index waits for those.
	var mine bool
	if err := conn.QueryRow(ctx, `select pg_try_advisory_lock($1)`, db.LockIndexes).Scan(&mine); err != nil || !mine {
		return false, err
	}
	defer conn.Exec(context.WithoutCancel(ctx), `select pg_advisory_unlock($1)`, db.LockIndexes)
	rows, err := conn.Query(ctx, `select name, model from environment where model is not null`)
	if err != nil {
		return false, err
	}
	models := map[string][]byte{}
	var environment string
	var src []byte
	if _, err := pgx.ForEachRow(rows, []any{&environment, &src}, func() error {
		models[environment] = slices.Clone(src)
		return nil
	}); err != nil {
		return false, err
	}
	wanted := map[string]string{}
	for environment, src := range models {
		m, err := model.FromJSON(src)
		if err != nil {
			return false, err
		}
		maps.Copy(wanted, indexesOf(environment, m))
	}
	rows, err = conn.Query(
		ctx,
		`select c.relname, i.indisvalid from pg_index i join pg_class c on c.oid = i.indexrelid where i.indrelid =
			'document'::regclass and starts_with(c.relname, $1)`,
		indexPrefix,
	)
	if err != nil {
		return false, err
	}
	var name string
	var valid bool
	held := map[string]bool{}
	if _, err := pgx.ForEachRow(rows, []any{&name, &valid},
		func() error { held[name] = valid; return nil }); err != nil {
		return false, err
	}
	run := func(sql string) error {
		if told != nil {
			told(sql)
		}
		return conn.Conn().PgConn().Exec(ctx, sql).Close()
	}
	for _, name := range slices.Sorted(maps.Keys(held)) {
		// One that is not valid was given up half-way.
		if wanted[name] == "" || !held[name] {
			if err := run("drop index concurrently if exists " + name); err != nil {
				return false, err
			}
			delete(held, name)
		}
	}
	made := false
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if !held[name] {
			made = true
			if err := run(wanted[name]); err != nil {
				return false, indexError(err)
			}
		}
	}
	if made {
		// The planner knows nothing yet of the values that are in them.
		err = run("analyze document")
	}
	return true, err
}

func indexError(err error) error {
	if refused, ok := err.(*pgconn.PgError); ok && refused.Code == "54000" {
		return fmt.Errorf("an indexed field has a value that is too long for an index (about 2,700 bytes): %w", err)
	}
	return err
}
