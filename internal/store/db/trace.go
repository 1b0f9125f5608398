package db

import (
	"context"
	"strings"
	"time"

	"ubiquon/internal/api"

	"github.com/jackc/pgx/v5"
)

// Trace is what a read asked of the database.
type Trace struct {
	RoundTrips int
	// Took is the time spent asking and taking in what came.
	Took       time.Duration
	Statements []api.TracedStatement
}

type traceKey struct{}

// WithTrace has what is read under the context noted in the trace, which is for
// one read at a time.
func WithTrace(ctx context.Context, t *Trace) context.Context {
	return context.WithValue(ctx, traceKey{}, t)
}

// TraceOf returns the trace of a context; nil for none.
func TraceOf(ctx context.Context) *Trace {
	t, _ := ctx.Value(traceKey{}).(*Trace)
	return t
}

// Began notes a round trip; call what it returns when the answer is in.
func (t *Trace) Began(sql string, args []any) (ended func()) {
	t.RoundTrips++
	t.Statements = append(t.Statements, api.TracedStatement{SQL: sql, Args: args})
	begin := time.Now()
	return func() { t.Took += time.Since(begin) }
}

// beganBatch is began for several statements.
func (t *Trace) beganBatch(b *pgx.Batch) (ended func()) {
	for _, q := range b.QueuedQueries {
		if !strings.HasPrefix(q.SQL, "select") {
			continue // begins or ends a transaction
		}
		t.Statements = append(t.Statements, api.TracedStatement{SQL: q.SQL, Args: q.Arguments})
	}
	t.RoundTrips++
	begin := time.Now()
	return func() { t.Took += time.Since(begin) }
}

// Explain runs the trace's selects once more and notes how PostgreSQL runs them.
func (d *DB) Explain(ctx context.Context, t *Trace) error {
	return pgx.BeginTxFunc(ctx, d.Conns(ctx), pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		for i := range t.Statements {
			st := &t.Statements[i]
			rows, err := tx.Query(ctx, "explain (analyze, buffers, costs off, timing off) "+st.SQL, st.Args...)
			if err != nil {
				return err
			}
			lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
			if err != nil {
				return err
			}
			st.Plan = strings.Join(lines, "\n")
		}
		return nil
	})
}
