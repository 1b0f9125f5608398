package controlapi

import (
	"cmp"
	"net/http"
	"strconv"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/store/writing"
)

// cacheOperations are what is asked of the cache, the change log and the nodes.
func cacheOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /status", "getStatus", "Say how the service stands", guard.ReadsAll, (*API).status).
			WithExample(api.None{}),
		operation.Raw[*API, api.None, string](
			"GET /news",
			"followNews",
			"Be told, as server-sent events, that something has changed",
			guard.ReadsAll,
			(*API).news,
		).AnswersWith(operation.MediaEvents),
		operation.Call(
			"GET /cache", "getCacheStats", "Say what the node's cache has done", guard.ReadsAll, (*API).cacheStats).
			WithExample(api.None{}),
		operation.Call(
			"GET /cache/history",
			"getCacheHistory",
			"Say what reads and the cache did over the last hour, day or week",
			guard.ReadsAll,
			(*API).cacheHistory,
		).
			WithExample(api.HistorySpan{Span: "day"}),
		operation.Call("GET /cache/answers", "listCachedAnswers", "List the answers in the node's cache",
			guard.ReadsAll.InTurn(), (*API).cachedAnswers).
			WithExample(api.CacheListing{Sort: "bytes", Limit: 5}),
		operation.Call("GET /cache/answers/{key}", "explainCachedAnswer", "Say what an answer in the cache depends on",
			guard.ReadsAll, (*API).explainCachedAnswer),
		operation.Call("POST /cache/purge", "purgeCache", "Throw cached answers of this node away",
			guard.Administers, (*API).purge).
			WithExample(api.CachePurge{CacheQuery: api.CacheQuery{Type: "notice"}, Check: true}),
		operation.Call("POST /cache/warm", "warmCache", "Have answers computed before anybody asks",
			guard.Administers.WithBody(2<<20), (*API).warm).
			WithExample(api.CacheWarming{Requests: []string{"/notices?limit=3"}}),
		operation.Call("GET /downstream", "listDownstream", "List the caches in front that are told of changes",
			guard.ReadsAll, (*API).listDownstream).
			WithExample(api.None{}),
		operation.Call("GET /nodes", "listNodes", "List the nodes of the environment", guard.ReadsAll, (*API).listNodes).
			WithExample(api.None{}),
		operation.Call("GET /changes", "listChanges", "List the changes that readers could see, the newest first",
			guard.ReadsAll.InTurn(), (*API).listChanges).
			WithExample(api.ChangeFilter{Limit: 5}),
		operation.Call("GET /changes/{sequence}", "getChange", "Get a change, and the rules that it triggered",
			guard.ReadsAll, (*API).getChange).
			WithExample(api.ChangeRef{Sequence: 1}),
		operation.Call("POST /changes/simulate", "simulateChange", "Say what a change would expire and rebuild",
			guard.ReadsAll.InTurn(), (*API).simulate).
			WithExample(api.SimulatedChange{Change: 1}),
	}
}

func (s *API) status(r *http.Request, _ api.None) (api.Status, error) {
	return s.env.Diagnosis.Status(r.Context())
}

func (s *API) cacheStats(*http.Request, api.None) (api.CacheStats, error) {
	return s.env.Delivery.CacheStats(), nil
}

func (s *API) cacheHistory(r *http.Request, in api.HistorySpan) (api.Items[api.CacheSample], error) {
	return operation.Items(s.env.Delivery.CacheHistory(r.Context(), cmp.Or(in.Span, "hour")))
}

func (s *API) explainCachedAnswer(r *http.Request, in api.CacheKey) (api.ExplainedEntry, error) {
	return s.env.Delivery.ExplainEntry(r.Context(), in.Key)
}

func (s *API) listDownstream(r *http.Request, _ api.None) (api.Items[api.Downstream], error) {
	return operation.Items(s.env.Automation.Downstream(r.Context()))
}

func (s *API) listNodes(r *http.Request, _ api.None) (api.Items[api.NodeState], error) {
	return operation.Items(s.env.Replica.Nodes(r.Context()))
}

