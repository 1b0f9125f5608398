package delivery

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/graphql"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/db"
)

// Plan is a compiled read, however it was spelled. It does not change, and may
// be used for every request with the same text until the model changes.
type Plan struct {
	// Key names the canonical form of the request; equal keys mean equal bytes. Who
	// makes a plan may leave the form itself here, or nothing for the query's.
	Key   string
	Query *query.Query
	// Needs are the grants that it takes.
	Needs []access.Need
	// Render lays the result of the plan that it is given out: this one, or what
	// was left of it for a reader who may not have all. Its error is query.ErrTooLarge.
	Render func(*Plan, *query.Result) (Rendered, error)
	// Narrow returns what is left of the plan for somebody with these rights, who
	// lacks some of the grants that it takes; nil if nothing is. A GraphQL operation is narrowed by
	// itself, since its fields are refused one by one; other plans for those who
	// ask to be served what there is.
	Narrow func(p *Plan, rights access.Rights) *Plan
	// Lenient narrows the plan without being asked to.
	Lenient bool
	// GraphQL is set for a GraphQL operation.
	GraphQL *graphql.Operation

	// Base are the headers that every answer to the request has.
	Base map[string][]string

	asked    string
	version  int64
	narrowed bool
	weight   int64
	heavy    bool // takes much of PostgreSQL to compute
	stale    cache.Stale
	// blind is how long answers may be served after the database was last heard of.
	blind time.Duration
}

// Rendered is a response as its surface lays it out. Header needs no more than
// the surface's own.
type Rendered struct {
	Status int
	Header map[string][]string
	Body   []byte
	// Needs are the grants that only the result could tell.
	Needs []access.Need
}

// ReadOptions say how a request wants its answer.
type ReadOptions struct {
	// Recompute computes the answer anew, for readers who may have that. With NoStore it is
	// not kept.
	Recompute, NoStore bool
	// Current takes no answer that is known to have expired, whatever the types allow.
	Current bool
	// OnlyHeld gives ErrNotHeld instead of computing.
	OnlyHeld bool
	// MinSequence is the state of content that the answer must know of.
	MinSequence int64
	// Lenient leaves out what the reader may not have, instead of refusing all.
	Lenient bool
	// Only, if not empty, is the entry that nothing but may be read, without what refers
	// to it unless Backs says so.
	Only  string
	Backs bool
	// Anonymous readers have a bound of what is computed for one address.
	Anonymous bool
	// Principal is whose turn it is when the answer must be computed.
	Principal string
}

// Answer is a response and how it was come by.
type Answer struct {
	*cache.Response
	Outcome cache.Outcome
	// Sequence up to which the answer is known to hold.
	Sequence int64
	// Open says that everyone gets these bytes, with a key or without.
	Open bool
}

// Plan returns the compiled form of a request text. compile is called with the
// present model when the text has not been seen since the model changed.
func (d *Service) Plan(text string, compile Compiler) (*Plan, error) {
	st := d.compiled.Load()
	if p := st.plans.get(text); p != nil {
		return p, nil
	}
	p, err := compile(st.model, st.schema)
	if err != nil {
		return nil, err
	}
	p.finish(text, st)
	st.plans.put(text, p)
	return p, nil
}

// PlanFor is Plan for a request that came from somebody. What must be compiled waits for
// its turn: it takes nothing but processor time, of which the cache needs some, too. Its
// error is admission.ErrOverloaded if the turn does not come.
func (d *Service) PlanFor(ctx context.Context, principal, text string, compile Compiler) (*Plan, error) {
	if p := d.compiled.Load().plans.get(text); p != nil {
		return p, nil
	}
	leave, err := d.processor.Enter(ctx, principal, false)
	if err != nil {
		return nil, err
	}
	defer leave()
	return d.Plan(text, compile)
}

// Compiler makes a plan by a model.
type Compiler = func(*model.Model, *graphql.Schema) (*Plan, error)

