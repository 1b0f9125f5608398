// Package ingest takes in what origins publish: it verifies, keeps and processes their
// announcements, compares with what they have, and lets entries change hands. It writes
// through the function that it is given, and calls origins through the guarded client.
package ingest

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
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
	// Origins returns those that are configured now, with the values of their secrets.
	Origins func() map[string]origin.Config
	// Outbound says where origins may be.
	Outbound outbound.Options
	// Folders are the directories that origins in folders may be in, and Work is where copies of
	// repositories are kept.
	Folders []string
	Work    string
	// Address is where hubs reach this service, as in https://gateway.example; "" for nowhere.
	Address string
	// Reconcile is how often origins are compared with what is stored.
	Reconcile time.Duration
	// Signal notes an event of the service for the rules: see automation.Service.Signal.
	Signal func(ctx context.Context, event, subject, detail string, within time.Duration)
	// MirrorOf says which file of the library what is at an address is, or would be.
	MirrorOf func(ctx context.Context, address string) (string, error)
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
	sources   atomic.Pointer[map[string]*origin.Source]
	taking    sync.Mutex // held while sources is replaced
	loops     *background.Keyed
	queues    map[string]bool // the origins that have a queue
	begun     atomic.Bool
	origins   func() map[string]origin.Config
	outbound  outbound.Options
	signal    func(ctx context.Context, event, subject, detail string, within time.Duration)
	comparing sync.Map // a chan struct{} by origin: held by who compares with it
	compared  sync.Map // *LastComparison by origin
	jobs      *river.Client[pgx.Tx]
	apply     func(ctx context.Context, edits []writing.Edit, by string,
		cause content.Cause) (writing.Applied, error)
	reconcileEvery time.Duration
	with           Options
	announced      *access.Limiter // by origin, of announcements that are proven
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
		origins:        o.Origins,
		signal:         o.Signal,
		outbound:       o.Outbound,
		loops:          background.NewKeyed(r.Work()),
		queues:         map[string]bool{},
		reconcileEvery: o.Reconcile,
		with:           o,
		unproven:       access.NewLimiter(float64(perMinute), perMinute),
		announced: access.NewLimiter(
			float64(r.Limits().HooksPerMinute), r.Limits().HooksPerMinute,
		),
	}
	in.outbound.Timeout = originTimeout
	in.sources.Store(&map[string]*origin.Source{})
	if err := in.openJobs(); err != nil {
		return nil, err
	}
	in.SettingsChanged()
	return in, nil
}

// known are the origins that are configured now, by name.
func (in *Service) known() map[string]*origin.Source { return *in.sources.Load() }

// SettingsChanged takes up the origins as they are configured now.
func (in *Service) SettingsChanged() {
	in.taking.Lock()
	defer in.taking.Unlock()
	before, now := in.known(), map[string]*origin.Source{}
	loops := map[string]background.Loop{}
	for name, c := range in.origins() {
		source := before[name]
		if source == nil || !reflect.DeepEqual(source.Config, c) {
			var err error
			if source, err = origin.New(name, c, in.reading(name)); err != nil {
				in.log.Error("an origin cannot be used", "origin", name, "error", err)
				continue
			}
		}
		now[name] = source
		loops[name] = background.Loop{Mark: fmt.Sprintf("%p", source), Run: func(ctx context.Context) {
			in.follow(ctx, source)
		}}
		if c.Standby {
			delete(loops, name)
		}
		if !in.queues[name] {
			if err := in.jobs.Queues().Add(in.queue(name), river.QueueConfig{MaxWorkers: atOnce}); err != nil {
				in.log.Error("events of an origin cannot be queued", "origin", name, "error", err)
			}
			in.queues[name] = true
		}
	}
	in.sources.Store(&now)
	if in.begun.Load() {
		in.loops.Keep(loops)
	}
}

// Stop lets jobs that run come to their end, until ctx ends.
func (in *Service) Stop(ctx context.Context) error { return in.jobs.Stop(ctx) }

// Names lists the configured origins, sorted.
func (in *Service) Names() []string { return slices.Sorted(maps.Keys(in.known())) }

// Source returns a configured origin; nil if there is none of the name.
func (in *Service) Source(name string) *origin.Source { return in.known()[name] }

// LastCompared returns the last comparison of this node with an origin; nil for none.
func (in *Service) LastCompared(name string) *api.LastComparison {
	c, _ := in.compared.Load(name)
	last, _ := c.(*api.LastComparison)
	return last
}

// reading is what an origin is read with.
func (in *Service) reading(name string) origin.Reading {
	long := in.outbound
	long.Timeout = longTimeout
	return origin.Reading{
		Client: in.outbound.NewClient(), Long: long.NewClient(), Dial: in.outbound.Dial,
		Folders: in.with.Folders, Work: in.with.Work,
		Pushed: pushedItems{in, name}, Locales: func() []string { return in.replica.Model().Tags() },
	}
}

// longTimeout bounds one fetch of a repository.
const longTimeout = 10 * time.Minute

// originTimeout bounds one call of an origin.
const originTimeout = 20 * time.Second

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
	in.begun.Store(true)
	in.SettingsChanged()
}

// OriginHealth returns how reading each origin goes.
func (in *Service) OriginHealth() map[string]health.State {
	out := map[string]health.State{}
	for name, source := range in.known() {
		out[name] = source.Health()
	}
	return out
}
