package writing

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/store/db"
)

const (
	// maxTogether bounds the entries that one transaction writes for several
	// callers.
	maxTogether = 200
	// slow is after how long a transaction does not count as under way any more, so that
	// what does not wait for the same entries goes past it.
	slow = 500 * time.Millisecond
	// writeTimeout bounds one transaction, largeTimeout one that reaches more than
	// largeReach entries beyond those that are written.
	writeTimeout = 10 * time.Second
	largeTimeout = 90 * time.Second
	largeReach   = 500
)

// errCommitting is the error of a transaction whose commit was asked for.
var errCommitting = errors.New("given up as it was committed")

// ErrModelChanging is the ErrWriteTimeout of a write that waited for a change of the model.
var ErrModelChanging = fmt.Errorf(
	"a change of the model is being applied, which writes wait for: %w", db.ErrWriteTimeout,
)

// modelLocked tells whether a change of the model is being applied now.
func (wr *Writer) modelLocked(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	var free bool
	err := wr.db.Conns(ctx).
		QueryRow(ctx, `select pg_try_advisory_xact_lock_shared($1, hashtext($2))`, db.LockContent, wr.environment).
		Scan(&free)
	return err == nil && !free
}

// committer commits writes that wait at the same time in one transaction: the
// end of the log lets only one commit through at a time, and a commit costs the
// same for one write as for twenty.
type committer struct {
	s       *Writer
	mu      sync.Mutex
	waiting []*write
	leaders int // those that are slow not counted
	slow    int
}

// apply has the write carried out and returns its outcome. Once it is under way
// it is not called off when ctx ends.
func (c *committer) apply(ctx context.Context, w *write) (Applied, error) {
	w.ctx, w.over = ctx, make(chan struct{})
	c.mu.Lock()
	c.waiting = append(c.waiting, w)
	c.follow()
	c.mu.Unlock()
	<-w.over
	return w.done, w.err
}

// follow starts another leader if there may be one. The caller holds the lock.
func (c *committer) follow() {
	if c.leaders < db.LeadingWriters && len(c.waiting) > 0 {
		c.leaders++
		go c.lead()
	}
}

// lead carries out what waits until nothing does. When a transaction is slow, somebody
// else takes over.
func (c *committer) lead() {
	for {
		c.mu.Lock()
		taken := c.take()
		if len(taken) == 0 {
			c.leaders--
			c.mu.Unlock()
			return
		}
		c.mu.Unlock()
		over, relieved := false, false
		relief := time.AfterFunc(slow, func() {
			c.mu.Lock()
			defer c.mu.Unlock()
			if !over && c.slow < db.SlowWriters {
				relieved = true
				c.leaders--
				c.slow++
				c.follow()
			}
		})
		c.carryOut(taken)
		relief.Stop()
		c.mu.Lock()
		if over = true; relieved {
			c.slow--
			c.follow()
			c.mu.Unlock()
			return
		}
		c.mu.Unlock()
	}
}

// take picks what can be committed together: writes planned with one model, of
// different entries. The others stay.
func (c *committer) take() []*write {
	var taken, left []*write
	entries := map[string]bool{}
	for _, w := range c.waiting {
		if w.ctx.Err() != nil {
			w.err = w.ctx.Err()
			close(w.over)
			continue
		}
		fits := len(taken) == 0 ||
			!w.apart && !taken[0].apart && w.version == taken[0].version && !w.alone() && !taken[0].alone() &&
				len(entries)+len(w.edits) <= maxTogether
		for i := range w.edits {
			fits = fits && !entries[w.edits[i].ID]
		}
		if !fits {
			left = append(left, w)
			continue
		}
		for i := range w.edits {
			entries[w.edits[i].ID] = true
		}
		taken = append(taken, w)
	}
	c.waiting = left
	return taken
}

// alone tells whether the write must have a transaction for itself: whether a
// schedule is still pending is seen only at the end.
func (w *write) alone() bool {
	for i := range w.edits {
		if w.edits[i].Schedule != "" || w.edits[i].Delete {
			return true
		}
	}
	return false
}

func (c *committer) carryOut(writes []*write) {
	ctx, cancel := context.WithCancel(db.For(context.WithoutCancel(writes[0].ctx), db.Writing))
	defer cancel()
	deadline := time.AfterFunc(writeTimeout, cancel)
	defer deadline.Stop()
	ctx = context.WithValue(ctx, largeWrite{}, func() { deadline.Reset(largeTimeout) })
	err := c.s.applyTogether(ctx, writes)
	for try := 0; try < 3 && deadlocked(err); try++ {
		err = c.s.applyTogether(ctx, writes)
	}
	if err != nil && len(writes) > 1 && lockedOut(err) {
		// Somebody holds one of the entries for long: only who writes that one is to wait.
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, w := range writes {
			w.apart = true
		}
		c.waiting = append(writes, c.waiting...)
		return
	}
	if err != nil && len(writes) > 1 && !errors.Is(err, db.ErrModelMoved) && !db.Passing(err) {
		// One of them is to blame, say for a slug that is taken: find out which.
		for _, w := range writes {
			c.carryOut([]*write{w})
		}
		return
	}
	if err != nil && ctx.Err() != nil {
		switch { // and not that the database is away
		case errors.Is(err, errCommitting):
			err = db.ErrUnsure
		case c.s.modelLocked(db.For(ctx, db.Following)):
			err = ErrModelChanging
		default:
			err = db.ErrWriteTimeout
		}
	}
	for _, w := range writes {
		if err != nil {
			w.done, w.err = Applied{}, err
		}
		close(w.over)
	}
}

// largeWrite is the key of what is called when a transaction turns out to be large.
type largeWrite struct{}

// lockedOut tells whether a lock was waited for in vain.
func lockedOut(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "55P03"
}

// deadlocked tells whether two transactions waited for each other, and this one
// was given up.
func deadlocked(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "40P01"
}
