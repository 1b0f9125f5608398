// Package pages keeps the ledgers of sites: it takes up what pages say that they read, finds out
// after each change which reads give other bytes, and says which pages are stale by that. One node
// at a time keeps the ledger of a site.
package pages

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/background"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/delivery"
	"ubiquon/internal/outbound"
	"ubiquon/internal/replication"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
)

// Options of New.
type Options struct {
	Replica  *replication.Replica
	Delivery *delivery.Service
	Settings *settings.Service
	// Request asks for a build of a site in a transaction.
	Request func(ctx context.Context, tx pgx.Tx, site string, causes []rebuild.Cause, sequence int64) error
	// Judged is called when it may have changed which pages of a site are stale.
	Judged func(site string)
	// Outbound reaches the sites, and Signal notes an event for the rules: see automation.Service.Signal.
	Outbound outbound.Options
	Signal   func(ctx context.Context, event, subject, detail string, within time.Duration)
}

// Service keeps the ledgers of one environment. It is safe for concurrent use.
type Service struct {
	o        Options
	replica  *replication.Replica
	delivery *delivery.Service
	store    *store.Store
	log      *slog.Logger
	work     *background.Group
	loops    *background.Keyed
	prober   *http.Client

	buffers   sync.Map // of *buffer, by site
	wakeFlush chan struct{}
	wakes     sync.Map // of chan struct{}, by site
	begun     atomic.Bool

	mu      sync.Mutex
	keepers map[string]*keeper // of the ledgers that this node keeps, by site
}

// New returns the service.
func New(o Options) *Service {
	r := o.Replica
	return &Service{
		o: o, replica: r, delivery: o.Delivery, store: r.Store(), log: r.Log(), work: r.Work(),
		loops: background.NewKeyed(r.Work()), prober: o.Outbound.NewClient(),
		wakeFlush: make(chan struct{}, 1), keepers: map[string]*keeper{},
	}
}

// Start begins to store what is noted and to keep ledgers.
func (s *Service) Start() {
	s.work.Go(s.flushLoop)
	s.begun.Store(true)
	s.SettingsChanged()
}

// SettingsChanged has the ledgers of the sites kept that there are now. It does nothing before Start.
func (s *Service) SettingsChanged() {
	if !s.begun.Load() {
		return
	}
	loops := map[string]background.Loop{}
	for name := range s.o.Settings.State().Sites {
		loops[name] = background.Loop{Run: func(ctx context.Context) { s.keep(ctx, name) }}
	}
	s.loops.Keep(loops)
}

// Stop stores what is noted, and lets other nodes keep the ledgers.
func (s *Service) Stop(ctx context.Context) error {
	s.loops.Keep(nil)
	return s.flushAll(ctx)
}

// Trim forgets the ledgers of sites that are not there any more.
func (s *Service) Trim(ctx context.Context) error {
	sites := slices.AppendSeq([]string{}, maps.Keys(s.o.Settings.State().Sites)) // not nil, which is null
	return errors.Join(s.store.Pages.Trim(ctx, sites), s.store.Live.Trim(ctx, sites))
}

// wake is how the keeper of a site is woken.
func (s *Service) wake(site string) chan struct{} {
	c, _ := s.wakes.LoadOrStore(site, make(chan struct{}, 1))
	return c.(chan struct{})
}

// Wake has the ledger of a site looked at at once: a build has ended, or something like it.
func (s *Service) Wake(site string) { background.Nudge(s.wake(site)) }

func (s *Service) kept() []*keeper {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.keepers))
}

// Probes is that of replication.Hooks.
func (s *Service) Probes(c *invalidation.Delta) []invalidation.Probe {
	var out []invalidation.Probe
	for _, k := range s.kept() {
		out = invalidation.MergeProbes(out, k.present().Probes(c))
	}
	return out
}

// Deltas hands changes to the ledgers that this node keeps.
func (s *Service) Deltas(changes []invalidation.Delta) {
	for _, k := range s.kept() {
		k.add(changes)
	}
}

// Restarted has the ledgers begun anew: the change log does not go on from where it was. With lost set
// readers may have got what has never been: all sites are stale as a whole.
func (s *Service) Restarted(ctx context.Context, lost bool) error {
	for _, k := range s.kept() {
		k.reset()
	}
	if !lost {
		return nil
	}
	sites := []string{}
	for name, site := range s.o.Settings.State().Sites {
		if site.Build != nil || site.Refresh != nil {
			sites = append(sites, name)
		}
	}
	causes := []rebuild.Cause{{Sequence: s.replica.Applied(), What: causeRestored}}
	if err := s.store.Pages.Whole(ctx, sites, func(tx pgx.Tx) error {
		for _, name := range sites {
			if err := s.requestAll(ctx, tx, name, causes, s.replica.Applied()); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	for _, name := range sites {
		s.o.Judged(name)
	}
	return nil
}
