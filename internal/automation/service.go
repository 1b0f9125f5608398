// Package automation reacts to changes of content: rules ask for builds of sites, builders
// are called and report, and caches downstream are told of what has changed. It calls out
// through the guarded client only.
package automation

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync/atomic"

	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/outbound"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
)

// Options of New.
type Options struct {
	Replica    *replication.Replica
	Sites      map[string]rebuild.Site
	Rules      []rule.Rule
	Downstream map[string]outbound.Target
	// Address under which builders reach this service, as in http://host:port.
	Address string
	Caller  *outbound.Caller
}

// Service runs the rules of one environment. It is safe for concurrent use.
type Service struct {
	replica    *replication.Replica
	store      *store.Store
	log        *slog.Logger
	cache      *cache.Cache
	news       *replication.Broadcaster
	work       *background.Group
	sites      map[string]rebuild.Site
	downstream map[string]outbound.Target
	address    string
	caller     *outbound.Caller
	// Rules in the order of the configuration. They do not change.
	Rules []rule.Rule

	rulesFired, rulesHeld atomic.Int64 // what rules of this node made of changes
	// addressesLost is one more than how many responses had been evicted when it was last
	// noted that addresses are not known any more.
	addressesLost atomic.Int64
	wakeRules     chan struct{}
	wakeBuilds    map[string]chan struct{}
}

// New returns the service for a checked configuration. Its error names a cache downstream
// that cannot be told.
func New(o Options) (*Service, error) {
	r := o.Replica
	a := &Service{
		replica: r, store: r.Store(), log: r.Log(), cache: r.Cache(), news: r.News(), work: r.Work(),
		sites: o.Sites, Rules: o.Rules, downstream: o.Downstream, address: o.Address, caller: o.Caller,
		wakeRules: make(chan struct{}, 1), wakeBuilds: map[string]chan struct{}{},
	}
	for name := range o.Sites {
		a.wakeBuilds[name] = make(chan struct{}, 1)
	}
	return a, checkDownstream(o.Downstream)
}

// SiteNames lists the configured sites, sorted.
func (a *Service) SiteNames() []string { return slices.Sorted(maps.Keys(a.sites)) }

// Site returns the configuration of a site; the zero value if there is none of the name.
func (a *Service) Site(name string) rebuild.Site { return a.sites[name] }

// RuleWarnings tells of rules that may not do what is meant.
func (a *Service) RuleWarnings() []string {
	warnings, _ := rule.Check(a.Rules, a.replica.Model().TypeNames(), slices.Collect(maps.Keys(a.sites)))
	return warnings
}

// NewTypeWarnings warns of rules that do not know of a new type.
func (a *Service) NewTypeWarnings(name string) (warnings []string) {
	for i := range a.Rules {
		if r := &a.Rules[i]; len(r.Types) > 0 && !slices.Contains(r.Types, name) {
			warnings = append(
				warnings,
				fmt.Sprintf(
					"the rule %q names its types, and not the new type %s: publishing one of those does nothing there",
					r.Name, name,
				),
			)
		}
	}
	return warnings
}

// ContentChanged lets rules run and notes what caches downstream must be told of.
func (a *Service) ContentChanged(ctx context.Context, expired []*cache.Response, sequence int64) {
	background.Nudge(a.wakeRules)
	if err := a.noteExpired(ctx, expired, sequence); err != nil {
		a.log.Warn("caches downstream are told of groups alone", "sequence", sequence, "error", err)
	}
}

// TellAnew has caches downstream told that everything may have changed.
func (a *Service) TellAnew(ctx context.Context) error {
	return a.store.Downstream.NotifyAll(ctx, slices.Sorted(maps.Keys(a.downstream)))
}

// SetAddress says under which address builders reach this service. It must be called
// before Start.
func (a *Service) SetAddress(address string) { a.address = address }

// Address is where others reach this service.
func (a *Service) Address() string { return a.address }

// Start begins to run rules, to call builders and to tell caches downstream.
func (a *Service) Start(ctx context.Context) error {
	if err := a.store.Downstream.Configure(ctx, slices.Sorted(maps.Keys(a.downstream))); err != nil {
		return err
	}
	a.work.GoAwake(a.runRules)
	for name, site := range a.sites {
		if site.Build != nil {
			a.work.GoAwake(func(ctx context.Context) { a.callBuilder(ctx, name, site.Build) })
		}
	}
	for name, target := range a.downstream {
		a.work.GoAwake(func(ctx context.Context) { a.tellDownstream(ctx, name, target) })
	}
	return nil
}

// RuleRuns is how often rules of this node fired, and did not.
func (a *Service) RuleRuns() (fired, not int64) { return a.rulesFired.Load(), a.rulesHeld.Load() }
