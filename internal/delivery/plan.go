package delivery

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/graphql"
)

// Plan is a compiled read, however it was spelled. It does not change, and may
// be used for every equal request until the model changes.
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

	request  query.Request
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

// plan returns the compiled form of a request. compile is called with the present model when the
// request has not been seen since the model changed.
func (d *Service) plan(r query.Request, compile Compiler) (*Plan, error) {
	st := d.compiled.Load()
	if p := st.plans.get(r); p != nil {
		return p, nil
	}
	p, err := compile(st.model, st.schema)
	if err != nil {
		return nil, err
	}
	p.finish(r, st)
	st.plans.put(r, p)
	return p, nil
}

// PlanFor returns the compiled form of a request that came from somebody. What must be compiled waits for
// its turn: it takes nothing but processor time, of which the cache needs some, too. Its
// error is admission.ErrOverloaded if the turn does not come.
func (d *Service) PlanFor(ctx context.Context, principal string, r query.Request, compile Compiler) (*Plan, error) {
	if p := d.compiled.Load().plans.get(r); p != nil {
		return p, nil
	}
	leave, err := d.processor.Enter(ctx, principal, false)
	if err != nil {
		return nil, err
	}
	defer leave()
	return d.plan(r, compile)
}

// Compiler makes a plan by a model.
type Compiler = func(*model.Model, *graphql.Schema) (*Plan, error)

func (p *Plan) finish(r query.Request, st *compiledModel) {
	p.version, p.request = st.version, r
	p.name()
	p.Query.Prepare(&sync.Map{})
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

// Request is the one that the plan was made for.
func (p *Plan) Request() query.Request { return p.request }

// Planned returns the plan of a request under the present model; nil if it has none yet.
func (d *Service) Planned(r query.Request) *Plan { return d.compiled.Load().plans.get(r) }

// ErrModelChanged is the error of a plan that was made for another model: compile
// the request again.
var ErrModelChanged = errors.New("the model has changed; plan the request again")

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
	out.Needs, out.version, out.narrowed = out.Query.Needs(), p.version, true
	out.heavy, out.stale, out.blind = p.heavy, p.stale, p.blind
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
