// Package files keeps which bytes there are of files, which pictures have been made of them, and
// who uses them. The bytes themselves are elsewhere; what is said of files are entries.
package files

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

// Files is the records of one environment's files. It is safe for concurrent use.
type Files struct {
	db          *db.DB
	environment string
}

// New returns the records of an environment's files.
func New(d *db.DB, environment string) *Files { return &Files{d, environment} }

// Blob is bytes that are kept.
type Blob struct {
	Hash  string
	Bytes int64
	// Facts are what the bytes tell: the fields of files that follow them, and for the renderer
	// turned and profiled.
	Facts content.Fields
}

// Put notes that bytes are kept, and puts off that they are collected.
func (fs *Files) Put(ctx context.Context, b Blob) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `insert into blob (environment, hash, bytes, facts) values ($1, $2, $3, $4)
		on conflict (environment, hash) do update set seen = clock_timestamp(), facts = excluded.facts`,
		fs.environment, b.Hash, b.Bytes, b.Facts)
	return err
}

// Blob returns what is known of bytes. Its error is db.ErrNotFound if they are not kept.
func (fs *Files) Blob(ctx context.Context, hash string) (Blob, error) {
	b := Blob{Hash: hash}
	err := fs.db.Conns(ctx).QueryRow(ctx, `select bytes, facts from blob where environment = $1 and hash = $2`,
		fs.environment, hash).Scan(&b.Bytes, &b.Facts)
	if errors.Is(err, pgx.ErrNoRows) {
		err = db.ErrNotFound
	}
	return b, err
}

// Touch puts off that bytes are collected.
func (fs *Files) Touch(ctx context.Context, hash string) error {
	_, err := fs.db.Conns(ctx).
		Exec(ctx, `update blob set seen = clock_timestamp() where environment = $1 and hash = $2`,
			fs.environment, hash)
	return err
}

// IsPublished tells whether readers can see a file with these bytes.
func (fs *Files) IsPublished(ctx context.Context, hash string) (is bool, err error) {
	err = fs.db.Conns(ctx).QueryRow(ctx, `select exists (select from document where environment = $1 and type = 'file'
		and fields ->> 'hash' = $2 and edition = 'published')`, fs.environment, hash).Scan(&is)
	return is, err
}

// UsedBytes is how much all bytes take that are kept.
func (fs *Files) UsedBytes(ctx context.Context) (n int64, err error) {
	err = fs.db.Conns(ctx).QueryRow(ctx, `select coalesce(sum(bytes), 0) from blob where environment = $1`,
		fs.environment).Scan(&n)
	return n, err
}

// All calls each for all bytes that are kept.
func (fs *Files) All(ctx context.Context, each func(Blob) error) error {
	for last := ""; ; {
		rows, err := fs.db.Conns(ctx).
			Query(ctx, `select hash, bytes, facts from blob where environment = $1 and hash > $2
			order by hash limit 500`, fs.environment, last)
		if err != nil {
			return err
		}
		some, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Blob])
		if err != nil || len(some) == 0 {
			return err
		}
		for _, b := range some {
			if err := each(b); err != nil {
				return err
			}
		}
		last = some[len(some)-1].Hash
	}
}

// Known tells which of the hashes are noted here.
func (fs *Files) Known(ctx context.Context, hashes []string) (map[string]bool, error) {
	rows, err := fs.db.Conns(ctx).Query(ctx, `select distinct hash from blob where hash = any($1)`, hashes)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	out := map[string]bool{}
	for _, h := range all {
		out[h] = true
	}
	return out, err
}

