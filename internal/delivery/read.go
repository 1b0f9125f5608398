package delivery

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/query"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/db"
)

// ReadOptions say how a request wants its answer.
type ReadOptions struct {
	// Recompute computes the answer again, for readers who may have that. With NoStore it is
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
	// Began is when it was asked for; Read wants it.
	Began time.Time
}

// Answer is a response and how it was come by.
type Answer struct {
	*cache.Response
	Outcome cache.Outcome
	// Sequence up to which the answer is known to hold.
	Sequence int64
	// Open says that everyone gets these bytes, with a key or without.
	Open bool
	// Narrowed says that it leaves out what its reader may not have.
	Narrowed bool
}

// Admit waits until work that is as dear as a read is admitted for a principal. The
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

// readTimeout bounds one computation.
func (d *Service) readTimeout() time.Duration {
	return d.timeout
}

// authorise returns the plan, or what is left of it, for a reader with these rights. Its
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

// Read answers a plan for a reader with these rights. Its error is a
// *DeniedError, ErrBehind or ErrReplan where that is the reason.
func (d *Service) Read(ctx context.Context, p *Plan, rights access.Rights, o ReadOptions) (Answer, error) {
	p, err := d.authorise(p, rights, o)
	if err != nil {
		return Answer{}, err
	}
	if o.Only != "" && (p.Query.ReadsLists() || p.Query.ReadsBacks() && !o.Backs) {
		return Answer{}, access.ErrOneEntry
	}
	if a, held, err := d.current(ctx, p, rights, o); err != nil || held {
		return a, err
	}
	applied := d.cache.AppliedIn(p.Query.Edition)
	r, outcome, err := d.fetch(ctx, p, rights, o)
	if err != nil {
		return Answer{}, err
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
	d.Reading.add(time.Since(o.Began))
	if p.Query.Edition == content.Preview {
		applied = max(applied, r.Sequence)
	}
	return Answer{
		Response: r, Outcome: outcome, Sequence: applied, Open: p.open(r, rights), Narrowed: p.narrowed,
	}, nil
}

// current returns when this node may answer from what it has applied. held is true if it
// cannot find out whether it may, and the types of the plan let it answer all the same.
func (d *Service) current(
	ctx context.Context, p *Plan, rights access.Rights, o ReadOptions,
) (a Answer, held bool, err error) {
	if reached := func() int64 { return d.reachedFor(p.Query.Edition, o) }; o.MinSequence > reached() {
		if err := d.replica.AwaitSequence(ctx, o.MinSequence, reached); err != nil {
			return Answer{}, false, fmt.Errorf(
				"sequence %d was asked for, this node is at %d: %w", o.MinSequence,
				d.cache.AppliedIn(p.Query.Edition), replication.ErrBehind,
			)
		}
	}
	if !d.replica.Position.Leased() {
		if d.replica.Position.Failing.Load() {
			// There is no point in waiting for what has just failed.
			if a, held := d.withoutDatabase(p, rights); held {
				return a, true, nil
			}
		}
		if err := d.replica.VerifyCurrent(ctx); err != nil {
			if a, held := d.withoutDatabase(p, rights); held {
				return a, true, nil
			}
			return Answer{}, false, err
		}
	}
	return Answer{}, false, nil
}

// fetch is the one place that decides whether a read is a hit: it returns the response that
// is held under the plan's key, or has it computed.
func (d *Service) fetch(
	ctx context.Context, p *Plan, rights access.Rights, o ReadOptions,
) (r *cache.Response, outcome cache.Outcome, err error) {
	fresh := o.Recompute && p.mayRecompute(rights)
	if !fresh {
		if r, _ = d.cache.Get(p.Key); r != nil {
			d.cache.CountHit(r)
			return r, cache.Hit, nil
		}
	}
	return d.computed(ctx, p, o, fresh)
}

// computed has the read of a plan computed, unless the reader wants only what is held.
func (d *Service) computed(
	ctx context.Context, p *Plan, o ReadOptions, fresh bool,
) (r *cache.Response, outcome cache.Outcome, err error) {
	asked := cache.Request{Key: p.Key, Principal: o.Principal, Heavy: p.heavy, Current: o.Current, Fresh: fresh}
	compute := func(ctx context.Context) (*cache.Response, *invalidation.Set, error) { return d.compute(ctx, p) }
	switch {
	case o.OnlyHeld:
		return nil, 0, ErrNotHeld
	case o.Anonymous && !d.strangers.Allow(o.Principal, o.Began):
		return nil, 0, access.ErrTooMany
	case fresh && o.NoStore:
		r, err = d.cache.Pass(ctx, asked, compute)
		return r, cache.Passed, err
	default:
		return d.cache.Read(ctx, asked, compute)
	}
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
		Narrowed: p.narrowed,
	}, true
}

// answer reads and lays out.
func (d *Service) answer(ctx context.Context, p *Plan) (*query.Result, Rendered, error) {
	// What follows from the model alone is good from where this node stands: the
	// follower takes up a new model before it applies the change that brings it.
	res := &query.Result{Sequence: d.cache.Applied(), MostBytes: int(d.limits.Answer)}
	if len(p.Query.Roots) == 0 && d.compiled.Load().version != p.version {
		return nil, Rendered{}, ErrModelChanged
	}
	if len(p.Query.Roots) > 0 {
		var err error
		if res, err = d.store.Reader.Read(ctx, p.version, p.Query, int(d.limits.Answer)); err != nil {
			switch {
			case errors.Is(err, db.ErrModelMoved):
				if err := d.replica.ReloadModel(ctx); err != nil {
					return nil, Rendered{}, err
				}
				return nil, Rendered{}, ErrModelChanged
			case errors.Is(ctx.Err(), context.DeadlineExceeded):
				err = fmt.Errorf("%w after %s", ErrTooSlow, d.readTimeout())
			}
			return nil, Rendered{}, err
		}
	}
	out, err := p.Render(p, res)
	return res, out, err
}

func (d *Service) compute(ctx context.Context, p *Plan) (*cache.Response, *invalidation.Set, error) {
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
		Asked:    p.request.Text(),
		Edition:  p.Query.Edition,
		Sequence: res.Sequence,
		Stale:    p.stale,
	}
	deps := &invalidation.Set{Edition: p.Query.Edition}
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

// CacheStats is what the cache has done, and how quick reads are.
func (d *Service) CacheStats() api.CacheStats { return d.cache.Stats() }

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
	if !d.noteAddresses() {
		return true
	}
	a.NoteAddress(address)
	held, is := d.cache.Get(a.Key())
	return is && held == a.Response
}
