package controlapi

import (
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/writing"
)

// routeCache mounts what is asked of the cache, the change log and the nodes.
func (s *API) routeCache(c routes) {
	c.get("/cache", guard.ReadsAll, func(*http.Request) (any, error) { return s.env.Delivery.CacheStats(), nil })
	c.get("/cache/history", guard.ReadsAll, func(*http.Request) (any, error) {
		return map[string]any{"items": s.env.Delivery.CacheHistory()}, nil
	})
	c.get("/cache/answers", guard.ReadsAll.InTurn(), s.heldAnswers)
	c.get("/cache/answers/{key}", guard.ReadsAll, func(r *http.Request) (any, error) {
		return s.env.Delivery.ExplainEntry(r.Context(), chi.URLParam(r, "key"))
	})
	c.do("POST", "/cache/purge", guard.Administers, s.purge)
	c.do("POST", "/cache/warm", guard.Administers.WithBody(2<<20), s.warm)
	c.get("/downstream", guard.ReadsAll, func(r *http.Request) (any, error) {
		all, err := s.env.Automation.Downstream(r.Context())
		return map[string]any{"items": all}, err
	})
	c.get("/nodes", guard.ReadsAll, func(r *http.Request) (any, error) {
		nodes, err := s.env.Replica.Nodes(r.Context())
		return map[string]any{"items": nodes}, err
	})
	c.get("/changes", guard.ReadsAll.InTurn(), s.listChanges)
	c.get("/changes/{sequence}", guard.ReadsAll, func(r *http.Request) (any, error) {
		n, err := guard.Number(map[string]string{"sequence": chi.URLParam(r, "sequence")}, "sequence")
		if err != nil {
			return nil, err
		}
		return s.env.Diagnosis.Change(r.Context(), int64(n))
	})
	c.do("POST", "/changes/simulate", guard.ReadsAll.InTurn(), s.simulate)
}

func (s *API) heldAnswers(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "edition", "type", "entry", "search", "sort", "limit")
	if err != nil {
		return nil, err
	}
	n, err := guard.Number(p, "limit")
	if err != nil {
		return nil, err
	}
	if n == 0 {
		n = 100
	}
	switch p["sort"] {
	case "", "hits", "bytes", "age":
	default:
		return nil, api.Problem{
			Kind:      "parameter",
			Status:    400,
			Parameter: "sort",
			Detail:    strconv.Quote(p["sort"]) + " is none of hits, bytes, age",
		}
	}
	return s.env.Delivery.Entries(
		api.CacheQuery{
			Edition: p["edition"],
			Type:    p["type"],
			Entry:   p["entry"],
			Search:  p["search"],
			Sort:    p["sort"],
		},
		min(n, 1000),
	), nil
}

// purge throws away what the conditions mean, or, with check, says how many those
// are.
func (s *API) purge(r *http.Request) (any, error) {
	var form struct {
		api.CacheQuery
		Check bool `json:"check"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	if form.Check {
		return map[string]int{"would": s.env.Delivery.Entries(form.CacheQuery, 0).Total}, nil
	}
	out := map[string]int{"purged": s.env.Delivery.Purge(form.CacheQuery)}
	return out, s.env.Audit.Note(
		r.Context(), guard.ActorName(r), "cache purge", "", nil, map[string]any{
			"purged": out["purged"],
			"meant":  form.CacheQuery,
		},
	)
}

func (s *API) warm(r *http.Request) (any, error) {
	var form struct {
		Requests []string `json:"requests"`
		Hottest  int      `json:"hottest"`
		Paths    bool     `json:"paths"` // for each path of the site, those with {path} in them
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	if form.Paths {
		var err error
		if form.Requests, err = s.env.Delivery.ExpandPaths(r.Context(), form.Requests); err != nil {
			return nil, err
		}
	}
	for i, text := range form.Requests {
		if strings.HasPrefix(text, "/content/") {
			continue
		}
		form.Requests[i] = "/content/" + s.env.Replica.Environment() + "/published/" + strings.TrimPrefix(text, "/")
	}
	items, err := s.env.Delivery.WarmAll(r.Context(), form.Requests, form.Hottest)
	if err != nil {
		return nil, api.Problem{Kind: "body", Status: 400, Parameter: "requests", Detail: err.Error()}
	}
	err = s.env.Audit.Note(
		r.Context(), guard.ActorName(r), "cache warm", "", nil, map[string]any{"requests": len(items)},
	)
	return map[string]any{"items": items}, err
}

func (s *API) listChanges(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "entry", "below", "limit")
	if err != nil {
		return nil, err
	}
	limit, err := guard.Number(p, "limit")
	if err != nil {
		return nil, err
	}
	below, err := guard.Number(p, "below")
	if err != nil {
		return nil, err
	}
	if limit == 0 {
		limit = 50
	}
	items, err := s.env.Diagnosis.Changes(r.Context(), p["entry"], int64(below), min(limit, 500))
	return map[string]any{"items": items}, err
}

func (s *API) simulate(r *http.Request) (any, error) {
	var form struct {
		Entry  string `json:"entry"`
		What   string `json:"what"`
		Change int64  `json:"change"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	if form.What == "" {
		form.What = "publish"
	}
	switch {
	case form.What != "publish" && form.What != "unpublish":
		return nil, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "what",
			Detail:    strconv.Quote(form.What) + " is neither publish nor unpublish",
		}
	case (form.Entry == "") == (form.Change == 0):
		return nil, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "entry",
			Detail:    "name an entry, or a change",
			Hint:      `as in {"entry": "…", "what": "publish"}, or {"change": 112}`,
		}
	}
	return s.env.Diagnosis.Simulate(r.Context(), form.Entry, form.What, form.Change)
}

// confirm adds to an answer whether all nodes know of what is stored, if the request would
// wait for that, and that this one does not, if so.
func (s *API) confirm(r *http.Request, done writing.Applied, out *editOutcome) {
	patience := guard.WaitTime(r)
	if patience == 0 || done.Sequence == 0 {
		if done.Unproven {
			out.Confirmed, out.Unconfirmed = new(bool), []string{s.env.Replica.Node.Name}
		}
		return
	}
	open, err := s.env.Replica.Confirm(r.Context(), done.Sequence, patience)
	if err != nil {
		s.env.Replica.Work().Failures.Failed(s.log, "whether all nodes know of a write cannot be said", "error", err)
		open = []string{s.env.Replica.Node.Name}
	}
	all := len(open) == 0
	out.Confirmed, out.Unconfirmed = &all, open
}