func (p *Plan) finish(text string, st *compiledModel) {
	p.version, p.asked = st.version, text
	p.name()
	p.Needs, p.heavy = p.Query.Needs(), p.Query.Effort() >= heavyEffort
	if p.GraphQL != nil && p.GraphQL.Describes() {
		// Who may not read everything is told of what they may read.
		p.Needs = append(p.Needs, access.Need{Verb: access.Read, Edition: p.Query.Edition, Type: access.Any})
	}
	if p.Query.Edition != content.Published {
		return
	}
	f := PolicyOf(st.model, TypesOf(p.Query))
	p.blind = time.Duration(f.StaleIfError)
	if f.ServeExpired {
		p.stale = cache.Stale{While: time.Duration(f.StaleWhileRevalidate), IfError: time.Duration(f.StaleIfError)}
	}
}

// heavyEffort is the effort from which on only few reads are computed at once.
const heavyEffort = 20_000

// name makes of the canonical form a name that nobody else's is.
func (p *Plan) name() {
	if p.Key == "" {
		p.Key = p.Query.Key()
	}
	p.weigh(len(p.Key))
	sum := sha256.Sum256([]byte(p.Key))
	p.Key = base64.RawURLEncoding.EncodeToString(sum[:15])
}

// Turn waits until work that is as dear as a read is admitted for a principal. The
// caller must call leave when it is done. Its error is admission.ErrOverloaded, or that
// of ctx.
func (d *Service) Admit(ctx context.Context, principal string) (leave func(), err error) {
	return d.admission.Enter(ctx, principal, false)
}

// Admission is how busy this node is with what it computes.
func (d *Service) Admission() admission.Stats { return d.admission.Stats() }

// ErrTooSlow is the error of a read that took longer than is allowed.
var ErrTooSlow = errors.New("the read took too long and was given up")

// ErrNotHeld is the error of a read that is not to be computed, and is not held.
var ErrNotHeld = errors.New("the answer is not held")

// Planned returns the plan of a request's text under the present model; nil if it has
// none yet.
func (d *Service) Planned(text string) *Plan { return d.compiled.Load().plans.get(text) }

// readTimeout bounds one computation.
func (d *Service) readTimeout() time.Duration {
	return d.timeout
}

// admit returns the plan, or what is left of it, for a reader with these rights. Its
// error is a *DeniedError.
func (d *Service) authorise(p *Plan, rights access.Rights, o ReadOptions) (*Plan, error) {
	if len(p.Needs) == 0 && !rights.AllowsAny(access.Read, p.Query.Edition) {
		// What it takes would only show in the result, and that is nothing for
		// somebody who may read nothing.
		return nil, &access.DeniedError{
			Grant: access.Need{Verb: access.Read, Edition: p.Query.Edition, Type: access.Any},
		}
	}
	need, missing := rights.Missing(p.Needs)
	if !missing {
		return p, nil
	}
	if less := p.narrow(rights, o); less != nil {
		return less, nil
	}
	return nil, &access.DeniedError{Grant: need}
}

// ErrReplan is the error of a plan that was made for another model: compile
// the request again.
var ErrReplan = errors.New("the model has changed; plan the request again")

