package gateway

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

const (
	// pollEvery is how often the log is read when nobody announces anything.
	pollEvery = 500 * time.Millisecond
	// blindAfter is how long hits are served after the last proof that nothing is
	// missing.
	blindAfter = 2 * time.Second
	// patience is how long a request waits for the log to be followed.
	patience = 2 * time.Second
)

// ErrBehind is the error of a read that this node cannot answer honestly at
// the moment: it does not know of the newest changes.
var ErrBehind = errors.New("this node is behind the change log; try again in a moment")

var causeOfModel = content.Cause{Kind: "model"}

// follower is where this node stands in the change log.
type follower struct {
	wake chan struct{}
	// tell asks for an announcement to the other nodes.
	tell chan struct{}
	// provenAt is the local time, in nanoseconds, just before the last poll that
	// showed that nothing was missing was sent.
	provenAt atomic.Int64
	mark     store.Mark // the follower's own
	// anewAt is when the log was last found not to go on, in nanoseconds; 0 for never.
	anewAt atomic.Int64
	// failing says that the last poll could not be made.
	failing atomic.Bool

	mu    sync.Mutex
	moved chan struct{} // closed and replaced after every poll
}

func (f *follower) init() {
	f.wake, f.tell, f.moved = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{})
}

func (f *follower) polled() {
	f.mu.Lock()
	defer f.mu.Unlock()
	close(f.moved)
	f.moved = make(chan struct{})
}

func (f *follower) next() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.moved
}

// blindFor is how long ago it was proven that nothing is missing.
func (f *follower) blindFor() time.Duration {
	return time.Duration(time.Now().UnixNano() - f.provenAt.Load())
}

// sinceAnew is how long ago the log was found not to go on from where this node was.
func (f *follower) sinceAnew() time.Duration {
	return time.Duration(time.Now().UnixNano() - f.anewAt.Load())
}

// leased tells whether hits may be served now.
func (f *follower) leased() bool {
	return f.blindFor() < blindAfter
}

// followLog applies changes as they come, in order.
func (g *Gateway) followLog(ctx context.Context) {
	ctx = store.For(ctx, store.Following)
	for {
		err := g.poll(ctx)
		if ctx.Err() != nil {
			return
		}
		if failing := g.follow.failing.Swap(err != nil); err != nil && !failing {
			g.log.Error("the change log cannot be followed; trying on", "error", err)
		} else if err == nil && failing {
			g.log.Info("the change log is followed again")
		}
		if !sleep(ctx, pollEvery, g.follow.wake) {
			return
		}
	}
}

func (g *Gateway) poll(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		sent := time.Now()
		if err := g.seen(ctx); err != nil {
			return err
		}
		changes, err := g.store.ChangesAfter(ctx, g.follow.mark)
		if errors.Is(err, store.ErrGap) || errors.Is(err, store.ErrLargeCommit) {
			if err := g.startAnew(ctx, err); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if asks := g.asks(changes); len(asks) > 0 {
			// Read again, with what is asked as of the same moment.
			known, err := g.store.ChangesWith(ctx, g.Model(), g.follow.mark, g.asks)
			if err != nil {
				g.log.Warn("more answers expire than need be: what lists by references depend on was not found out", "error", err)
			} else {
				changes = known
			}
		}
		if err := g.applyChanges(ctx, changes); err != nil {
			return err
		}
		if len(changes) > 0 {
			if err := g.seen(ctx); err != nil { // somebody may be waiting to see it
				return err
			}
		}
		if len(changes) < store.ChangesPerPoll/2 {
			g.follow.provenAt.Store(sent.UnixNano())
			g.follow.polled()
			return nil
		}
	}
}

// asks lists what the cache wants to know of entries that changed. Only what the
// last change of an entry made of it can be known.
func (g *Gateway) asks(changes []content.Change) []store.Ask {
	var out []store.Ask
	seen := map[string]bool{}
	for i := len(changes) - 1; i >= 0; i-- {
		c := &changes[i]
		if key := c.Edition + " " + c.Entry; !seen[key] {
			seen[key] = true
			for _, a := range g.cache.Asks(c) {
				out = append(out, store.Ask{Change: c, Ask: a})
			}
		}
	}
	return out
}

