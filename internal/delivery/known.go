package delivery

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"
	"weak"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/invalidation"
)

// Known is what a request gives, and what it was made of.
type Known struct {
	// Name is that of the bytes: see NameOf.
	Name string
	// Dependencies are those of the answer, nil if the request cannot be answered at all.
	Dependencies *invalidation.Set
	// Ends is when it ends by itself; zero for never.
	Ends time.Time
	// Served tells how often the answer has been served, 0 once it is held no more.
	Served func() int
}

// NameOf names the bytes of an answer: equal names mean equal answers.
func NameOf(a *cache.Response) string { return strconv.Itoa(a.Status) + " " + a.ETag()[0] }

// unanswered begins the name of what a request gives that cannot be answered.
const unanswered = "400 "

// Find answers the request of a text as of a sequence or later, for somebody who may read
// everything or, if rights are given, for them, and tells what the answer was made of. A request
// that can never be answered under the present model has a name, too. Its errors are
// those of waiting: admission.ErrOverloaded, ErrTooSlow, and the context's.
func (d *Service) Find(
	ctx context.Context, principal, text string, rights *access.Rights, sequence int64,
) (Known, error) {
	if err := d.replica.AwaitSequence(ctx, sequence, d.cache.Applied); err != nil {
		return Known{}, err
	}
	for range 3 {
		p, err := d.planOf(text)
		if err != nil {
			return Known{Name: unanswered + strconv.Quote(err.Error())}, nil
		}
		out, err := d.find(ctx, principal, p, rights)
		if !errors.Is(err, ErrModelChanged) {
			return out, err
		}
	}
	return Known{}, ErrModelChanged
}

// TypesIn lists the types that the request of a text reads, as the model is now; one of no name stands for
// all of them.
func (d *Service) TypesIn(text string) []string {
	p, err := d.planOf(text)
	if err == nil && p.Query != nil {
		if types := TypesOf(p.Query); len(types) > 0 {
			return types
		}
	}
	return []string{""}
}

func (d *Service) find(ctx context.Context, principal string, p *Plan, rights *access.Rights) (Known, error) {
	denied := func(n access.Need) Known { return Known{Name: "403 " + strconv.Quote(n.String())} }
	lenient := ReadOptions{Lenient: true}
	if rights != nil {
		if need, missing := rights.Missing(p.Needs); missing {
			if p = p.narrow(*rights, lenient); p == nil {
				return denied(need), nil
			}
		}
	}
	r, deps, err := d.withDependencies(ctx, principal, p)
	if err != nil {
		return Known{}, err
	}
	if rights != nil {
		if need, missing := rights.Missing(r.Needs()); missing {
			if p = p.narrow(*rights, lenient); p == nil {
				return denied(need), nil
			}
			return d.find(ctx, principal, p, rights)
		}
	}
	return Known{Name: NameOf(r), Dependencies: deps, Ends: r.Ends(), Served: servedOf(r)}, nil
}

// servedOf tells how often a response is served, and does not keep it.
func servedOf(r *cache.Response) func() int {
	held := weak.Make(r)
	return func() int {
		if r := held.Value(); r != nil {
			return r.Hits()
		}
		return 0
	}
}

// withDependencies returns the response of a plan, from the cache where it holds it, with
// what it was made of.
func (d *Service) withDependencies(
	ctx context.Context, principal string, p *Plan,
) (*cache.Response, *invalidation.Set, error) {
	asked := cache.Request{Key: p.Key, Principal: principal, Heavy: p.heavy, Current: true}
	for range 3 {
		var computed *invalidation.Set
		r, outcome, err := d.cache.Read(ctx, asked, func(ctx context.Context) (*cache.Response, *invalidation.Set, error) {
			r, deps, err := d.compute(ctx, p)
			computed = deps
			return r, deps, err
		})
		if err != nil {
			return nil, nil, err
		}
		if outcome == cache.Miss || outcome == cache.Bypassed {
			return r, computed, nil
		}
		if deps, ok := d.cache.HeldDependencies(r); ok {
			return r, deps, nil
		}
		asked.Fresh = true // it has just expired: what is computed now is ours
	}
	return nil, nil, fmt.Errorf("request %s: %w", p.request, ErrModelChanged)
}
