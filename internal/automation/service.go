// Package automation reacts to what happens: rules decide on every event and do their steps,
// builders and sites are called and report, people are told by mail, and caches downstream are
// told of what has changed. It calls out through the guarded client only.
package automation

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/health"
	"ubiquon/internal/mailer"
	"ubiquon/internal/outbound"
	"ubiquon/internal/replication"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
	"ubiquon/internal/store/writing"
)

// Options of New.
type Options struct {
	Replica  *replication.Replica
	Settings *settings.Service
	// Address under which builders reach this service, as in http://host:port.
	Address string
	Caller  *outbound.Caller
	// Dial connects to the mail server.
	Dial mailer.Dial
	// Apply writes edits, Schedule has entries published or unpublished later.
	Apply func(ctx context.Context, edits []writing.Edit, by string, cause content.Cause) (writing.Applied, error)
	// Schedule is that of authoring.Service.AddSchedules.
	Schedule func(ctx context.Context, all ...api.Schedule) ([]api.Schedule, error)
	// Warm computes responses: see delivery.Service.WarmAll.
	Warm func(ctx context.Context, requests []string, hottest int) ([]api.Warmed, error)
	// Pages are the ledgers of the sites.
	Pages Pages
	// Origins returns how reading each origin goes.
	Origins func() map[string]health.State
}

// Pages are what builds tell of and are told by: see pages.Service.
type Pages interface {
	// Flush returns when what pages of a site have read through this node is stored.
	Flush(ctx context.Context, site string) error
	// Wake has the ledger of a site looked at.
	Wake(site string)
	// Shown is a request of the ledger as people write it.
	Shown(text string) string
}

// Service runs the rules of one environment. It is safe for concurrent use.
type Service struct {
	o        Options
	replica  *replication.Replica
	store    *store.Store
	log      *slog.Logger
	cache    *cache.Cache
	news     *replication.Broadcaster
	work     *background.Group
	settings *settings.Service
	address  string
	caller   *outbound.Caller
	loops    *background.Keyed
	begun    atomic.Bool

	rulesFired, rulesHeld atomic.Int64 // what rules of this node made of events
	// addressesLost is one more than how many responses had been evicted when it was last
	// noted that addresses are not known any more.
	addressesLost atomic.Int64
	wakeRules     chan struct{}
	wakeSteps     chan struct{}
	wakeClock     chan struct{}
	wakeMail      chan struct{}
	wakeBuilds    struct {
		sync.Mutex
		of map[string]chan struct{}
	}
}

// New returns the service.
func New(o Options) *Service {
	r := o.Replica
	a := &Service{
		o: o, replica: r, store: r.Store(), log: r.Log(), cache: r.Cache(), news: r.News(), work: r.Work(),
		settings: o.Settings, address: o.Address, caller: o.Caller, loops: background.NewKeyed(r.Work()),
		wakeRules: make(chan struct{}, 1), wakeSteps: make(chan struct{}, 1), wakeClock: make(chan struct{}, 1),
		wakeMail: make(chan struct{}, 1),
	}
	a.wakeBuilds.of = map[string]chan struct{}{}
	return a
}

// SiteNames lists the sites, sorted.
func (a *Service) SiteNames() []string { return slices.Sorted(maps.Keys(a.settings.State().Sites)) }

// Site returns the configuration of a site; the zero value if there is none of the name.
func (a *Service) Site(name string) rebuild.Site { return a.settings.State().Sites[name] }

// ContentChanged lets rules run and notes what caches downstream must be told of.
func (a *Service) ContentChanged(ctx context.Context, expired []*cache.Response, sequence int64) {
	background.Nudge(a.wakeRules)
	if err := a.noteExpired(ctx, expired, sequence); err != nil {
		a.log.Warn("caches downstream are told of groups alone", "sequence", sequence, "error", err)
	}
}

// TellAnew has caches downstream told that everything may have changed.
func (a *Service) TellAnew(ctx context.Context) error {
	return a.store.Downstream.NotifyAll(ctx, slices.Sorted(maps.Keys(a.settings.State().Downstream)))
}

// SetAddress says under which address builders reach this service. It must be called
// before Start.
func (a *Service) SetAddress(address string) { a.address = address }

// Address is where others reach this service.
func (a *Service) Address() string { return a.address }

// Start begins to run rules, to call builders, to send mail and to tell caches downstream.
func (a *Service) Start(ctx context.Context) error {
	if err := a.store.Downstream.Configure(ctx, slices.Sorted(maps.Keys(a.settings.State().Downstream))); err != nil {
		return err
	}
	a.begun.Store(true)
	a.SettingsChanged()
	a.work.GoAwake(a.runRules)
	a.work.GoAwake(a.runSteps)
	a.work.GoAwake(a.runClock)
	a.work.GoAwake(a.sendNotifications)
	a.work.GoAwake(a.watch)
	return nil
}

// SettingsChanged has builders and caches downstream looked after as the settings say now. It
// does nothing before Start.
func (a *Service) SettingsChanged() {
	if !a.begun.Load() {
		return
	}
	st := a.settings.State()
	loops := map[string]background.Loop{}
	for name, site := range st.Sites {
		if site.Build != nil && !site.Off {
			loops["site "+name] = background.Loop{Mark: markOf(site), Run: func(ctx context.Context) {
				a.callBuilder(ctx, name, &site)
			}}
		}
	}
	for name, site := range st.Sites {
		if site.Refresh != nil && !site.Off {
			loops["refresh "+name] = background.Loop{Mark: markOf(site), Run: func(ctx context.Context) {
				a.refreshSite(ctx, name, site)
			}}
		}
	}
	for name, target := range st.Downstream {
		loops["downstream "+name] = background.Loop{Mark: markOf(target), Run: func(ctx context.Context) {
			if err := a.store.Downstream.Configure(ctx, slices.Sorted(maps.Keys(st.Downstream))); err != nil {
				a.log.Error("a cache downstream cannot be taken up; trying on", "downstream", name, "error", err)
			}
			a.tellDownstream(ctx, name, target)
		}}
	}
	a.loops.Keep(loops)
	background.Nudge(a.wakeClock)
	background.Nudge(a.wakeRules)
}

// markOf differs when what a loop is made of does.
func markOf(v any) string {
	src, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(src)
}

// PagesJudged has the builder of a site looked after: which of its pages are stale has changed.
func (a *Service) PagesJudged(site string) {
	background.Nudge(a.wakeBuild(site))
	background.Nudge(a.wakeBuild(refreshOf(site)))
	a.news.Tell("pages")
}

// wakeBuild is how the loop of a site is woken.
func (a *Service) wakeBuild(site string) chan struct{} {
	a.wakeBuilds.Lock()
	defer a.wakeBuilds.Unlock()
	c := a.wakeBuilds.of[site]
	if c == nil {
		c = make(chan struct{}, 1)
		a.wakeBuilds.of[site] = c
	}
	return c
}

// RuleRuns is how often rules of this node fired, and did not.
func (a *Service) RuleRuns() (fired, not int64) { return a.rulesFired.Load(), a.rulesHeld.Load() }
