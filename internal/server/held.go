package server

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/delivery"
	"ubiquon/internal/store/writing"
)

// routeCache mounts what is asked of the cache, the change log and the nodes.
func (s *Server) routeCache(c routes) {
	c.get("/cache", readsAll, func(*http.Request) (any, error) { return s.env.Delivery.CacheStats(), nil })
	c.get("/cache/history", readsAll, func(*http.Request) (any, error) {
		return map[string]any{"items": s.env.Delivery.CacheHistory()}, nil
	})
	c.get("/cache/answers", readsAll.inTurn(), s.heldAnswers)
	c.get("/cache/answers/{key}", readsAll, func(r *http.Request) (any, error) {
		return s.env.Delivery.ExplainEntry(r.Context(), chi.URLParam(r, "key"))
	})
	c.do("POST", "/cache/purge", administers, s.purge)
	c.do("POST", "/cache/warm", administers.withBody(2<<20), s.warm)
	c.get("/downstream", readsAll, func(r *http.Request) (any, error) {
		all, err := s.env.Automation.Downstream(r.Context())
		return map[string]any{"items": all}, err
	})
	c.get("/nodes", readsAll, func(r *http.Request) (any, error) {
		nodes, err := s.env.Replica.Nodes(r.Context())
		return map[string]any{"items": nodes}, err
	})
	c.get("/changes", readsAll.inTurn(), s.listChanges)
	c.get("/changes/{sequence}", readsAll, func(r *http.Request) (any, error) {
		n, err := number(map[string]string{"sequence": chi.URLParam(r, "sequence")}, "sequence")
		if err != nil {
			return nil, err
		}
		return s.env.Diagnosis.Change(r.Context(), int64(n))
	})
	c.do("POST", "/changes/simulate", readsAll.inTurn(), s.simulate)
}

func (s *Server) heldAnswers(r *http.Request) (any, error) {
	p, err := queryValues(r, "edition", "type", "entry", "search", "sort", "limit")
	if err != nil {
		return nil, err
	}
	n, err := number(p, "limit")
	if err != nil {
		return nil, err
	}
	if n == 0 {
		n = 100
	}
	switch p["sort"] {
	case "", "hits", "bytes", "age":
	default:
		return nil, badRequest{
			problem{
				Kind:      "parameter",
				Status:    400,
				Parameter: "sort",
				Detail:    strconv.Quote(p["sort"]) + " is none of hits, bytes, age",
			},
		}
	}
	return s.env.Delivery.Entries(
		delivery.CacheQuery{
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
func (s *Server) purge(r *http.Request) (any, error) {
	var form struct {
		delivery.CacheQuery
		Check bool `json:"check"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	if form.Check {
		return map[string]int{"would": s.env.Delivery.Entries(form.CacheQuery, 0).Total}, nil
	}
	out := map[string]int{"purged": s.env.Delivery.Purge(form.CacheQuery)}
	return out, s.env.Audit.Note(
		r.Context(), by(r), "cache purge", "", nil, map[string]any{"purged": out["purged"], "meant": form.CacheQuery},
	)
}

func (s *Server) warm(r *http.Request) (any, error) {
	var form struct {
		Requests []string `json:"requests"`
		Hottest  int      `json:"hottest"`
		Paths    bool     `json:"paths"` // for each path of the site, those with {path} in them
	}
	if err := readBody(r, &form); err != nil {
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
		return nil, badRequest{problem{Kind: "body", Status: 400, Parameter: "requests", Detail: err.Error()}}
	}
	return map[string]any{
			"items": items,
		}, s.env.Audit.Note(
			r.Context(), by(r), "cache warm", "", nil, map[string]any{"requests": len(items)},
		)
}

func (s *Server) listChanges(r *http.Request) (any, error) {
	p, err := queryValues(r, "entry", "below", "limit")
	if err != nil {
		return nil, err
	}
	limit, err := number(p, "limit")
	if err != nil {
		return nil, err
	}
	below, err := number(p, "below")
	if err != nil {
		return nil, err
	}
	if limit == 0 {
		limit = 50
	}
	items, err := s.env.Diagnosis.Changes(r.Context(), p["entry"], int64(below), min(limit, 500))
	return map[string]any{"items": items}, err
}

func (s *Server) simulate(r *http.Request) (any, error) {
	var form struct {
		Entry  string `json:"entry"`
		What   string `json:"what"`
		Change int64  `json:"change"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	if form.What == "" {
		form.What = "publish"
	}
	switch {
	case form.What != "publish" && form.What != "unpublish":
		return nil, badRequest{
			problem{
				Kind:      "body",
				Status:    400,
				Parameter: "what",
				Detail:    strconv.Quote(form.What) + " is neither publish nor unpublish",
			},
		}
	case (form.Entry == "") == (form.Change == 0):
		return nil, badRequest{
			problem{
				Kind:      "body",
				Status:    400,
				Parameter: "entry",
				Detail:    "name an entry, or a change",
				Hint:      `as in {"entry": "…", "what": "publish"}, or {"change": 112}`,
			},
		}
	}
	return s.env.Diagnosis.Simulate(r.Context(), form.Entry, form.What, form.Change)
}

// maxWait is how long a request may wait for all nodes.
const maxWait = 30 * time.Second

// waits reads Prefer: wait (RFC 7240): how long the client would wait for every node
// to know of what it does; 0 for not at all.
func waits(r *http.Request) time.Duration {
	for one := range strings.SplitSeq(strings.Join(r.Header["Prefer"], ","), ",") {
		if text, is := strings.CutPrefix(strings.ReplaceAll(strings.TrimSpace(one), " ", ""), "wait="); is {
			if n, err := strconv.Atoi(text); err == nil && n > 0 {
				return min(time.Duration(n)*time.Second, maxWait)
			}
		}
	}
	return 0
}

// confirm adds to an answer whether all nodes know of what is stored, if the request would
// wait for that, and that this one does not, if so.
func (s *Server) confirm(r *http.Request, done writing.Applied, out *editOutcome) {
	patience := waits(r)
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
