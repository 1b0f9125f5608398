package db

import (
	"context"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Purpose is what a statement is for. Each has connections of its own, so that none
// waits for those of another.
type Purpose int

// The purposes.
const (
	// Controlling is the rest: the control endpoints, jobs, background work.
	Controlling Purpose = iota
	// Writing is for edits of content.
	Writing
	// Receiving is for announcements: a lock that they wait for must not keep others.
	Receiving
	// Listing is for what the control endpoints only look at.
	Listing
	// Reading is for reads of content. Such a statement ends when its context does, and
	// when its client is gone.
	Reading
	// Following is for the change log and the lease.
	Following
)

// followers is how many connections there are for Following: for polling, for
// notifications, for announcing, and one to spare.
const followers = 4

const (
	// LeadingWriters is how many transactions of writers are under way at once: one that waits
	// for its commit, and one that reads meanwhile.
	LeadingWriters = 2
	// SlowWriters is how many more there may be of those that have taken long.
	SlowWriters = 4
)

const (
	// writers is how many connections there are for Writing: for each transaction under way.
	writers = LeadingWriters + SlowWriters
	// receivers and listers are how many there are for Receiving and Listing, lockWait how
	// long a statement of theirs waits for a lock, statementWait how long it may take.
	receivers     = 4
	listers       = 4
	lockWait      = "3s"
	statementWait = "20s"
)

// cancelWithin is how long PostgreSQL has to end a statement that it was asked to end,
// before the connection is closed.
const cancelWithin = 2 * time.Second

// cancelling asks PostgreSQL to end a statement whose context has ended, and counts it.
type cancelling struct {
	pgconn.CancelRequestContextWatcherHandler
	count *atomic.Int64
}

// HandleCancel implements ctxwatch.Handler.
func (c *cancelling) HandleCancel(ctx context.Context) {
	c.count.Add(1)
	c.CancelRequestContextWatcherHandler.HandleCancel(ctx)
}

// Cancelled is how many statements of reads PostgreSQL was asked to end.
func (d *DB) Cancelled() int64 { return d.cancelled.Load() }

type purposeKey struct{}

// For returns a context whose statements are for the purpose.
func For(ctx context.Context, p Purpose) context.Context {
	return context.WithValue(ctx, purposeKey{}, p)
}

// Conns returns the connections for the context's purpose.
func (d *DB) Conns(ctx context.Context) *pgxpool.Pool {
	if p, set := ctx.Value(purposeKey{}).(Purpose); set && d.pools[p] != nil {
		return d.pools[p]
	}
	return d.Pool
}

// openPools opens the pools of the purposes that have one of their own.
func (d *DB) openPools(ctx context.Context, like *pgxpool.Config, reads int32) error {
	if reads == 0 {
		reads = 8
	}
	for purpose, conns := range map[Purpose]int32{
		Reading: reads, Following: followers, Writing: writers,
		Receiving: receivers, Listing: listers,
	} {
		cfg := like.Copy()
		cfg.MaxConns = conns
		if purpose == Reading {
			// Work that nobody waits for ends in PostgreSQL, too.
			cfg.ConnConfig.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
				return &cancelling{
					pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: cancelWithin}, &d.cancelled,
				}
			}
			cfg.ConnConfig.RuntimeParams["client_connection_check_interval"] = "2s"
		}
		if purpose == Receiving || purpose == Listing {
			cfg.ConnConfig.RuntimeParams["lock_timeout"] = lockWait
			cfg.ConnConfig.RuntimeParams["statement_timeout"] = statementWait
		}
		pool, err := pgxpool.NewWithConfig(ctx, cfg)
		if err != nil {
			return err
		}
		d.pools[purpose] = pool
	}
	return nil
}

// PoolUse is how busy the connections for a purpose are.
type PoolUse struct {
	Purpose         string
	Busy, Idle, Max int32
	// Waits counts those that had to wait for a connection, Waited how long altogether.
	Waits  int64
	Waited time.Duration
}

// PoolUses returns how busy the connections of each purpose are.
func (d *DB) PoolUses() []PoolUse {
	var out []PoolUse
	for _, one := range []struct {
		name    string
		purpose Purpose
	}{
		{"control", Controlling},
		{"write", Writing},
		{"receive", Receiving},
		{"list", Listing},
		{"read", Reading},
		{"follow", Following},
	} {
		st := d.Conns(For(context.Background(), one.purpose)).Stat()
		out = append(
			out,
			PoolUse{
				Purpose: one.name,
				Busy:    st.AcquiredConns(),
				Idle:    st.IdleConns(),
				Max:     st.MaxConns(),
				Waits:   st.EmptyAcquireCount(),
				Waited:  st.EmptyAcquireWaitTime(),
			},
		)
	}
	return out
}
