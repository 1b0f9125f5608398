// Package reading executes compiled reads with a constant number of statements, all in one
// snapshot.
package reading

import (
	"context"
	"log/slog"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/memo"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/clause"
	"ubiquon/internal/store/db"
)

// Reader executes compiled reads. It is safe for concurrent use.
type Reader struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
	log         *slog.Logger
}

// New returns the reader of an environment.
func New(d *db.DB, environment string, changes *changelog.Log, log *slog.Logger) *Reader {
	return &Reader{d, environment, changes, log}
}

// Read answers the query from one snapshot. The model is the one that the query
// was compiled with; another version in the database gives ErrModelMoved.
//
// Every selection is one statement, however many entries it is for, and all
// statements of one depth travel together. A query that is one statement anyhow
// needs no transaction around it to see one snapshot.
// A result that would take more than most bytes is query.ErrTooLarge.
func (rd *Reader) Read(ctx context.Context, version int64, q *query.Query, most int) (*query.Result, error) {
	ctx = db.For(ctx, db.Reading)
	res := &query.Result{MostBytes: most, Roots: make([]query.RootResult, len(q.Roots))}
	if q.ShowsDrafts() {
		res.Good = picture.DraftAddressesFor
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	budget := &bytesLeft{left: most + most/4 + 64<<10, stop: cancel} // what is read is not quite what is shown
	var all []statement
	deeper, past := false, false
	for i := range q.Roots {
		own := rd.rootStatements(q, i, &res.Roots[i])
		if root := &q.Roots[i]; root.Revision > 0 {
			if err := rd.atRevision(ctx, q, root, &own[0], res); err != nil {
				return nil, err
			}
			past = true
		}
		all = append(all, own...)
		deeper = deeper || hasLinks(&q.Roots[i].Selection)
	}
	all = append(all, rd.deadlineStatements(q, res)...)
	for i := range all {
		budget.watch(&all[i])
	}
	if len(all) == 1 && !deeper && !past {
		if found, err := rd.readAtOnce(ctx, all[0], res); err != nil || found {
			forwards(q, res)
			return checked(res, version, budget.error(err))
		}
	}
	err := rd.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Exec(`begin isolation level repeatable read read only`)
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&res.Sequence, &res.ModelVersion) },
			`select coalesce((select sequence from change where environment = $1 order by sequence desc limit 1),
				0), model_version from environment where name = $1`,
			rd.environment,
		)
		for _, st := range all {
			st.queue(&b)
		}
		if !deeper {
			b.Exec(`commit`)
		}
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		if int64(res.ModelVersion) != version {
			return db.ErrModelMoved
		}
		forwards(q, res)
		var next []*linkRead
		for i := range q.Roots {
			next = collectLinks(next, localeOf(&q.Roots[i], &res.Roots[i]), &q.Roots[i].Selection, res.Roots[i].Rows)
		}
		return rd.readLinks(ctx, conn, q, next, budget)
	})
	return checked(res, version, budget.error(err))
}

// readLinks reads what references lead to, all of one depth in one round trip, and commits
// with the last.
func (rd *Reader) readLinks(
	ctx context.Context, conn *pgxpool.Conn, q *query.Query, next []*linkRead, budget *bytesLeft,
) error {
	for len(next) > 0 {
		var b db.Batch
		deeper := false
		for _, l := range next {
			for _, st := range l.statements(rd, q) {
				budget.watch(&st)
				st.queue(&b)
			}
			deeper = deeper || hasLinks(l.selection)
		}
		if !deeper {
			b.Exec(`commit`)
		}
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		var after []*linkRead
		for _, l := range next {
			l.attach()
			after = collectLinks(after, l.locale, l.selection, l.rows())
		}
		next = after
	}
	return nil
}

// localeOf is the locale that a root's rows are in.
func localeOf(root *query.Root, found *query.RootResult) string {
	if root.Locale != "" {
		return root.Locale
	}
	return found.Locale
}

// forwards puts the rows of lists that were read from their end into order.
func forwards(q *query.Query, res *query.Result) {
	for i := range q.Roots {
		if q.Roots[i].Backwards() {
			slices.Reverse(res.Roots[i].Rows)
		}
	}
}

