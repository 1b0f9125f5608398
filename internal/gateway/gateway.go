package gateway

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"ubiquon/internal/admission"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/graphql"
	"ubiquon/internal/health"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/recurring"
	"ubiquon/internal/store"
)

// Options of Open.
type Options struct {
	Store *store.Store
	// Model that the environment gets if it has none yet. A model that is there is
	// changed with ApplyModel only.
	Model *model.Model
	// ApplyModel applies Model to an environment that has another one, unless
	// content would be lost.
	ApplyModel bool
	Origins    map[string]origin.Config
	Sites      map[string]rebuild.Site
	Rules      []rule.Rule
	Cache      cache.Options
	// Outbound says where calls may go.
	Outbound outbound.Options
	// Address under which builders reach this service, as in http://host:port.
	// It may be set later, before Start, with SetAddress.
	Address string
	// Reconcile is how often origins are compared with what is held; 0 means 5
	// minutes.
	Reconcile time.Duration
	// Name that the others see this node by; default: host and process.
	Name string
	// Downstream are the caches that are told of what changes, by name.
	Downstream map[string]outbound.Target
	// KeepChanges is how long a change stays in the log at least; 0 means 30 days.
	KeepChanges time.Duration
	// KeepEvents and KeepAudit are how long events and lines of the audit log are kept; 0
	// means 90 days and two years.
	KeepEvents, KeepAudit time.Duration
	// ReadTimeout bounds how long one answer is computed; 0 means 10 seconds.
	ReadTimeout time.Duration
	// Quiet starts the node as a quiet copy: without schedules, rules, builds, origins and
	// calls, until it is woken.
	Quiet bool
	// Processor is where compiling requests and hashing passwords wait for their turn, and
	// whatever else shares it; nil for one of its own.
	Processor *admission.Queue
	// Limits are the budgets of this node.
	Limits limits.Limits
	// SessionIdle and SessionLongest are after how long without a request, and at all,
	// somebody must sign in again; 0 means 8 hours and 3 days.
	SessionIdle, SessionLongest time.Duration
	// Issuer of tokens that are accepted beside keys; nil for none.
	Issuer *access.Issuer
	Log    *slog.Logger
}

// Gateway is one node's service of one environment. It may be used by many at
// once.
type Gateway struct {
	store      *store.Store
	cache      *cache.Cache
	state      atomic.Pointer[modelState]
	loading    sync.Mutex // held while the state is replaced
	keys       keyring
	using      sync.Mutex // held while uses of keys are written down
	tokens     *tokens    // nil: none are accepted
	secret     []byte     // of the environment, signs preview links
	accounts   accounts
	documents  atomic.Pointer[map[string]string] // trusted GraphQL documents
	submitting sync.Map                          // *submitLimits, by type
	trapped    atomic.Int64
	origins    map[string]*origin.Source
	comparing  sync.Map // a chan struct{} by origin: held by who compares with it
	compared   sync.Map // *comparison by origin: the last one
	sites      map[string]rebuild.Site
	rules      []rule.Rule
	caller     *outbound.Caller
	jobs       *river.Client[pgx.Tx]
	log        *slog.Logger
	limits     limits.Limits
	admission  *admission.Queue // reads that are computed
	processor  *admission.Queue // what takes nothing but processor time
	unproven   *access.Limiter  // announcements that do not prove where they come from
	uncounted  atomic.Int64     // those of them that were not kept
	strangers  *access.Limiter  // what is computed for addresses without a key
	o          Options

	// troubles are failures that come again and again; writes is how writing goes.
	troubles recurring.Log
	writes   health.Target
	backlog  struct {
		sync.Mutex
		last store.Backlog
		at   time.Time
	}
	owned struct {
		sync.Mutex
		last map[string]int
		at   time.Time
	}
	writeErrors atomic.Int64
	// rulesFired and rulesHeld count what this node's rules made of changes.
	rulesFired, rulesHeld atomic.Int64
	// addressesLost is how many answers had been evicted, and one, when it was last noted
	// that addresses are not known any more.
	addressesLost atomic.Int64
	leaving       atomic.Bool
	// awake is closed when a quiet copy is woken, or at the start if it is none.
	awake chan struct{}
	waken sync.Once

	follow   follower
	feed     feed
	node     store.Node
	samples  samples
	replan   Replan
	renew    chan *cache.Response
	reading  latencies
	refusals refusals
	news     newsroom
	begun    time.Time

	wakeRules     chan struct{}
	wakeSchedules chan struct{}
	wakeIndexes   chan struct{}
	wakeBuilds    map[string]chan struct{}

	stop    context.CancelFunc
	running sync.WaitGroup
}