// Read answers a plan for a reader with these rights. Its error is a
// *DeniedError, ErrBehind or ErrReplan where that is the reason.
func (d *Service) Read(ctx context.Context, p *Plan, rights access.Rights, o ReadOptions) (Answer, error) {
	begin := time.Now()
	p, err := d.authorise(p, rights, o)
	if err != nil {
		return Answer{}, err
	}
	if o.Only != "" && (p.Query.ReadsLists() || p.Query.ReadsBacks() && !o.Backs) {
		return Answer{}, access.ErrOneEntry
	}
	if reached := func() int64 { return d.reachedFor(p.Query.Edition, o) }; o.MinSequence > reached() {
		if err := d.replica.AwaitSequence(ctx, o.MinSequence, reached); err != nil {
			return Answer{}, fmt.Errorf(
				"sequence %d was asked for, this node is at %d: %w", o.MinSequence,
				d.cache.AppliedIn(p.Query.Edition), replication.ErrBehind,
			)
		}
	}
	if !d.replica.Position.Leased() {
		if d.replica.Position.Failing.Load() {
			// There is no point in waiting for what has just failed.
			if a, held := d.withoutDatabase(p, rights); held {
				return a, nil
			}
		}
		if err := d.replica.VerifyCurrent(ctx); err != nil {
			if a, held := d.withoutDatabase(p, rights); held {
				return a, nil
			}
			return Answer{}, err
		}
	}
	applied := d.cache.AppliedIn(p.Query.Edition)
	r, outcome := (*cache.Response)(nil), cache.Hit
	asked := cache.Request{Key: p.Key, Principal: o.Principal, Heavy: p.heavy, Current: o.Current}
	asked.Fresh = o.Recompute && p.mayRecompute(rights)
	compute := func(ctx context.Context) (*cache.Response, *depend.Set, error) { return d.compute(ctx, p) }
	if !asked.Fresh {
		r, _ = d.cache.Get(p.Key)
	}
	switch {
	case r != nil:
		d.cache.CountHit(r)
	case o.OnlyHeld:
		return Answer{}, ErrNotHeld
	case o.Anonymous && !d.strangers.Allow(o.Principal, begin):
		return Answer{}, access.ErrTooMany
	case asked.Fresh && o.NoStore:
		if r, err = d.cache.Pass(ctx, asked, compute); err != nil {
			return Answer{}, err
		}
		outcome = cache.Passed
	default:
		if r, outcome, err = d.cache.Read(ctx, asked, compute); err != nil {
			return Answer{}, err
		}
	}
	if r.Sequence > applied && outcome != cache.Hit && outcome != cache.Expired {
		// It was read past what this node has applied: nobody is to get something older
		// from here after it. A node that does not come that far ends its lease meanwhile.
		if err := d.replica.AwaitSequenceEvery(ctx, r.Sequence, d.cache.Applied, 0); err != nil && ctx.Err() != nil {
			return Answer{}, ctx.Err()
		}
		applied = max(applied, d.cache.AppliedIn(p.Query.Edition))
	}
	if need, missing := rights.Missing(r.Needs()); missing {
		if less := p.narrow(rights, o); less != nil {
			return d.Read(ctx, less, rights, o)
		}
		if p.Query.Edition != content.Preview {
			return Answer{}, &access.DeniedError{Grant: need}
		}
		// That there is such a draft, and of which type, is not told.
		if r, err = p.nothing(r); err != nil {
			return Answer{}, err
		}
	}
	if o.Only != "" &&
		(len(r.Found()) == 0 || slices.ContainsFunc(r.Found(), func(id string) bool { return id != o.Only })) {
		return Answer{}, access.ErrOneEntry
	}
	d.Reading.add(time.Since(begin))
	if p.Query.Edition == content.Preview {
		applied = max(applied, r.Sequence)
	}
	return Answer{Response: r, Outcome: outcome, Sequence: applied, Open: p.open(r, rights)}, nil
}

// mayRecompute tells whether somebody with these rights may have the plan computed though
// its answer is held.
func (p *Plan) mayRecompute(rights access.Rights) bool {
	if rights.Allows(access.Administer) {
		return true
	}
	return len(p.Needs) > 0 && !slices.ContainsFunc(p.Needs, func(n access.Need) bool {
		n.Verb = access.Recompute
		return !rights.Allows(n)
	})
}

// open tells whether everyone gets the answer as this reader does.
func (p *Plan) open(r *cache.Response, rights access.Rights) bool {
	if p.narrowed || len(rights.Open) == 0 || p.Query.Edition != content.Published {
		return false
	}
	if len(rights.Own) == 0 {
		return true
	}
	everyone := access.Rights{Open: rights.Open}
	if _, missing := everyone.Missing(p.Needs); missing ||
		len(p.Needs) == 0 && !everyone.AllowsAny(access.Read, p.Query.Edition) {
		return false
	}
	_, missing := everyone.Missing(r.Needs())
	return !missing
}