// Forget takes away the notes of up to n bytes that no revision of a file has, and that nobody
// uploaded since then. Who has just written a file with such bytes has locked them.
func (fs *Files) Forget(ctx context.Context, since time.Time, n int) ([]string, error) {
	rows, err := fs.db.Conns(ctx).Query(ctx, `delete from blob where environment = $1 and hash in (
		select b.hash from blob b where b.environment = $1 and b.seen < $2 and not exists (
			select from entry e join revision r on r.environment = e.environment and r.entry = e.id
			where e.environment = $1 and e.type = 'file' and r.fields ->> 'hash' = b.hash)
		limit $3 for update skip locked) returning hash`, fs.environment, since, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// InUse tells which of the hashes some environment of the database keeps.
func (fs *Files) InUse(ctx context.Context, hash string) (is bool, err error) {
	err = fs.db.Conns(ctx).QueryRow(ctx, `select exists (select from blob where hash = $1)`, hash).Scan(&is)
	return is, err
}

// List returns files as their newest state says, and how many there are in all.
func (fs *Files) List(ctx context.Context, f api.FileFilter) ([]api.FileRecord, int, error) {
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = 50
	}
	order := map[string]string{
		"": "e.updated desc, e.id", "-updated": "e.updated desc, e.id", "updated": "e.updated, e.id desc",
		"name": "lower(e.title), e.id", "-name": "lower(e.title) desc, e.id",
		"bytes": "(r.fields ->> 'bytes')::bigint, e.id", "-bytes": "(r.fields ->> 'bytes')::bigint desc, e.id",
	}[f.Sort]
	where, args := fs.wanted(f)
	page := fmt.Sprintf("select %s%s%s order by %s limit %d offset %d", recordColumns, recordsFrom, where, order,
		f.Limit, f.Offset)
	count := "select count(*)" + recordsFrom + where
	if where == "" {
		count = "select count(*) from entry e where e.environment = $1 and e.type = 'file' and e.retired is null"
	}
	var out []api.FileRecord
	total := 0
	batch := &pgx.Batch{}
	batch.Queue(page, args...).Query(func(rows pgx.Rows) (err error) {
		out, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.FileRecord, error) {
			x, targets := record()
			err := r.Scan(targets...)
			return *x, err
		})
		return err
	})
	batch.Queue(count, args...).QueryRow(func(row pgx.Row) error { return row.Scan(&total) })
	err := fs.db.Conns(ctx).SendBatch(ctx, batch).Close()
	return out, total, err
}

// wanted is the condition of those that a filter wants, behind recordsFrom, and its arguments.
func (fs *Files) wanted(f api.FileFilter) (where string, args []any) {
	args = []any{fs.environment}
	with := func(condition string, value ...any) {
		args = append(args, value...)
		where += " and " + strings.ReplaceAll(condition, "?", "$"+strconv.Itoa(len(args)))
	}
	if f.Search != "" {
		with(`(e.title ilike ? or r.fields::text ilike ?)`, "%"+escaped(f.Search)+"%")
	}
	if f.Type != "" {
		with(`r.fields ->> 'mediaType' like replace(?, '*', '%')`, f.Type)
	}
	if f.Tag != "" {
		with(`jsonb_exists(r.fields -> 'tags', ?)`, f.Tag)
	}
	if f.Use == "used" {
		with(used)
	} else if f.Use == "unused" {
		with("not " + used)
	}
	if f.Undescribed {
		with(`r.fields ->> 'mediaType' like 'image/%' and coalesce((r.fields -> 'decorative')::boolean, false) = false
			and coalesce(r.fields -> 'alt', '{}') = '{}'`)
	}
	return where, args
}

// Get returns one file. Its error is db.ErrNotFound if there is none.
func (fs *Files) Get(ctx context.Context, id string) (api.FileRecord, error) {
	x, targets := record()
	err := fs.db.Conns(ctx).QueryRow(ctx, `select `+recordColumns+recordsFrom+` and e.id = $2`, fs.environment, id).
		Scan(targets...)
	if errors.Is(err, pgx.ErrNoRows) {
		err = db.ErrNotFound
	}
	return *x, err
}

// used tells whether an entry shows the file. What all documents lead to is gathered once.
const used = `e.id in (select substring(l from position('/' in l) + 1) from document d, unnest(d.links) l
	where d.environment = $1 and d.links <> '{}')`

const recordColumns = `e.id, e.revision, e.published_revision, e.behind, e.updated, r.fields`

const recordsFrom = ` from entry e join revision r on r.environment = e.environment and r.entry = e.id
	and r.number = e.revision
	where e.environment = $1 and e.type = 'file' and e.retired is null`

func record() (*api.FileRecord, []any) {
	x := &api.FileRecord{}
	return x, []any{&x.ID, &x.Revision, &x.PublishedRevision, &x.Behind, &x.Updated, &x.Fields}
}

// escaped has no pattern in a text that is searched for.
func escaped(text string) string {
	var out []rune
	for _, r := range text {
		if r == '%' || r == '_' || r == '\\' {
			out = append(out, '\\')
		}
		out = append(out, r)
	}
	return string(out)
}