func checked(res *query.Result, version int64, err error) (*query.Result, error) {
	if err == nil && int64(res.ModelVersion) != version {
		err = db.ErrModelMoved
	}
	if err != nil {
		return nil, err
	}
	return res, nil
}

// statement is a select whose rows go to each, as they come from the wire.
type statement struct {
	columns string // between select and from
	rest    string // from and what follows
	args    []any
	each    func(raw [][]byte) error
	// text is the whole of it, and atOnce the whole with the stamp, if it was put together before.
	text, atOnce string
}

// template is a statement that is the same each time; take says what takes its rows.
type template struct {
	statement
	take func(out *query.RootResult) func(raw [][]byte) error
}

func newTemplate(
	columns []string, rest string, args []any, take func(out *query.RootResult) func(raw [][]byte) error,
) template {
	c := strings.Join(columns, ", ")
	return template{statement{
		columns: c, rest: rest, args: args, text: "select " + c + rest, atOnce: "select " + c + ", " + stamp + rest,
	}, take}
}

// bytesLeft is what the rows of a read may still take.
type bytesLeft struct {
	left int
	stop func() // ends the statements
}

// error is query.ErrTooLarge if that is why the statements were ended.
func (b *bytesLeft) error(err error) error {
	if err != nil && b.left < 0 {
		return query.ErrTooLarge
	}
	return err
}

// watch has the statement fail with query.ErrTooLarge when its rows take more than is
// left. A row counts with the memory that it takes beside its values.
func (b *bytesLeft) watch(st *statement) {
	const each = 100
	next := st.each
	st.each = func(raw [][]byte) error {
		size := each
		for _, v := range raw {
			size += len(v)
		}
		if b.left -= size; b.left < 0 {
			b.stop()
			return query.ErrTooLarge
		}
		return next(raw)
	}
}

func (st statement) queue(b *db.Batch) {
	if st.text == "" {
		st.text = "select " + st.columns + st.rest
	}
	b.Query(func(rows pgx.Rows) error { return st.each(rows.RawValues()) }, st.text, st.args...)
}

// stamp is where the log and the model are, as one more column of a statement.
const stamp = `(select (select sequence from change where environment = $1 order by sequence desc limit 1) || ' ' ||
	model_version from environment where name = $1)`

// readAtOnce runs a statement that brings the end of the log and the model's
// version along with its rows. Without rows it brings nothing: then found is
// false, and the statement is run again beside one that asks for them.
func (rd *Reader) readAtOnce(ctx context.Context, st statement, res *query.Result) (found bool, err error) {
	sql := st.atOnce
	if sql == "" {
		sql = "select " + st.columns + ", " + stamp + st.rest
	}
	if t := db.TraceOf(ctx); t != nil {
		defer t.Began(sql, st.args)()
	}
	rows, err := rd.db.Conns(ctx).Query(ctx, sql, st.args...)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for rows.Next() {
		raw := rows.RawValues()
		n := len(raw) - 1
		if !found {
			found = true
			sequence, version, _ := strings.Cut(string(raw[n]), " ")
			if res.Sequence, err = strconv.ParseInt(sequence, 10, 64); err != nil {
				return true, err
			}
			if res.ModelVersion, err = strconv.Atoi(version); err != nil {
				return true, err
			}
		}
		if err := st.each(raw[:n]); err != nil {
			return true, err
		}
	}
	return found, rows.Err()
}

// rootStatements returns what answers a root: one statement, and before it
// another one if the list is to be counted. The environment is the first
// argument of each.
func (rd *Reader) rootStatements(q *query.Query, i int, out *query.RootResult) []statement {
	root := &q.Roots[i]
	switch root.By {
	case query.ByPath:
		return rd.pathStatements(q, root, out)
	case query.ByPaths:
		return pathsStatements(rd.environment, q.Edition, root, out)
	}
	templates := memo.Of(q.Memo, rootKey(i), func() []template { return rd.rootTemplates(q, root) })
	all := make([]statement, len(templates))
	for i := range templates {
		all[i] = templates[i].statement
		all[i].each = templates[i].take(out)
	}
	return all
}