// nothing is the answer to a plan that finds nothing, otherwise like another one.
func (p *Plan) nothing(like *cache.Response) (*cache.Response, error) {
	out, err := p.Render(p, &query.Result{MostBytes: 1 << 20, Roots: make([]query.RootResult, len(p.Query.Roots))})
	if err != nil {
		return nil, err
	}
	return &cache.Response{
		Status:   out.Status,
		Header:   out.Header,
		Content:  cache.NewContent(out.Body),
		Edition:  like.Edition,
		Sequence: like.Sequence,
	}, nil
}

// reachedFor is how far this node is for a reader who asks for a sequence at least.
// Those without a key cannot find out by it that somebody saves drafts.
func (d *Service) reachedFor(edition string, o ReadOptions) int64 {
	if o.Anonymous {
		return d.cache.AppliedIn(edition)
	}
	return d.cache.Applied()
}

// withoutDatabase returns what is held of an answer when nobody can tell whether it
// is still good, for as long as the types that it shows allow.
func (d *Service) withoutDatabase(p *Plan, rights access.Rights) (Answer, bool) {
	if d.replica.Position.Staleness() >= p.blind {
		return Answer{}, false
	}
	r, ok := d.cache.Get(p.Key)
	if !ok {
		return Answer{}, false
	}
	if _, missing := rights.Missing(r.Needs()); missing {
		return Answer{}, false
	}
	d.cache.CountHit(r)
	return Answer{
		Response: r,
		Outcome:  cache.Blind,
		Sequence: d.cache.AppliedIn(p.Query.Edition),
		Open:     p.open(r, rights),
	}, true
}

// answer reads and lays out.
func (d *Service) answer(ctx context.Context, p *Plan) (*query.Result, Rendered, error) {
	// What follows from the model alone is good from where this node stands: the
	// follower takes up a new model before it applies the change that brings it.
	res := &query.Result{Sequence: d.cache.Applied(), MostBytes: int(d.limits.Answer)}
	if len(p.Query.Roots) == 0 && d.compiled.Load().version != p.version {
		return nil, Rendered{}, ErrReplan
	}
	if len(p.Query.Roots) > 0 {
		var err error
		if res, err = d.store.Reader.Read(ctx, p.version, p.Query, int(d.limits.Answer)); err != nil {
			switch {
			case errors.Is(err, db.ErrModelMoved):
				if err := d.replica.ReloadModel(ctx); err != nil {
					return nil, Rendered{}, err
				}
				return nil, Rendered{}, ErrReplan
			case errors.Is(ctx.Err(), context.DeadlineExceeded):
				err = fmt.Errorf("%w after %s", ErrTooSlow, d.readTimeout())
			}
			return nil, Rendered{}, err
		}
	}
	out, err := p.Render(p, res)
	return res, out, err
}

