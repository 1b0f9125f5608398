// Package controlapi is the surface under /control/v1/, for those who run the service and
// edit content.
package controlapi

import (
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/environment"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/guard"
)

// API answers the requests under /control/v1/ of one environment. It is safe for concurrent
// use. Create it with New.
type API struct {
	env     *environment.Environment
	guard   *guard.Guard
	content *contentapi.API
	log     *slog.Logger
}

// New returns the surface.
func New(e *environment.Environment, g *guard.Guard, content *contentapi.API, log *slog.Logger) *API {
	return &API{env: e, guard: g, content: content, log: log}
}

// routes mounts routes of the control endpoints, each with its permit.
type routes struct {
	s *API
	r chi.Router
}

func (c routes) handle(method, path string, need guard.Permit, h http.Handler) {
	c.r.Method(method, path, c.s.guard.Guard(need, h))
}

// do mounts a route that answers with JSON.
func (c routes) do(method, path string, need guard.Permit, f func(*http.Request) (any, error)) {
	h := http.Handler(guard.JSON(c.s.guard, f))
	if need.Once {
		h = c.s.guard.Background(need.Proved, c.s.guard.Idempotent(need.Proved, h))
	}
	c.handle(method, path, need, h)
}

func (c routes) get(path string, need guard.Permit, f func(*http.Request) (any, error)) {
	c.do("GET", path, need, f)
}

// Mount mounts what those who run the service ask of it.
func (s *API) Mount(r chi.Router) {
	c := routes{s, r}
	s.routeSessions(c)
	s.routeModel(c)
	s.routeEntries(c)
	s.routePreviewLinks(c)
	s.routeSchedules(c)
	s.routeKeys(c)
	s.routeAccounts(c)
	s.routeBuilds(c)
	s.routeOrigins(c)
	s.routeReads(c)
	c.get("/status", guard.ReadsAll, func(r *http.Request) (any, error) { return s.env.Diagnosis.Status(r.Context()) })
	c.get("/writes/{write}", guard.WritesOrDecides, s.guard.ShowWrite)
	c.get("/events", guard.ReadsAll, s.listEvents)
	c.get(
		"/events/{id}", guard.ReadsAll,
		func(r *http.Request) (any, error) { return s.env.Ingest.Event(r.Context(), chi.URLParam(r, "id")) },
	)
	s.routeCache(c)
	c.do("POST", "/why", guard.ReadsAll.InTurn(), s.why)
	c.handle("GET", "/news", guard.ReadsAll, http.HandlerFunc(s.news))
}

// routeBuilds mounts what is done with sites and their builds.
func (s *API) routeBuilds(c routes) {
	c.get("/sites", guard.ReadsAll, func(r *http.Request) (any, error) {
		sites, err := s.env.Automation.Sites(r.Context())
		return map[string]any{"items": sites}, err
	})
	c.do("POST", "/sites/{site}/rebuild", guard.Rebuilds, s.rebuild)
	c.get("/builds", guard.ReadsAll, s.listBuilds)
	c.get(
		"/builds/{id}", guard.ReadsAll,
		func(r *http.Request) (any, error) { return s.env.Automation.Build(r.Context(), chi.URLParam(r, "id")) },
	)
	// The site's own key is enough for this one.
	c.do("POST", "/builds/{id}/reports", guard.Reports, s.report)
}

func (s *API) listEvents(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "state", "entry", "limit")
	if err != nil {
		return nil, err
	}
	n, err := guard.Number(p, "limit")
	if err != nil {
		return nil, err
	}
	items, err := s.env.Ingest.Events(r.Context(), api.EventFilter{State: p["state"], Entry: p["entry"], Limit: n})
	return map[string]any{"items": items}, err
}

func (s *API) listBuilds(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "site", "limit")
	if err != nil {
		return nil, err
	}
	n, err := guard.Number(p, "limit")
	if err != nil {
		return nil, err
	}
	items, err := s.env.Automation.Builds(r.Context(), api.BuildFilter{Site: p["site"], Limit: n})
	return map[string]any{"items": items}, err
}

func (s *API) rebuild(r *http.Request) (any, error) {
	var form struct {
		Now bool `json:"now"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	b, err := s.env.Automation.Rebuild(r.Context(), chi.URLParam(r, "site"), guard.ActorName(r), form.Now)
	if err == nil {
		err = s.env.Audit.Note(
			r.Context(), guard.ActorName(r), "build start", chi.URLParam(r, "site"), nil,
			map[string]any{"build": b.ID, "now": form.Now},
		)
	}
	return b, err
}

// report takes a builder's word on a build, with the site's key.
func (s *API) report(r *http.Request) (any, error) {
	b, err := s.env.Automation.Build(r.Context(), chi.URLParam(r, "id"))
	if who := guard.PrincipalOf(r); !who.Rights.Allows(access.Administer) &&
		(err != nil || who.Site == "" || who.Site != b.Site) {
		return nil, &access.DeniedError{Grant: access.Administer, Everyone: !who.Identified()}
	}
	if err != nil {
		return nil, err
	}
	var form struct {
		State string `json:"state"`
		Error string `json:"error"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	switch rebuild.State(form.State) {
	case "started", rebuild.Finished, rebuild.Failed:
		return s.env.Automation.ReportBuild(r.Context(), b.ID, form.State, form.Error)
	}
	return nil, api.Problem{
		Kind:      "body",
		Status:    400,
		Parameter: "state",
		Detail:    fmt.Sprintf("%q is none of started, finished, failed", form.State),
	}
}

// news tells the console, as server-sent events, that there is something new to
// fetch, until whoever asks may not any more.
func (s *API) news(w http.ResponseWriter, r *http.Request) {
	end, err := s.guard.Streams.Open(
		guard.PrincipalOf(r).QueueName(s.guard.Network(r)), s.env.Replica.Limits().Streams,
		s.env.Replica.Limits().StreamsPerPrincipal,
	)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	defer end()
	news, stop := s.env.Replica.News().Listen()
	defer stop()
	out := guard.BeginEvents(w)
	beat := time.NewTicker(guard.StreamBeat)
	defer beat.Stop()
	still := func() bool {
		reader, err := s.guard.PresentPrincipal(r)
		return err == nil && guard.ReadsAll.Check(&reader, time.Now()) == nil
	}
	for {
		if err := out.Out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.guard.Streams.Ending:
			out.Bye()
			return
		case what := <-news:
			if what == accessNews && !still() {
				return
			}
			out.Write("event: news\ndata: %s\n\n", what)
		case <-beat.C:
			if !still() {
				return
			}
			out.Write(": still here\n\n")
		}
	}
}

// accessNews is the word that keys or grants have changed.
const accessNews = "access"
