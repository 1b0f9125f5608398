// Package delivery answers reads of content. A read is compiled into a Plan, authorised,
// looked up in the cache, and otherwise computed with a constant number of SQL statements
// and rendered. The package also computes popular responses again before they are asked
// for, and examines single reads. It knows neither HTTP nor how a request is spelled.
package delivery

import (
	"log/slog"
	"sync/atomic"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/graphql"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
)

// Options of New.
type Options struct {
	Replica *replication.Replica
	// Computing admits what is computed, Compiling what is compiled.
	Computing, Compiling *admission.Queue
	// Timeout of one computation.
	Timeout time.Duration
	// Files makes the addresses of files.
	Files *picture.Addresses
	// NoteAddresses has the addresses of responses noted, for caches downstream.
	NoteAddresses func() bool
}

// Service answers the reads of one environment on one node. It is safe for concurrent use.
type Service struct {
	replica      *replication.Replica
	store        *store.Store
	log          *slog.Logger
	cache        *cache.Cache
	limits       limits.Limits
	compiled     atomic.Pointer[compiledModel]
	admission    *admission.Queue // what is computed
	processor    *admission.Queue // what takes only processor time
	strangers    *access.Limiter  // of computations for addresses without a key
	samples      samples
	recompile    Recompile
	refreshQueue chan *cache.Response
	// Files makes the addresses of files.
	Files *picture.Addresses
	// Reading is how long the last reads took.
	Reading       latencies
	noteAddresses func() bool
	timeout       time.Duration
	work          *background.Group
}

// New returns a service that answers once TakeModel has been called.
func New(o Options) *Service {
	r := o.Replica
	bounds := r.Limits()
	return &Service{
		replica: r, store: r.Store(), log: r.Log(), cache: r.Cache(), limits: bounds, work: r.Work(),
		admission: o.Computing, processor: o.Compiling, timeout: o.Timeout, Files: o.Files, noteAddresses: o.NoteAddresses,
		strangers: access.NewLimiter(
			float64(bounds.AnonymousComputedPerMinute), bounds.AnonymousComputedPerMinute,
		),
		refreshQueue: make(chan *cache.Response, maxQueuedRefreshes),
	}
}

// Start begins to refresh popular responses and to note what is asked for.
func (d *Service) Start() {
	d.work.Go(d.rememberPopularLoop)
	d.work.Go(d.sampling)
	for range 2 {
		d.work.Go(d.refreshLoop)
	}
}

// Schema is the GraphQL side of the present model.
func (d *Service) Schema() *graphql.Schema { return d.compiled.Load().schema }
