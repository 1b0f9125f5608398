package replication

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

const (
	// pollEvery is how often the log is read when nobody announces anything.
	pollEvery = 500 * time.Millisecond
	// LeaseDuration is how long hits are served after the last proof that nothing is
	// missing.
	LeaseDuration = 2 * time.Second
	// patience is how long a request waits for the log to be followed.
	patience = 2 * time.Second
	// startPatience is how long the start of a node does.
	startPatience = time.Minute
)

// ErrBehind is the error of a read that this node cannot answer honestly
// now: it does not know of the newest changes.
var ErrBehind = errors.New("this node is behind the change log; try again in a moment")

var causeOfModel = content.Cause{Kind: "model"}

// Hooks are what else is done as changes are applied. None of them is nil; they are called
// by the goroutine that follows the log, and hold it up.
type Hooks struct {
	// ModelChanged is called before a model is used. While it is called no other model
	// is taken up.
	ModelChanged func(m *model.Model, version int64) error
	// ModelTaken is called once a model is used.
	ModelTaken func()
	// AccessChanged is called with changes that may be of keys, of what is open to
	// everyone, and of trusted documents.
	AccessChanged func(ctx context.Context, changes []content.Change) error
	// SettingsChanged is called with changes that may be of settings.
	SettingsChanged func(ctx context.Context, changes []content.Change) error
	// Probes returns what must be known of an entry that changed beside what the cache asks, as of
	// after the changes; Deltas is called with changes once the cache has applied them.
	Probes func(change *invalidation.Delta) []invalidation.Probe
	Deltas func(changes []invalidation.Delta)
	// Applied is called after the cache has dropped what changes made old, with what it
	// has dropped and the last change's sequence.
	Applied func(ctx context.Context, expired []*cache.Response, sequence int64)
	// Restarted is called when the log did not go on from where this node was, so that
	// everything that follows from it is read again; lost says that changes may have been served that are
	// in it no more.
	Restarted func(ctx context.Context, lost bool) error
}

// Position is where this node stands in the change log.
type Position struct {
	wake chan struct{}
	// tell asks for an announcement to the other nodes.
	announce chan struct{}
	// provenAt is the local time, in nanoseconds, just before the last poll that
	// showed that nothing was missing was sent.
	verifiedAt atomic.Int64
	mark       changelog.Mark // the follower's own
	// anewAt is when the log was last found not to go on, in nanoseconds; 0 for never.
	restartedAt atomic.Int64
	// failing says that the last poll could not be made.
	Failing atomic.Bool

	mu    sync.Mutex
	moved chan struct{} // closed and replaced after every poll
}

func (f *Position) init() {
	f.wake, f.announce, f.moved = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{})
}

func (f *Position) notify() {
	f.mu.Lock()
	defer f.mu.Unlock()
	close(f.moved)
	f.moved = make(chan struct{})
}

func (f *Position) next() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.moved
}

// Staleness is how long ago it was proven that nothing is missing.
func (f *Position) Staleness() time.Duration {
	return time.Duration(time.Now().UnixNano() - f.verifiedAt.Load())
}

// sinceRestart is how long ago the log was found not to go on from where this node was.
func (f *Position) sinceRestart() time.Duration {
	return time.Duration(time.Now().UnixNano() - f.restartedAt.Load())
}

// Leased tells whether hits may be served now.
func (f *Position) Leased() bool {
	return f.Staleness() < LeaseDuration
}

// followLog applies changes as they come, in order.
func (r *Replica) followLog(ctx context.Context) {
	ctx = db.For(ctx, db.Following)
	for {
		err := r.poll(ctx)
		if ctx.Err() != nil {
			return
		}
		if failing := r.Position.Failing.Swap(err != nil); err != nil && !failing {
			r.log.Error("the change log cannot be followed; trying on", "error", err)
		} else if err == nil && failing {
			r.log.Info("the change log is followed again")
		}
		if !background.Sleep(ctx, pollEvery, r.Position.wake) {
			return
		}
	}
}

