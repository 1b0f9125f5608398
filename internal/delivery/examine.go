package delivery

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/db"
)

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Compile compiles a request that came from somebody, without remembering the plan. Its
// errors are those of PlanFor.
func (d *Service) Compile(ctx context.Context, principal string, compile Compiler) (*Plan, error) {
	leave, err := d.processor.Enter(ctx, principal, false)
	if err != nil {
		return nil, err
	}
	defer leave()
	st := d.compiled.Load()
	p, err := compile(st.model, st.schema)
	if err != nil {
		return nil, err
	}
	p.finish(query.Request{}, st)
	return p, nil
}

// Examine computes an answer again, for somebody with these rights, and tells how.
// With explain, PostgreSQL tells how it ran each statement. Its errors are those of
// Read.
func (d *Service) Examine(
	ctx context.Context, p *Plan, rights access.Rights, o ReadOptions, explain bool,
) (api.Examined, error) {
	ctx, cancel := context.WithTimeout(ctx, d.readTimeout())
	defer cancel()
	p, err := d.authorise(p, rights, o)
	if err != nil {
		return api.Examined{}, err
	}
	leave, err := d.admission.Enter(ctx, o.Principal, p.heavy)
	if err != nil {
		return api.Examined{}, err
	}
	defer leave()
	e := api.Examined{
		Key:    p.Key,
		Effort: query.EffortFigures{Asked: p.Query.Effort(), Limit: query.MaxEffort},
		Grants: []string{},
	}
	begin := time.Now()
	if r, held := d.cache.Get(p.Key); held {
		e.Held = r.Sequence
	}
	looking := time.Since(begin)
	begin = time.Now()
	var trace db.Trace
	res, out, err := d.answer(db.WithTrace(ctx, &trace), p)
	if err != nil {
		return e, err
	}
	layingOut := time.Since(begin) - trace.Took
	if need, missing := rights.Missing(out.Needs); missing {
		if p = p.narrow(rights, o); p == nil {
			return e, &access.DeniedError{Grant: need}
		}
		leave()
		return d.Examine(ctx, p, rights, o, explain)
	}
	e.Status, e.Header, e.Body = out.Status, out.Header, string(out.Body)
	e.Header = maps.Clone(e.Header)
	delete(e.Header, "Cache-Status") // that of a hit
	e.Header["Etag"] = []string{cache.EntityTag(out.Body)}
	e.Milliseconds = api.Timings{
		Cache:  milliseconds(looking),
		SQL:    milliseconds(trace.Took),
		Render: milliseconds(layingOut),
		All:    milliseconds(looking + trace.Took + layingOut),
	}
	e.Sequence, e.GoodFor, e.RoundTrips = res.Sequence, milliseconds(res.Good), trace.RoundTrips
	for _, n := range append(slices.Clone(p.Needs), out.Needs...) {
		e.Grants = append(e.Grants, n.String())
	}
	e.Dependencies = &invalidation.Set{Edition: p.Query.Edition}
	if len(p.Query.Roots) > 0 {
		e.Dependencies = query.Dependencies(p.Query, res)
	}
	if explain {
		err = d.store.DB.Explain(ctx, &trace)
	}
	e.Statements = trace.Statements
	return e, err
}

// NameDependencies fills in the titles of the entries that an answer depends on.
func (d *Service) NameDependencies(ctx context.Context, e *api.Examined) error {
	if e.Dependencies == nil {
		return nil
	}
	var ids []string
	for _, dep := range e.Dependencies.Entries {
		ids = append(ids, dep.ID)
	}
	all, err := d.store.Entries.Access(ctx, ids)
	e.Titles = make(map[string]string, len(all))
	for id, s := range all {
		e.Titles[id] = s.Title
	}
	return err
}

// DisplayText writes a plan's text in one line.
func DisplayText(text string) string { return strings.ReplaceAll(text, "\n", " ") }
