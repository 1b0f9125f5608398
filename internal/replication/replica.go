// Package replication keeps one node up to date with the change log of its environment:
// it follows the log, applies changes to the cache in order, and knows how long ago it was
// verified that no change is missing. It also tells whether the other nodes have applied a
// change. It decides nothing about what changes mean for requests, rules or keys: see Hooks.
package replication

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store"
)

// Options of New.
type Options struct {
	// Store of the environment that is followed.
	Store *store.Store
	// Cache of the responses of this node. Published and Admission are set by New.
	Cache cache.Options
	// Name by which other nodes call this one; default: host name and process number.
	Name   string
	Limits limits.Limits
	// Work is the group that Start adds to.
	Work *background.Group
	Log  *slog.Logger
}

// Replica is one node's copy of what follows from the change log. It is safe for concurrent
// use. Create it with New; Open must have returned before anything else is called.
type Replica struct {
	store   *store.Store
	cache   *cache.Cache
	log     *slog.Logger
	limits  limits.Limits
	news    *Broadcaster
	work    *background.Group
	hooks   Hooks
	state   atomic.Pointer[modelState]
	loading sync.Mutex // held while state is replaced
	feed    feed
	leaving atomic.Bool
	// Position of this node in the change log.
	Position Position
	// Node is how other nodes know this one.
	Node api.Node
	// Begun is when this node started.
	Begun time.Time
}

// New returns a replica that stands at the head of the change log and has no model yet.
func New(ctx context.Context, o Options) (*Replica, error) {
	r := &Replica{
		store:  o.Store,
		log:    o.Log,
		limits: o.Limits,
		news:   &Broadcaster{},
		work:   o.Work,
		Node:   newNode(o.Name),
		Begun:  time.Now(),
	}
	r.Position.init()
	head, err := r.store.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	if o.Cache.Published, err = r.store.Changes.PublishedHead(ctx); err != nil {
		return nil, err
	}
	r.feed.reset(head.Sequence)
	r.cache = cache.New(o.Cache, head.Sequence)
	r.Position.mark = head
	return r, nil
}

// Open loads the stored model, or stores and loads first if there is none. With apply it
// stores first in any case, unless content would be lost by that.
func (r *Replica) Open(ctx context.Context, hooks Hooks, first *model.Model, apply bool) error {
	r.hooks = hooks
	return r.firstModel(ctx, first, apply)
}

// Store returns the records of the environment.
func (r *Replica) Store() *store.Store { return r.store }

// Cache returns the responses that this node keeps.
func (r *Replica) Cache() *cache.Cache { return r.cache }

// Log returns the logger of the environment.
func (r *Replica) Log() *slog.Logger { return r.log }

// modelState is a model and its version; it is replaced as a whole.
type modelState struct {
	Model   *model.Model
	Version int64
}

// Start begins to follow the change log, until the group of New ends.
func (r *Replica) Start() {
	r.work.Go(r.followLog)
	r.work.Go(r.listen)
	r.work.Go(r.announceLoop)
}

// Environment is the name of the environment that is served.
func (r *Replica) Environment() string { return r.store.Environment }

// Limits are the budgets of this node.
func (r *Replica) Limits() limits.Limits { return r.limits }

// Model is the present model.
func (r *Replica) Model() *model.Model { return r.state.Load().Model }

// ModelVersion is the version of the present model.
func (r *Replica) ModelVersion() int64 { return r.state.Load().Version }

// Present returns the present model with its version.
func (r *Replica) Present() (m *model.Model, version int64) {
	st := r.state.Load()
	return st.Model, st.Version
}

// ReloadModel makes the stored model the present one, unless that is newer already.
func (r *Replica) ReloadModel(ctx context.Context) error {
	m, version, err := r.store.Changes.Model(ctx)
	if err != nil {
		return err
	}
	r.loading.Lock()
	defer r.loading.Unlock()
	// Several may load at once; the one who was slow must not turn back the others.
	if held := r.state.Load(); held != nil && held.Version >= version {
		return nil
	}
	return r.takeModel(m, version)
}

func (r *Replica) takeModel(m *model.Model, version int64) error {
	if err := r.hooks.ModelChanged(m, version); err != nil {
		return err
	}
	r.state.Store(&modelState{Model: m, Version: version})
	r.hooks.ModelTaken()
	return nil
}

// Ready tells whether the service can answer: the database is there and the
// change log is followed.
func (r *Replica) Ready(ctx context.Context) error {
	if r.leaving.Load() {
		return errLeaving
	}
	return r.VerifyCurrent(ctx)
}

var errLeaving = errors.New("this node is going down")

// Leave makes this node unready: it goes down soon.
func (r *Replica) Leave() { r.leaving.Store(true) }

// Work is what this node does beside its requests.
func (r *Replica) Work() *background.Group { return r.work }

// FollowerLag is how long ago it was proven that this node has applied all changes.
func (r *Replica) FollowerLag() time.Duration { return r.Position.Staleness() }

// News tells what happens on this node.
func (r *Replica) News() *Broadcaster { return r.news }