// startAnew forgets everything held and follows from the head of the log: the log is not
// the one that was followed, or what changed is more than can be looked at one by one.
func (g *Gateway) startAnew(ctx context.Context, why error) error {
	if errors.Is(why, store.ErrLargeCommit) {
		g.log.Info("a commit has more changes than are looked at one by one; the cache starts anew", "bound", store.LargestCommit)
	} else {
		g.log.Warn("the change log does not go on from where this node is (was an older copy of the database restored?); the cache starts anew")
	}
	head, err := g.store.Head(ctx)
	if err != nil {
		return err
	}
	m, version, err := g.store.Model(ctx)
	if err != nil {
		return err
	}
	g.loading.Lock()
	defer g.loading.Unlock()
	if err := g.takeModel(m, version); err != nil { // perhaps an older one
		return err
	}
	g.cache.Reset(head.Sequence)
	g.feed.reset(head.Sequence)
	g.follow.mark = head
	g.follow.anewAt.Store(time.Now().UnixNano())
	return errors.Join(g.loadKeys(ctx), g.loadDocuments(ctx), g.store.TellAnew(ctx, sortedKeys(g.o.Downstream)))
}

func (g *Gateway) applyChanges(ctx context.Context, changes []content.Change) error {
	if len(changes) == 0 {
		return nil
	}
	var model, access bool
	mixed := slices.ContainsFunc(changes, func(c content.Change) bool { return c.Entry != changes[0].Entry })
	for i := range changes {
		changes[i].Mixed, changes[i].AsOf = mixed, changes[len(changes)-1].Sequence
		model = model || changes[i].Kind == content.ModelChange
		access = access || changes[i].Kind == content.AccessChange
	}
	if model {
		if err := g.loadModel(ctx); err != nil {
			return fmt.Errorf("the new model: %w", err)
		}
	}
	if access {
		if err := g.loadAccess(ctx, changes); err != nil {
			return err
		}
	}
	expired := g.cache.Apply(changes)
	g.feed.add(changes)
	last := changes[len(changes)-1]
	g.follow.mark = store.Mark{Sequence: last.Sequence, ID: last.ID}
	nudge(g.wakeRules)
	g.news.tell("changes")
	if access {
		g.news.tell("access")
	}
	if err := g.noteExpired(ctx, expired, last.Sequence); err != nil {
		g.log.Warn("caches downstream are told of groups alone", "sequence", last.Sequence, "error", err)
	}
	return nil
}

// listen wakes the follower when another node announces changes.
func (g *Gateway) listen(ctx context.Context) {
	ctx = store.For(ctx, store.Following)
	for {
		err := g.store.Listen(ctx, func() { nudge(g.follow.wake) })
		if ctx.Err() != nil {
			return
		}
		g.log.Debug("notifications are interrupted; polling goes on", "error", err)
		if !sleep(ctx, time.Second, nil) {
			return
		}
	}
}

// announce tells the other nodes of changes, several at once where they come
// close together.
func (g *Gateway) announce(ctx context.Context) {
	ctx = store.For(ctx, store.Following)
	for {
		select {
		case <-ctx.Done():
			return
		case <-g.follow.tell:
		}
		if err := g.store.Announce(ctx); err != nil && ctx.Err() == nil {
			g.log.Debug("an announcement failed; the other nodes will see the changes when they poll", "error", err)
		}
	}
}

// catchUp returns when this node has applied everything that was committed
// before the call.
func (g *Gateway) catchUp(ctx context.Context) error {
	nudge(g.follow.tell)
	return g.prove(ctx)
}

// prove returns when a poll that was sent after the call has shown that nothing
// is missing.
func (g *Gateway) prove(ctx context.Context) error {
	asked := time.Now().UnixNano()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		next := g.follow.next()
		if g.follow.provenAt.Load() > asked {
			return nil
		}
		nudge(g.follow.wake)
		select {
		case <-ctx.Done():
			return ErrBehind
		case <-next:
		}
	}
}

// reach returns when this node has reached the sequence, which may be one that nobody
// has committed yet.
func (g *Gateway) reach(ctx context.Context, sequence int64, reached func() int64) error {
	return g.reachIn(ctx, sequence, reached, 10*time.Millisecond)
}

// reachIn is reach with the pause after a poll that did not come that far. What
// is committed already needs none: the next poll has it.
func (g *Gateway) reachIn(ctx context.Context, sequence int64, reached func() int64, pause time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		next := g.follow.next()
		if reached() >= sequence {
			return nil
		}
		nudge(g.follow.wake)
		select {
		case <-ctx.Done():
			return ErrBehind
		case <-next:
			if pause > 0 && reached() < sequence && !sleep(ctx, pause, nil) {
				return ErrBehind
			}
		}
	}
}