// originTimeout bounds one call of an origin.
const originTimeout = 20 * time.Second

// modelState is a model with everything made from it; it is replaced as a whole.
type modelState struct {
	model   *model.Model
	version int64
	schema  *graphql.Schema
	plans   *planCache
	seen    seenModels
}

// Open checks the configuration against the model, applies the model and
// returns a gateway that answers reads. Start lets it follow and work.
func Open(ctx context.Context, o Options) (*Gateway, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Reconcile == 0 {
		o.Reconcile = 5 * time.Minute
	}
	g := &Gateway{store: o.Store, log: o.Log, o: o, sites: o.Sites, rules: o.Rules, caller: outbound.New(o.Outbound), origins: map[string]*origin.Source{},
		wakeRules: make(chan struct{}, 1), wakeSchedules: make(chan struct{}, 1), wakeIndexes: make(chan struct{}, 1), wakeBuilds: map[string]chan struct{}{}, renew: make(chan *cache.Response, renewals), begun: time.Now(), awake: make(chan struct{})}
	g.limits = o.Limits.WithDefaults()
	if g.processor = o.Processor; g.processor == nil {
		g.processor = admission.ForProcessor(g.limits)
	}
	g.admission = admission.New(admission.Options{AtOnce: g.limits.Computing, PerPrincipal: g.limits.ComputingPerPrincipal, Heavy: g.limits.ComputingHeavy,
		Waiting: g.limits.Waiting, WaitingPerPrincipal: g.limits.WaitingPerPrincipal, Patience: time.Duration(g.limits.Patience)})
	g.unproven = access.NewLimiter(float64(g.limits.RefusedHooksPerMinute), g.limits.RefusedHooksPerMinute)
	g.strangers = access.NewLimiter(float64(g.limits.AnonymousComputedPerMinute), g.limits.AnonymousComputedPerMinute)
	g.node = thisNode(o.Name)
	g.follow.init()
	g.keys.byID = map[string]*heldKey{}
	if err := g.firstModel(ctx, o.Model, o.ApplyModel); err != nil {
		return nil, err
	}
	if err := g.checkConfiguration(g.Model()); err != nil {
		return nil, err
	}
	if err := checkDownstream(o.Downstream); err != nil {
		return nil, err
	}
	for name := range o.Sites {
		g.wakeBuilds[name] = make(chan struct{}, 1)
	}
	for name, c := range o.Origins {
		outside := o.Outbound
		outside.Timeout = originTimeout
		source, err := origin.New(name, c, outside.NewClient())
		if err != nil {
			return nil, err
		}
		g.origins[name] = source
	}
	var err error
	if g.accounts, err = newAccounts(g.processor); err != nil {
		return nil, err
	}
	if g.secret, err = g.store.Secret(ctx); err != nil {
		return nil, err
	}
	if o.Issuer != nil {
		if g.tokens, err = newTokens(*o.Issuer, g.caller.Get, g.log); err != nil {
			return nil, err
		}
	}
	head, err := g.store.Head(ctx)
	if err != nil {
		return nil, err
	}
	if o.Cache.Published, err = g.store.PublishedHead(ctx); err != nil {
		return nil, err
	}
	g.feed.reset(head.Sequence)
	if o.Cache.Keep = g.keeps; o.Cache.Refresh == nil {
		o.Cache.Refresh = g.renewLater
	}
	o.Cache.Admission = g.admission
	g.cache = cache.New(o.Cache, head.Sequence)
	g.follow.mark = head
	if err := errors.Join(g.loadKeys(ctx), g.loadDocuments(ctx)); err != nil {
		return nil, err
	}
	return g, g.openJobs()
}

