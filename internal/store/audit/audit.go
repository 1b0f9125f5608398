// Package audit stores the audit log, a chain of hashes.
package audit

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/records"
	"ubiquon/internal/store/clause"
	"ubiquon/internal/store/db"
)

// Log is the audit log of an environment. It is safe for concurrent use.
type Log struct {
	db          *db.DB
	environment string
}

// New returns the audit log of an environment.
func New(d *db.DB, environment string) *Log { return &Log{d, environment} }

// Actor is who does something, as the audit log has it.
type Actor struct {
	Name string
	// Kind is account, key or token, or, of what happens by itself, the kind of
	// its cause.
	Kind string
	// Address that the request came from, if it was one.
	Address string
}

type actorKey struct{}

// WithActor returns a context in which all that is written is done by the actor.
func WithActor(ctx context.Context, a Actor) context.Context {
	return context.WithValue(ctx, actorKey{}, a)
}

// ActorFrom is who writes: the context's actor, else who the cause names.
func ActorFrom(ctx context.Context, cause content.Cause) Actor {
	if a, ok := ctx.Value(actorKey{}).(Actor); ok {
		return a
	}
	return Actor{Name: cmp.Or(cause.Name, "ubiquon"), Kind: cause.Kind}
}

// NewRecord makes a line of the audit log; before and after may be nil.
func NewRecord(by Actor, what, subject string, before, after any) api.AuditRecord {
	a := api.AuditRecord{Who: by.Name, Kind: by.Kind, Address: by.Address, What: what, Subject: subject}
	if before != nil {
		a.Before, _ = json.Marshal(before) // plain records
	}
	if after != nil {
		a.After, _ = json.Marshal(after)
	}
	return a
}

// Queue adds records to a batch, so that they are written with what they are about.
func (l *Log) Queue(b *db.Batch, acts ...api.AuditRecord) {
	if len(acts) == 0 {
		return
	}
	src, _ := json.Marshal(acts) // plain records
	b.Exec(`insert into audit (environment, who, kind, address, what, subject, before, after)
		select $1, who, kind, coalesce(address, ''), what, coalesce(subject, ''), before, after
		from jsonb_to_recordset($2::jsonb) as n (who text, kind text, address text, what text, subject text, before
		jsonb, after jsonb)`, l.environment, src)
}

// Add adds a line to the audit log for what was not written in a transaction of
// ours. before and after may be nil.
func (l *Log) Add(ctx context.Context, cause content.Cause, what, subject string, before, after any) error {
	var b db.Batch
	l.Queue(&b, NewRecord(ActorFrom(ctx, cause), what, subject, before, after))
	return b.Run(ctx, l.db.Conns(ctx))
}

// maxActs bounds what Acts returns at once.
const maxActs = 1000

// Records returns lines of the audit log, the newest first.
func (l *Log) Records(ctx context.Context, f api.AuditFilter, where *filter.Filter) ([]api.AuditRecord, error) {
	if f.Limit <= 0 {
		f.Limit = 100
	}
	f.Limit = min(f.Limit, maxActs)
	sql := `select id, at, who, kind, address, what, subject, before, after, encode(previous, 'hex'), encode(hash,
		'hex') from audit v where environment = $1`
	args := clause.Params{l.environment}
	add := func(condition string, v any) { sql += " and " + condition + args.Add(v, "") }
	if where != nil {
		sql += " and " + clause.Record(where, records.ActColumns, []string{"at"}, &args)
	}
	if f.Who != "" {
		add("who = ", f.Who)
	}
	if f.Subject != "" {
		add("subject = ", f.Subject)
	}
	if f.What != "" {
		add("(what || ' ') ^@ ", f.What+" ")
	}
	if !f.After.IsZero() {
		add("at >= ", f.After)
	}
	if !f.Until.IsZero() {
		add("at < ", f.Until)
	}
	if f.Below > 0 {
		add("id < ", f.Below)
	}
	rows, err := l.db.Conns(ctx).Query(ctx, sql+` order by id desc limit `+args.Add(f.Limit, ""), args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.AuditRecord, error) {
		var a api.AuditRecord
		err := r.Scan(
			&a.ID, &a.At, &a.Who, &a.Kind, &a.Address, &a.What, &a.Subject, &a.Before, &a.After, &a.Previous, &a.Hash,
		)
		return a, err
	})
}

// Verify checks that each line of the audit log carries the digest of the line
// before, and its own: that none was changed, put in or taken out. Lines that retention
// took away are vouched for by the line that tells of it. contains, if not empty, is the
// digest of a line that must be there.
//
// A line's digest is the SHA-256 of the digest before it and of the line as a JSON array:
// environment, id, time, who, kind, address, what, subject, before, after, as PostgreSQL
// writes jsonb (function audit_digest).
func (l *Log) Verify(ctx context.Context, contains string) (api.AuditState, error) {
	var out api.AuditState
	err := pgx.BeginTxFunc(
		ctx,
		l.db.Conns(ctx),
		pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
		func(tx pgx.Tx) error {
			err := tx.QueryRow(ctx, `select count(*), coalesce(min(id), 0), coalesce(max(id), 0), coalesce((select
				encode(hash, 'hex') from audit where environment = $1 order by id desc limit 1), '') from audit
				where environment = $1`,
				l.environment).
				Scan(&out.Lines, &out.First, &out.Last, &out.Hash)
			if err != nil {
				return err
			}
			err = tx.QueryRow(ctx, `select coalesce(min(id), 0) from (
			select a.id, a.previous, a.hash, audit_digest(a.previous, a) as made, lag(a.hash) over w as before,
			lag(a.id) over w as last from audit a where a.environment = $1 window w as (order by a.id)) c
			where hash <> made or last is not null and (last <> id - 1 or previous <> before)
				or last is null and previous <> '' and not exists (select from audit t where t.environment = $1 and
				t.what = 'audit trim' and t.after ->> 'hash' = encode(c.previous, 'hex'))
				or last is null and previous = '' and id <> 1`, l.environment).Scan(&out.Broken)
			if err != nil || contains == "" {
				return err
			}
			var there bool
			err = tx.QueryRow(ctx, `select exists (select from audit where environment = $1 and encode(hash, 'hex')
				= lower($2))`, l.environment, contains).
				Scan(&there)
			out.Contains = &there
			return err
		},
	)
	return out, err
}

// Trim takes lines out of the audit log that are older than keep, and tells so in a
// line of its own, which vouches for the digest of the last that went. It returns how
// many went.
func (l *Log) Trim(ctx context.Context, keep time.Duration) (int, error) {
	var upTo int64
	var hash []byte
	err := l.db.Conns(ctx).
		QueryRow(ctx, `select id, hash from audit where environment = $1 and at < clock_timestamp() - $2::interval
		and id < (select max(id) from audit where environment = $1) order by id desc limit 1`, l.environment, keep).
		Scan(&upTo, &hash)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	if err := l.Add(ctx, content.Cause{Kind: "retention"}, "audit trim", strconv.FormatInt(upTo, 10), nil,
		map[string]any{"upTo": upTo, "hash": hex.EncodeToString(hash)}); err != nil {
		return 0, err
	}
	tag, err := l.db.Conns(ctx).
		Exec(ctx, `delete from audit where environment = $1 and id <= $2`, l.environment, upTo)
	return int(tag.RowsAffected()), err
}
