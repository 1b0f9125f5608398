package files

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Rendition is a picture that was made of another.
type Rendition struct {
	MediaType string
	Bytes     int64
	// Made is whether it is kept; Problem says why it cannot be made.
	Made    bool
	Problem string
}

// Claim is whether a rendition is to be made by who asks.
type Claim int

// What a claim may come to.
const (
	Mine    Claim = iota // make it, and say so with Finish
	Theirs               // somebody else is making it
	Settled              // it is made, or cannot be
)

// Claim returns what is known of a rendition; where it is neither made nor being made, it is
// claimed for so long.
func (fs *Files) Claim(
	ctx context.Context,
	hash, name string,
	forThat time.Duration,
) (x Rendition, c Claim, err error) {
	var mine bool
	err = fs.db.Conns(ctx).QueryRow(ctx, `insert into rendition as r (environment, hash, name, claimed)
		values ($1, $2, $3, clock_timestamp() + $4)
		on conflict (environment, hash, name) do update set claimed = excluded.claimed, problem = ''
			where r.made is null and (r.claimed is null or r.claimed < clock_timestamp())
		returning true`, fs.environment, hash, name, forThat).Scan(&mine)
	if err == nil {
		return x, Mine, nil
	}
	if !errors.Is(err, pgx.ErrNoRows) {
		return x, Theirs, err
	}
	err = fs.db.Conns(ctx).QueryRow(ctx, `select media_type, bytes, made is not null, problem from rendition
		where environment = $1 and hash = $2 and name = $3`, fs.environment, hash, name).
		Scan(&x.MediaType, &x.Bytes, &x.Made, &x.Problem)
	switch {
	case errors.Is(err, pgx.ErrNoRows): // it has just been given up
		return x, Theirs, nil
	case err != nil:
		return x, Theirs, err
	case x.Made || x.Problem != "":
		return x, Settled, nil
	}
	return x, Theirs, nil
}

// Finish notes that a rendition is kept, or, with a problem, why it cannot be: that is looked at
// again after a while.
func (fs *Files) Finish(ctx context.Context, hash, name string, x Rendition) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `update rendition set media_type = $4, bytes = $5, problem = $6,
		made = case when $6 = '' then clock_timestamp() end,
		claimed = case when $6 <> '' then clock_timestamp() + interval '1 minute' end
		where environment = $1 and hash = $2 and name = $3`,
		fs.environment, hash, name, x.MediaType, x.Bytes, x.Problem)
	return err
}

// GiveUp lets somebody else make a rendition: it is not known what became of it.
func (fs *Files) GiveUp(ctx context.Context, hash, name string) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `delete from rendition where environment = $1 and hash = $2 and name = $3`,
		fs.environment, hash, name)
	return err
}

// NoteUsed notes that renditions were asked for.
func (fs *Files) NoteUsed(ctx context.Context, hashes, names []string) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `update rendition r set used = clock_timestamp()
		from unnest($2::text[], $3::text[]) as n (hash, name)
		where r.environment = $1 and r.hash = n.hash and r.name = n.name and r.used < clock_timestamp() - interval '1 hour'`,
		fs.environment, hashes, names)
	return err
}

// Key names a rendition.
type Key struct{ Hash, Name string }

// Evict takes away the notes of renditions, made or not: those of bytes that are gone, those that nobody asked
// for since then, and the longest unused of those that take more than most bytes. It returns up
// to n.
func (fs *Files) Evict(ctx context.Context, since time.Time, most int64, n int) ([]Key, error) {
	rows, err := fs.db.Conns(ctx).Query(ctx, `delete from rendition where (environment, hash, name) in (
		select environment, hash, name from (
			select *, sum(bytes) over (order by used desc, hash, name) as behind from rendition where environment = $1
		) r where (made is not null or claimed < clock_timestamp()) and (used < $2 or behind > $3 or not exists (
			select from blob b where b.environment = r.environment and b.hash = r.hash)) limit $4)
		returning hash, name`, fs.environment, since, most, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Key])
}

// Mirror is where the bytes of an outside file were fetched from.
type Mirror struct {
	Entry, ETag, Modified, Hash string
	Checked                     time.Time
}

// Mirrored returns what was fetched from an address; ok is false if nothing was.
func (fs *Files) Mirrored(ctx context.Context, address string) (m Mirror, ok bool, err error) {
	err = fs.db.Conns(ctx).
		QueryRow(ctx, `select m.entry, m.etag, m.modified, coalesce(m.hash, ''), m.checked from mirrored m
		join entry e on e.environment = m.environment and e.id = m.entry and e.revision > 0
		where m.environment = $1 and m.address = $2`, fs.environment, address).
		Scan(&m.Entry, &m.ETag, &m.Modified, &m.Hash, &m.Checked)
	if errors.Is(err, pgx.ErrNoRows) {
		return m, false, nil
	}
	return m, err == nil, err
}

// NoteMirrored notes what was fetched from an address.
func (fs *Files) NoteMirrored(ctx context.Context, address string, m Mirror) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `insert into mirrored (environment, address, entry, etag, modified, hash)
		values ($1, $2, $3, $4, $5, $6) on conflict (environment, address) do update set entry = excluded.entry,
		etag = excluded.etag, modified = excluded.modified, hash = excluded.hash, checked = clock_timestamp()`,
		fs.environment, address, m.Entry, m.ETag, m.Modified, m.Hash)
	return err
}

// MirroredAs returns the file with these bytes that was fetched from some address; ok is false if there is none.
func (fs *Files) MirroredAs(ctx context.Context, hash string) (entry string, ok bool, err error) {
	err = fs.db.Conns(ctx).QueryRow(ctx, `select m.entry from mirrored m
		join entry e on e.environment = m.environment and e.id = m.entry and e.revision > 0 and e.retired is null
		where m.environment = $1 and m.hash = $2 order by m.address limit 1`, fs.environment, hash).Scan(&entry)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", false, nil
	}
	return entry, err == nil, err
}

// IsAlsoAt tells whether the file has another address than this one, too.
func (fs *Files) IsAlsoAt(ctx context.Context, entry, address string) (is bool, err error) {
	err = fs.db.Conns(ctx).QueryRow(ctx, `select exists (select from mirrored where environment = $1 and entry = $2
		and address <> $3)`, fs.environment, entry, address).Scan(&is)
	return is, err
}

// ForgetMirrored takes away what is known of addresses whose files are gone.
func (fs *Files) ForgetMirrored(ctx context.Context) error {
	_, err := fs.db.Conns(ctx).Exec(ctx, `delete from mirrored m where environment = $1 and not exists (
		select from entry e where e.environment = m.environment and e.id = m.entry)`, fs.environment)
	return err
}