// checkConfiguration checks origins, sites and rules against a model.
func (g *Gateway) checkConfiguration(m *model.Model) error {
	types := m.TypeNames()
	var sites []string
	for name := range g.o.Sites {
		sites = append(sites, name)
	}
	warnings, ruleErr := rule.Check(g.rules, types, sites)
	for _, w := range warnings {
		g.log.Warn(w)
	}
	return errors.Join(origin.Check(g.o.Origins, m), rebuild.Check(g.o.Sites), ruleErr)
}

// SetAddress says under which address builders reach this service.
func (g *Gateway) SetAddress(address string) { g.o.Address = address }

// Address is where others reach this service.
func (g *Gateway) Address() string { return g.o.Address }

// Start begins to follow the change log, to process events, to run rules and
// to call builders, until Close.
func (g *Gateway) Start(ctx context.Context) error {
	ctx, g.stop = context.WithCancel(context.WithoutCancel(ctx))
	if g.o.Quiet {
		g.log.Warn("this is a quiet copy: it runs no schedules, rules and builds, and calls nobody, until it is woken (ubiquon wake)")
	} else {
		g.Wake()
	}
	if err := g.store.KeepDownstream(ctx, sortedKeys(g.o.Downstream)); err != nil {
		return err
	}
	g.run(ctx, g.followLog)
	g.run(ctx, g.listen)
	g.run(ctx, g.announce)
	g.run(ctx, g.watchWrites)
	g.runAwake(ctx, func(ctx context.Context) {
		for {
			err := g.jobs.Start(ctx)
			if err == nil || ctx.Err() != nil {
				return
			}
			g.troubles.Failed(g.log, "the job queue cannot be started; trying on", "error", err)
			if !sleep(ctx, time.Second, nil) {
				return
			}
		}
	})
	g.runAwake(ctx, g.takeOver)
	g.runAwake(ctx, g.runRules)
	g.runAwake(ctx, g.runSchedules)
	g.run(ctx, g.noteUse)
	g.run(ctx, g.keepIndexes)
	g.run(ctx, g.retain)
	g.run(ctx, g.rememberHottest)
	g.run(ctx, g.sampling)
	for range 2 {
		g.run(ctx, g.renewing)
	}
	for name, site := range g.sites {
		if site.Build != nil {
			g.runAwake(ctx, func(ctx context.Context) { g.callBuilder(ctx, name, site.Build) })
		}
	}
	for name, target := range g.o.Downstream {
		g.runAwake(ctx, func(ctx context.Context) { g.tellDownstream(ctx, name, target) })
	}
	for _, source := range g.origins {
		g.runAwake(ctx, func(ctx context.Context) { g.keepReconciled(ctx, source) })
	}
	if err := g.prove(ctx); err != nil {
		return err
	}
	g.run(ctx, g.warmStart)
	return nil
}

func (g *Gateway) run(ctx context.Context, f func(context.Context)) {
	g.running.Add(1)
	go func() {
		defer g.running.Done()
		f(ctx)
	}()
}

// Close stops all background work, letting jobs that run come to their end for
// up to five seconds. It does not close the store.
func (g *Gateway) Close() {
	if g.stop == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := g.jobs.Stop(ctx); err != nil {
		g.log.Warn("some jobs did not end in time; they will be taken up again", "error", err)
	}
	if err := errors.Join(g.noteHottest(ctx), g.store.ForgetNode(ctx, g.node.ID)); err != nil {
		g.log.Debug("this node did not take its leave", "error", err)
	}
	g.stop()
	g.running.Wait()
}

// Environment is the name of the environment that is served.
func (g *Gateway) Environment() string { return g.store.Environment }

// Limits are the budgets of this node.
func (g *Gateway) Limits() limits.Limits { return g.limits }

// Model is the present model.
func (g *Gateway) Model() *model.Model { return g.state.Load().model }

// ModelVersion is the version of the present model.
func (g *Gateway) ModelVersion() int64 { return g.state.Load().version }

// Schema is the GraphQL side of the present model.
func (g *Gateway) Schema() *graphql.Schema { return g.state.Load().schema }