func (s *API) cachedAnswers(_ *http.Request, in api.CacheListing) (api.CacheEntries, error) {
	if in.Limit == 0 {
		in.Limit = 100
	}
	switch in.Sort {
	case "", "hits", "bytes", "age":
	default:
		return api.CacheEntries{}, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "sort",
			Detail:    strconv.Quote(in.Sort) + " is none of hits, bytes, age",
		}
	}
	return s.env.Delivery.Entries(api.CacheQuery{
		Edition: in.Edition,
		Type:    in.Type,
		Entry:   in.Entry,
		Search:  in.Search,
		Sort:    in.Sort,
	}, min(in.Limit, 1000)), nil
}

// purge throws away what the conditions mean, or, with check, says how many those are.
func (s *API) purge(r *http.Request, in api.CachePurge) (api.CachePurged, error) {
	if in.Check {
		return api.CachePurged{Would: new(s.env.Delivery.Entries(in.CacheQuery, 0).Total)}, nil
	}
	n := s.env.Delivery.Purge(in.CacheQuery)
	return api.CachePurged{Purged: &n}, s.env.Audit.Note(
		r.Context(), guard.ActorName(r), "cache purge", "", nil, map[string]any{"purged": n, "meant": in.CacheQuery},
	)
}

func (s *API) warm(r *http.Request, in api.CacheWarming) (out api.Items[api.Warmed], err error) {
	if in.Paths {
		if in.Requests, err = s.env.Delivery.ExpandPaths(r.Context(), in.Requests); err != nil {
			return out, err
		}
	}
	for i, text := range in.Requests {
		if strings.HasPrefix(text, "/content/") {
			continue
		}
		in.Requests[i] = "/content/" + s.env.Replica.Environment() + "/published/" + strings.TrimPrefix(text, "/")
	}
	if out, err = operation.Items(s.env.Delivery.WarmAll(r.Context(), in.Requests, in.Hottest)); err != nil {
		return out, operation.BadMember("requests", err.Error())
	}
	return out, s.env.Audit.Note(
		r.Context(), guard.ActorName(r), "cache warm", "", nil, map[string]any{"requests": len(out.Items)},
	)
}

func (s *API) listChanges(r *http.Request, in api.ChangeFilter) (api.Items[content.Change], error) {
	if in.Limit == 0 {
		in.Limit = 50
	}
	return operation.Items(s.env.Diagnosis.Changes(r.Context(), in.Entry, in.Below, min(in.Limit, 500)))
}

func (s *API) getChange(r *http.Request, in api.ChangeRef) (api.ChangeDetail, error) {
	return s.env.Diagnosis.Change(r.Context(), in.Sequence)
}

func (s *API) simulate(r *http.Request, in api.SimulatedChange) (api.Simulation, error) {
	if in.What == "" {
		in.What = "publish"
	}
	switch {
	case in.What != "publish" && in.What != "unpublish":
		return api.Simulation{}, operation.BadMember("what", strconv.Quote(in.What)+" is neither publish nor unpublish")
	case (in.Entry == "") == (in.Change == 0):
		return api.Simulation{}, api.Problem{
			Kind:      "body",
			Status:    http.StatusBadRequest,
			Parameter: "entry",
			Detail:    "name an entry, or a change",
			Hint:      `as in {"entry": "…", "what": "publish"}, or {"change": 112}`,
		}
	}
	return s.env.Diagnosis.Simulate(r.Context(), in.Entry, in.What, in.Change)
}

// confirm adds to an answer whether all nodes know of what is stored, if the request would
// wait for that, and that this one does not, if so.
func (s *API) confirm(r *http.Request, done writing.Applied, out *api.EditOutcome) {
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
	if out.Pages, err = s.env.Pages.Affected(r.Context(), done.Changes); err != nil {
		s.env.Replica.Work().Failures.Failed(s.log, "on which pages a write shows cannot be said", "error", err)
	}
}