func (r *Replica) poll(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		sent := time.Now()
		if err := r.heartbeat(ctx); err != nil {
			return err
		}
		changes, err := r.store.Changes.ChangesAfter(ctx, r.Position.mark)
		if errors.Is(err, changelog.ErrGap) || errors.Is(err, changelog.ErrLargeCommit) {
			if err := r.restart(ctx, err); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		deltas := invalidation.Deltas(changes...)
		if len(r.probes(deltas)) > 0 {
			// Read again, with what is asked as of the same time.
			known, err := r.store.Changes.ChangesWith(ctx, r.Model(), r.Position.mark, r.probes)
			if err != nil {
				r.log.Warn(
					"more answers expire than need be: what lists by references depend on was not found out", "error",
					err,
				)
			} else {
				deltas = known
			}
		}
		if err := r.applyChanges(ctx, deltas); err != nil {
			return err
		}
		if len(deltas) > 0 {
			if err := r.heartbeat(ctx); err != nil { // somebody may be waiting to see it
				return err
			}
		}
		if len(deltas) < changelog.ChangesPerPoll/2 {
			r.Position.verifiedAt.Store(sent.UnixNano())
			r.Position.notify()
			return nil
		}
	}
}

// probes lists what the cache and others want to know of entries that changed. Only what the
// last change of an entry made of it can be known.
func (r *Replica) probes(changes []invalidation.Delta) []changelog.Probe {
	var out []changelog.Probe
	seen := map[string]bool{}
	for i := len(changes) - 1; i >= 0; i-- {
		c := &changes[i]
		if key := c.Edition + " " + c.Entry; !seen[key] {
			seen[key] = true
			for _, a := range invalidation.MergeProbes(r.cache.Probes(c), r.hooks.Probes(c)) {
				out = append(out, changelog.Probe{Delta: c, Probe: a})
			}
		}
	}
	return out
}

// restart forgets everything held and follows from the head of the log: the log is not
// the one that was followed, or what changed is more than can be looked at one by one.
func (r *Replica) restart(ctx context.Context, why error) error {
	lost := !errors.Is(why, changelog.ErrLargeCommit)
	if !lost {
		r.log.Info(
			"a commit has more changes than are looked at one by one; the cache starts anew", "bound",
			changelog.LargestCommit,
		)
	} else {
		r.log.Warn("the change log does not go on from where this node is (was an older copy of the database " +
			"restored?); the cache starts anew")
	}
	head, err := r.store.Changes.Head(ctx)
	if err != nil {
		return err
	}
	m, version, err := r.store.Changes.Model(ctx)
	if err != nil {
		return err
	}
	r.loading.Lock()
	defer r.loading.Unlock()
	if err := r.takeModel(m, version); err != nil { // perhaps an older one
		return err
	}
	r.cache.Reset(head.Sequence)
	r.feed.reset(head.Sequence)
	r.Position.mark = head
	r.Position.restartedAt.Store(time.Now().UnixNano())
	return r.hooks.Restarted(ctx, lost)
}

// contentOf are the changes without what was found out beside them.
func contentOf(deltas []invalidation.Delta) []content.Change {
	out := make([]content.Change, len(deltas))
	for i := range deltas {
		out[i] = deltas[i].Change
	}
	return out
}

