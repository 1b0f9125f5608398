package store

import (
	"cmp"
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
)

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

// actorOf is who writes: the context's actor, else who the cause names.
func actorOf(ctx context.Context, cause content.Cause) Actor {
	if a, ok := ctx.Value(actorKey{}).(Actor); ok {
		return a
	}
	return Actor{Name: cmp.Or(cause.Name, "ubiquon"), Kind: cause.Kind}
}

// Act is one line of the audit log.
type Act struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Kind    string    `json:"kind"`
	Address string    `json:"address,omitempty"`
	// What was done, in the words of the command line, as in entry publish.
	What string `json:"what"`
	// Subject is the id or name of what it was done to.
	Subject string          `json:"subject,omitempty"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// act makes a line of the audit log; before and after may be nil.
func act(by Actor, what, subject string, before, after any) Act {
	a := Act{Who: by.Name, Kind: by.Kind, Address: by.Address, What: what, Subject: subject}
	if before != nil {
		a.Before, _ = json.Marshal(before) // plain records
	}
	if after != nil {
		a.After, _ = json.Marshal(after)
	}
	return a
}

func (s *Store) queueActs(b *batch, acts ...Act) {
	if len(acts) == 0 {
		return
	}
	src, _ := json.Marshal(acts) // plain records
	b.exec(`insert into audit (environment, who, kind, address, what, subject, before, after)
		select $1, who, kind, coalesce(address, ''), what, coalesce(subject, ''), before, after
		from jsonb_to_recordset($2::jsonb) as n (who text, kind text, address text, what text, subject text, before jsonb, after jsonb)`, s.Environment, src)
}

// Note adds a line to the audit log for what was not written in a transaction of
// ours. before and after may be nil.
func (s *Store) Note(ctx context.Context, cause content.Cause, what, subject string, before, after any) error {
	var b batch
	s.queueActs(&b, act(actorOf(ctx, cause), what, subject, before, after))
	return s.Pool.SendBatch(ctx, &b.b).Close()
}

// ActFilter narrows Acts; empty parts do not.
type ActFilter struct {
	Who string
	// What is what was done, or its first word: entry, key.
	What    string
	Subject string
	// After and Until bound the time.
	After, Until time.Time
	// Below lists what came before the line with this id.
	Below int64
	Limit int // 0 means 100
}

// Acts returns lines of the audit log, the newest first.
func (s *Store) Acts(ctx context.Context, f ActFilter) ([]Act, error) {
	if f.Limit <= 0 {
		f.Limit = 100
	}
	sql := `select id, at, who, kind, address, what, subject, before, after from audit where environment = $1`
	args := []any{s.Environment}
	add := func(condition string, v any) {
		args = append(args, v)
		sql += " and " + condition + "$" + strconv.Itoa(len(args))
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
	args = append(args, f.Limit)
	rows, err := s.Pool.Query(ctx, sql+` order by id desc limit $`+strconv.Itoa(len(args)), args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (Act, error) {
		var a Act
		err := r.Scan(&a.ID, &a.At, &a.Who, &a.Kind, &a.Address, &a.What, &a.Subject, &a.Before, &a.After)
		return a, err
	})
}