// rootKey is under what the templates of a root are kept.
type rootKey int

func (rd *Reader) rootTemplates(q *query.Query, root *query.Root) []template {
	r := newReader(&root.Selection, root.Type)
	var args clause.Params
	where := " where environment = " + args.Add(rd.environment, "")
	if root.Type != "" {
		where = clause.WhereType(rd.environment, root.Type)
	}
	where += " and edition = " + args.Add(q.Edition, "") + " and locale = " + args.Add(root.Locale, "")
	switch root.By {
	case query.BySlug:
		where += " and slug = " + args.Add(root.Value, "")
	case query.ByID:
		where += " and entry = " + args.Add(root.Value, "")
	case query.BySingle:
		where += " order by entry limit 1"
	case query.ByList:
		return listTemplates(rd.environment, root, r, where, args)
	}
	return []template{newTemplate(
		r.columns, " from document"+where, args, func(out *query.RootResult) func([][]byte) error {
			r := r.fresh()
			return func(raw [][]byte) error {
				out.Rows = append(out.Rows, r.row(raw))
				return nil
			}
		},
	)}
}

// pathStatements finds the entry at a path, in the root's locale or in whichever
// has it, and where the one lives now that lived there before.
func (rd *Reader) pathStatements(q *query.Query, root *query.Root, out *query.RootResult) []statement {
	r := newReader(&root.Selection, "")
	locale := r.column("locale")
	args := []any{rd.environment, q.Edition, root.Value, out.LookedIn(root)}
	return []statement{
		{
			columns: strings.Join(r.columns, ", "),
			rest: " from document where environment = $1 and edition = $2 and path = $3 and locale = any($4::text[]) " +
				"order by array_position($4::text[], locale) limit 1",
			args: args,
			each: func(raw [][]byte) error {
				out.Rows, out.Locale = append(out.Rows, r.row(raw)), string(raw[locale])
				return nil
			},
		},
		{
			columns: "f.entry, f.locale, d.path, d.type",
			rest: " from former_path f left join document d on d.environment = f.environment and d.edition = $2 and " +
				"d.entry = f.entry and d.locale = f.locale" +
				" where f.environment = $1 and f.path = $3 and f.locale = any($4::text[]) order by f.since desc, " +
				"f.locale limit 100",
			args: args,
			each: func(raw [][]byte) error {
				if out.MovedTo == "" {
					// One that lives nowhere now may come back.
					out.Formerly = append(out.Formerly, query.Former{Entry: string(raw[0]), Locale: string(raw[1])})
					out.MovedTo, out.MovedLocale, out.MovedType = string(raw[2]), string(raw[1]), string(raw[3])
				}
				return nil
			},
		},
	}
}

// pathsStatements lists where entries live, locale by locale: as the index of
// paths has them.
func pathsStatements(environment, edition string, root *query.Root, out *query.RootResult) []statement {
	from := ""
	args := []any{environment, edition, root.Locales, root.Types, root.Limit + root.Past()}
	if root.After != nil {
		from = " and (locale, path) > ($6, $7)"
		args = append(args, *root.After.Values[0], *root.After.Values[1])
	}
	return []statement{
		{
			columns: "entry, type, locale, path, about ->> 'updated'",
			rest: " from document where environment = $1 and edition = $2 and locale = any($3::text[]) and path is not " +
				"null and type = any($4::text[]) and about -> 'locales' ? locale" +
				from + " order by locale, path limit $5",
			args: args,
			each: func(raw [][]byte) error {
				row := query.PathRow{
					Entry:   string(raw[0]),
					Type:    string(raw[1]),
					Locale:  string(raw[2]),
					Path:    string(raw[3]),
					Updated: string(raw[4]),
				}
				if len(out.Paths) == root.Limit {
					out.More, out.PastPaths = true, append(out.PastPaths, row)
					return nil
				}
				out.Paths = append(out.Paths, row)
				return nil
			},
		},
	}
}