func (r *Replica) applyChanges(ctx context.Context, changes []invalidation.Delta) error {
	if len(changes) == 0 {
		return nil
	}
	var model, access, settings bool
	mixed := slices.ContainsFunc(changes, func(d invalidation.Delta) bool { return d.Entry != changes[0].Entry })
	for i := range changes {
		changes[i].OthersChanged, changes[i].ReadAt = mixed, changes[len(changes)-1].Sequence
		model = model || changes[i].Kind == content.ModelChange
		access = access || changes[i].Kind == content.AccessChange
		settings = settings || changes[i].Kind == content.SettingsChange
	}
	if model {
		if err := r.ReloadModel(ctx); err != nil {
			return fmt.Errorf("the new model: %w", err)
		}
	}
	if access {
		if err := r.hooks.AccessChanged(ctx, contentOf(changes)); err != nil {
			return err
		}
	}
	if settings {
		if err := r.hooks.SettingsChanged(ctx, contentOf(changes)); err != nil {
			return err
		}
	}
	expired := r.cache.Apply(changes)
	r.hooks.Deltas(changes)
	r.feed.add(changes)
	last := changes[len(changes)-1]
	r.Position.mark = changelog.Mark{Sequence: last.Sequence, ID: last.ID}
	r.news.Tell("changes")
	if model {
		r.news.Tell("model")
	}
	if access {
		r.news.Tell("access")
	}
	if settings {
		r.news.Tell("settings")
	}
	r.hooks.Applied(ctx, expired, last.Sequence)
	return nil
}

// listen wakes the follower when another node announces changes.
func (r *Replica) listen(ctx context.Context) {
	ctx = db.For(ctx, db.Following)
	for {
		err := r.store.Changes.Listen(ctx, func() { background.Nudge(r.Position.wake) })
		if ctx.Err() != nil {
			return
		}
		r.log.Debug("notifications are interrupted; polling goes on", "error", err)
		if !background.Sleep(ctx, time.Second, nil) {
			return
		}
	}
}

// announceLoop tells the other nodes of changes, several at once where they come
// close together.
func (r *Replica) announceLoop(ctx context.Context) {
	ctx = db.For(ctx, db.Following)
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.Position.announce:
		}
		if err := r.store.Changes.Announce(ctx); err != nil && ctx.Err() == nil {
			r.log.Debug("an announcement failed; the other nodes will see the changes when they poll", "error", err)
		}
	}
}

// Announce has the other nodes told that something was committed. It does not wait.
func (r *Replica) Announce() { background.Nudge(r.Position.announce) }

// CatchUp returns when this node has applied everything that was committed
// before the call.
func (r *Replica) CatchUp(ctx context.Context) error {
	r.Announce()
	return r.VerifyCurrent(ctx)
}

// VerifyCurrent returns when a poll that was sent after the call has shown that nothing
// is missing.
func (r *Replica) VerifyCurrent(ctx context.Context) error {
	asked := time.Now().UnixNano()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		next := r.Position.next()
		if r.Position.verifiedAt.Load() > asked {
			return nil
		}
		background.Nudge(r.Position.wake)
		select {
		case <-ctx.Done():
			return ErrBehind
		case <-next:
		}
	}
}

// AwaitCurrent is VerifyCurrent for a node that starts, which has longer: up to a minute.
func (r *Replica) AwaitCurrent(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	for {
		err := r.VerifyCurrent(ctx)
		if !errors.Is(err, ErrBehind) || ctx.Err() != nil {
			return err
		}
		r.log.Warn("this node is behind the change log; it starts when it has caught up")
	}
}

// AwaitSequence returns when this node has reached the sequence, which may be one that nobody
// has committed yet.
func (r *Replica) AwaitSequence(ctx context.Context, sequence int64, reached func() int64) error {
	return r.AwaitSequenceEvery(ctx, sequence, reached, 10*time.Millisecond)
}

// AwaitSequenceEvery is reach with the pause after a poll that did not come that far. What
// is committed already needs none: the next poll has it.
func (r *Replica) AwaitSequenceEvery(
	ctx context.Context, sequence int64, reached func() int64, pause time.Duration,
) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		next := r.Position.next()
		if reached() >= sequence {
			return nil
		}
		background.Nudge(r.Position.wake)
		select {
		case <-ctx.Done():
			return ErrBehind
		case <-next:
			if pause > 0 && reached() < sequence && !background.Sleep(ctx, pause, nil) {
				return ErrBehind
			}
		}
	}
}
