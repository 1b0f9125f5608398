package delivery

import (
	"sync"
	"sync/atomic"

	"ubiquon/internal/core/query"
)

// planCache holds plans by their requests, up to so many bytes. When
// half of that is full, the half before is dropped, except for what was asked for
// since: a flood of requests that nobody asks for again does not take away those that
// are asked for often. It is safe for concurrent use.
type planCache struct {
	most  int64
	mu    sync.Mutex // held while the halves change places
	young atomic.Pointer[planHalf]
	old   atomic.Pointer[planHalf]
}

type planHalf struct {
	held  sync.Map
	bytes atomic.Int64
}

// longestRequest is the size of the longest request whose plan is remembered, in bytes.
const longestRequest = 16 << 10

func newPlanCache(most int64) *planCache {
	c := &planCache{most: most}
	c.young.Store(&planHalf{})
	c.old.Store(&planHalf{})
	return c
}

// planKey is what a request is looked up by. Most are an address alone, and boxing a string
// costs a hit less than boxing a Request.
func planKey(r query.Request) any {
	if r.GraphQL == "" && r.Language == "" {
		return r.Address
	}
	return r
}

func (h *planHalf) get(r query.Request) *Plan {
	p, _ := h.held.Load(planKey(r))
	plan, _ := p.(*Plan)
	return plan
}

func (c *planCache) get(r query.Request) *Plan {
	if p := c.young.Load().get(r); p != nil {
		return p
	}
	p := c.old.Load().get(r)
	if p != nil {
		c.put(r, p)
	}
	return p
}

func (c *planCache) put(r query.Request, p *Plan) {
	if r == (query.Request{}) || r.Size() > longestRequest {
		return
	}
	young := c.young.Load()
	if _, held := young.held.LoadOrStore(planKey(r), p); held {
		return
	}
	if young.bytes.Add(p.weight+int64(r.Size())) <= c.most/2 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.young.Load() == young {
		c.old.Store(young)
		c.young.Store(&planHalf{})
	}
}

// weigh sets how many bytes the plan takes, about: what it was compiled to is a tree of
// small records, which take ten times as much as their canonical form.
func (p *Plan) weigh(form int) { p.weight = int64(2<<10 + 10*form) }
