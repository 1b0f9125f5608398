// Package ingest takes in what origins publish: it verifies, keeps and processes their
// announcements, compares with what they have, and lets entries change hands. It writes
// through the function that it is given, and calls origins through the guarded client.
package ingest

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/health"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/writing"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
)

// Options of New.
type Options struct {
	Replica *replication.Replica
	Origins map[string]origin.Config
	// Outbound says where origins may be.
	Outbound outbound.Options
	// Reconcile is how often origins are compared with what is stored.
	Reconcile time.Duration
	// Apply writes edits.
	Apply func(ctx context.Context, edits []writing.Edit, by string, cause content.Cause) (writing.Applied, error)
}

// Service takes in announcements of the origins of one environment. It is safe for
// concurrent use.
type Service struct {
	replica   *replication.Replica
	store     *store.Store
	log       *slog.Logger
	news      *replication.Broadcaster
	work      *background.Group
	limits    limits.Limits
	sources   map[string]*origin.Source
	comparing sync.Map // a chan struct{} by origin: held by who compares with it
	compared  sync.Map // *LastComparison by origin
	jobs      *river.Client[pgx.Tx]
	apply     func(ctx context.Context, edits []writing.Edit, by string,
		cause content.Cause) (writing.Applied, error)
	reconcileEvery time.Duration
	unproven       *access.Limiter // of announcements that do not prove where they come from
	uncounted      atomic.Int64    // those of them that were not kept
	owned          struct {
		sync.Mutex
		last map[string]int
		at   time.Time
	}
}

// New returns the service for checked configurations of origins.
func New(o Options) (*Service, error) {
	r := o.Replica
	perMinute := r.Limits().RefusedHooksPerMinute
	in := &Service{
		replica:        r,
		store:          r.Store(),
		log:            r.Log(),
		news:           r.News(),
		work:           r.Work(),
		limits:         r.Limits(),
		apply:          o.Apply,
		reconcileEvery: o.Reconcile,
		unproven:       access.NewLimiter(float64(perMinute), perMinute),
	}
	var err error
	if in.sources, err = openOrigins(o.Origins, o.Outbound); err != nil {
		return nil, err
	}
	return in, in.openJobs()
}

// Stop lets jobs that run come to their end, until ctx ends.
func (in *Service) Stop(ctx context.Context) error { return in.jobs.Stop(ctx) }

// Names lists the configured origins, sorted.
func (in *Service) Names() []string { return slices.Sorted(maps.Keys(in.sources)) }

// Source returns a configured origin; nil if there is none of the name.
func (in *Service) Source(name string) *origin.Source { return in.sources[name] }

// LastCompared returns the last comparison of this node with an origin; nil for none.
func (in *Service) LastCompared(name string) *api.LastComparison {
	c, _ := in.compared.Load(name)
	last, _ := c.(*api.LastComparison)
	return last
}

// originTimeout bounds one call of an origin.
const originTimeout = 20 * time.Second

// openOrigins returns the sources of the configured origins, by name.
func openOrigins(all map[string]origin.Config, outside outbound.Options) (map[string]*origin.Source, error) {
	outside.Timeout = originTimeout
	out := map[string]*origin.Source{}
	for name, c := range all {
		source, err := origin.New(name, c, outside.NewClient())
		if err != nil {
			return nil, err
		}
		out[name] = source
	}
	return out, nil
}

// Start begins to process events and to compare with origins.
func (in *Service) Start() {
	in.work.GoAwake(func(ctx context.Context) {
		for {
			err := in.jobs.Start(ctx)
			if err == nil || ctx.Err() != nil {
				return
			}
			in.work.Failures.Failed(in.log, "the job queue cannot be started; trying on", "error", err)
			if !background.Sleep(ctx, time.Second, nil) {
				return
			}
		}
	})
	in.work.GoAwake(in.takeOver)
	for _, source := range in.sources {
		in.work.GoAwake(func(ctx context.Context) { in.keepReconciled(ctx, source) })
	}
}

// OriginHealth returns how reading each origin goes.
func (in *Service) OriginHealth() map[string]health.State {
	out := map[string]health.State{}
	for name, source := range in.sources {
		out[name] = source.Health()
	}
	return out
}