func (g *Gateway) loadModel(ctx context.Context) error {
	m, version, err := g.store.Model(ctx)
	if err != nil {
		return err
	}
	g.loading.Lock()
	defer g.loading.Unlock()
	// Several may load at once; the one who was slow must not turn back the others.
	if held := g.state.Load(); held != nil && held.version >= version {
		return nil
	}
	return g.takeModel(m, version)
}

func (g *Gateway) takeModel(m *model.Model, version int64) error {
	schema, err := graphql.New(m, g.limits)
	if err != nil {
		return err
	}
	g.state.Store(&modelState{model: m, version: version, schema: schema, plans: newPlanCache(int64(g.limits.Plans))})
	nudge(g.wakeIndexes)
	return nil
}

// Ready tells whether the service can answer: the database is there and the
// change log is followed.
func (g *Gateway) Ready(ctx context.Context) error {
	if g.leaving.Load() {
		return errLeaving
	}
	return g.prove(ctx)
}

var errLeaving = errors.New("this node is going down")

// Leave makes this node unready: it goes down soon.
func (g *Gateway) Leave() { g.leaving.Store(true) }

// Writes returns how writing goes: with an Error while the database takes no writes.
func (g *Gateway) Writes() health.State { return g.writes.State() }

// Troubles are failures that come again and again.
func (g *Gateway) Troubles() *recurring.Log { return &g.troubles }

// WriteErrors is how many writes the database did not take, for a reason that passes.
func (g *Gateway) WriteErrors() int64 { return g.writeErrors.Load() }

// RuleRuns is how often rules of this node fired, and did not.
func (g *Gateway) RuleRuns() (fired, not int64) { return g.rulesFired.Load(), g.rulesHeld.Load() }

// StatementsCancelled is how many statements of reads were ended before their answer.
func (g *Gateway) StatementsCancelled() int64 { return g.store.Cancelled() }

// FollowerLag is how long ago it was proven that this node has applied all changes.
func (g *Gateway) FollowerLag() time.Duration { return g.follow.blindFor() }

// PoolUses returns how busy the connections to the database are.
func (g *Gateway) PoolUses() []store.PoolUse { return g.store.PoolUses() }

// OriginHealth returns how reading each origin goes.
func (g *Gateway) OriginHealth() map[string]health.State {
	out := map[string]health.State{}
	for name, source := range g.origins {
		out[name] = source.Health()
	}
	return out
}

// Quiet tells whether this node runs as a quiet copy: it answers, and does nothing by
// itself.
func (g *Gateway) Quiet() bool {
	select {
	case <-g.awake:
		return false
	default:
		return true
	}
}

// Wake ends that this node runs as a quiet copy.
func (g *Gateway) Wake() { g.waken.Do(func() { close(g.awake) }) }

// runAwake is run for work that a quiet copy does not do.
func (g *Gateway) runAwake(ctx context.Context, f func(context.Context)) {
	g.run(ctx, func(ctx context.Context) {
		select {
		case <-ctx.Done():
		case <-g.awake:
			f(ctx)
		}
	})
}

// writeProbe is how often a write is tried while writes fail.
const writeProbe = 5 * time.Second

// watchWrites finds out when the database takes writes again that it did not take.
func (g *Gateway) watchWrites(ctx context.Context) {
	for sleep(ctx, writeProbe, nil) {
		if g.writes.State().Error == "" {
			continue
		}
		err := g.store.TryWrite(ctx)
		if g.noteWrite(err); err == nil {
			g.log.Info("the database takes writes again")
		}
	}
}

// noteWrite notes how a write went, as far as that says something about the database.
func (g *Gateway) noteWrite(err error) {
	trouble, told := store.TroubleOf(err)
	switch {
	case err == nil:
		g.writes.Done(time.Now(), nil)
	case trouble == store.PassingTrouble && !errors.Is(err, context.Canceled) && !Overloaded(err):
		g.writes.Done(time.Now(), errors.New(told))
		g.writeErrors.Add(1)
	}
}

// sleep waits for the span, for a wake-up or for the end; it returns false at
// the end.
func sleep(ctx context.Context, span time.Duration, wake <-chan struct{}) bool {
	timer := time.NewTimer(span)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
	case <-wake:
	}
	return true
}

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