func (d *Service) compute(ctx context.Context, p *Plan) (*cache.Response, *depend.Set, error) {
	ctx, cancel := context.WithTimeout(ctx, d.readTimeout())
	defer cancel()
	begin := time.Now()
	res, out, err := d.answer(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	r := &cache.Response{
		Status:   out.Status,
		Header:   out.Header,
		Content:  cache.NewContent(out.Body),
		Asked:    p.asked,
		Edition:  p.Query.Edition,
		Sequence: res.Sequence,
		Stale:    p.stale,
	}
	deps := &depend.Set{Edition: p.Query.Edition}
	terms := cache.Terms{Needs: out.Needs}
	if len(p.Query.Roots) > 0 {
		deps, terms.Found = query.Dependencies(p.Query, res), found(p.Query, res)
	}
	if res.Good > 0 {
		r.EndAt(begin.Add(res.Good))
	}
	if !res.Now.IsZero() {
		terms.Ahead = begin.Sub(res.Now)
	}
	if terms.Needs != nil || terms.Found != nil || terms.Ahead != 0 {
		r.Terms = &terms
	}
	return r, deps, nil
}

// narrow returns what is left of the plan for a reader who may not have all of
// it; nil if that is nothing, or was not asked for.
func (p *Plan) narrow(rights access.Rights, o ReadOptions) *Plan {
	if p.narrowed || p.Narrow == nil || p.GraphQL == nil && !o.Lenient && !p.Lenient {
		return nil
	}
	out := p.Narrow(p, rights)
	if out == nil {
		return nil
	}
	out.Needs, out.version, out.narrowed, out.heavy, out.stale, out.blind = out.Query.Needs(), p.version, true, p.heavy, p.stale, p.blind
	out.name()
	if _, missing := rights.Missing(out.Needs); missing {
		return nil
	}
	return out
}

// PolicyOf unites how long answers that show the types may be kept: the
// strictest counts.
func PolicyOf(m *model.Model, types []string) model.Freshness {
	var out model.Freshness
	for i, name := range types {
		t := m.Type(name)
		if t == nil {
			continue
		}
		if i == 0 {
			out = t.Freshness
			continue
		}
		f := t.Freshness
		out.Private, out.Shared = min(out.Private, f.Private), min(out.Shared, f.Shared)
		out.ServeExpired = out.ServeExpired && f.ServeExpired
		out.StaleInBrowsers = min(out.StaleInBrowsers, f.StaleInBrowsers)
		out.StaleWhileRevalidate, out.StaleIfError = min(
			out.StaleWhileRevalidate, f.StaleWhileRevalidate,
		), min(
			out.StaleIfError, f.StaleIfError,
		)
	}
	return out
}

// CacheStats is what the cache has done, and how quick reads are.
func (d *Service) CacheStats() cache.Stats { return d.cache.Stats() }

// latencies remembers how long the last reads took.
type latencies struct {
	at    atomic.Uint64
	spans [4096]atomic.Int64
}

func (l *latencies) add(d time.Duration) { l.spans[l.at.Add(1)%uint64(len(l.spans))].Store(int64(d)) }

// Quantiles returns the median and the 99th percentile of the last reads, as
// far as there were any.
func (l *latencies) Quantiles() (p50, p99 time.Duration, n uint64) {
	var all []int64
	for i := range l.spans {
		if v := l.spans[i].Load(); v > 0 {
			all = append(all, v)
		}
	}
	if len(all) == 0 {
		return 0, 0, 0
	}
	sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
	return time.Duration(all[len(all)/2]), time.Duration(all[len(all)*99/100]), l.at.Load()
}

// TypesOf lists the types that a query shows.
func TypesOf(q *query.Query) []string {
	var out []string
	for _, g := range q.Needs() {
		out = append(out, g.Type)
	}
	return out
}

// EditionKnown tells whether there is an edition of that name.
func EditionKnown(name string) bool { return slices.Contains(content.Editions, name) }

// found are the entries that the roots of a preview were found to be; none if one
// of them is a list, or found nothing.
func found(q *query.Query, res *query.Result) []string {
	if q.Edition != content.Preview {
		return nil
	}
	var out []string
	for i := range q.Roots {
		if q.Roots[i].By == query.ByList || len(res.Roots[i].Rows) == 0 {
			return nil
		}
		out = append(out, res.Roots[i].Rows[0].ID)
	}
	return out
}

// NoteAddress notes by which address somebody may hold an answer. It returns false if that
// is in vain: the answer is over, or not held here, so that nobody would tell them.
func (d *Service) NoteAddress(a *Answer, address string) bool {
	if !d.noteAddresses {
		return true
	}
	a.NoteAddress(address)
	held, is := d.cache.Get(a.Key())
	return is && held == a.Response
}
