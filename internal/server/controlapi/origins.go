package controlapi

import (
	"net/http"
	"slices"
	"strconv"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/ingest"
	"ubiquon/internal/server/guard"
)

// routeOrigins mounts what is done with origins.
func (s *API) routeOrigins(c routes) {
	c.get("/origins", guard.ReadsAll, func(r *http.Request) (any, error) {
		items, err := s.env.Ingest.Origins(r.Context())
		return map[string]any{"items": items}, err
	})
	c.get("/origins/{origin}/untaken", guard.ReadsAll, func(r *http.Request) (any, error) {
		items, err := s.env.Ingest.Untaken(r.Context(), chi.URLParam(r, "origin"))
		return map[string]any{"items": items}, err
	})
	c.handle("POST", "/origins/{origin}/retire", guard.Administers, http.HandlerFunc(s.retireOrigin))
	c.handle("POST", "/origins/{origin}/adopt", guard.Administers, http.HandlerFunc(s.adoptOrigin))
	c.handle("POST", "/origins/{origin}/compare", guard.Administers, http.HandlerFunc(s.compareOrigin))
	c.do("POST", "/wake", guard.Administers, func(r *http.Request) (any, error) {
		s.env.Replica.Work().Wake()
		return map[string]bool{"awake": true}, s.env.Audit.Note(r.Context(), guard.ActorName(r), "wake", "", nil, nil)
	})
}

// comparing is one line of the answer to a comparison.
type comparing struct {
	Type string `json:"type,omitempty"`
	Seen int    `json:"seen,omitempty"`
	Done any    `json:"done,omitempty"`
}

// withProgress does long work on an origin, and answers with its progress as NDJSON.
func withProgress[T any](s *API, w http.ResponseWriter, r *http.Request, work func(ingest.Progress) (T, error)) {
	out := guard.NewStream(w)
	done, err := work(func(typ string, n int) { out.Write(comparing{Type: typ, Seen: n}) })
	switch {
	case err == nil:
		out.Write(comparing{Done: done})
	case out.Started:
		out.Write(map[string]any{"problem": map[string]string{"detail": err.Error()}})
	default:
		s.guard.Fail(w, r, err)
	}
}

// retireOrigin lets go of an origin that is not configured any more.
func (s *API) retireOrigin(w http.ResponseWriter, r *http.Request) {
	var form struct {
		// Do is local, unpublish or delete.
		Do    string `json:"do"`
		Apply bool   `json:"apply"`
	}
	err := guard.ReadBody(r, &form)
	if err == nil && !slices.Contains([]string{ingest.KeepLocal, ingest.Unpublish, ingest.DeleteAll}, form.Do) {
		err = api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "do",
			Detail:    strconv.Quote(form.Do) + " is none of local, unpublish and delete",
		}
	}
	name := chi.URLParam(r, "origin")
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "origin retire", name, nil, form)
	}
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	withProgress(s, w, r, func(p ingest.Progress) (api.Retirement, error) {
		return s.env.Ingest.Retire(r.Context(), name, form.Do, guard.ActorName(r), form.Apply, p)
	})
}

// adoptOrigin has the entries of another origin change hands to this one.
func (s *API) adoptOrigin(w http.ResponseWriter, r *http.Request) {
	var form struct {
		From  string `json:"from"`
		By    string `json:"by"` // key, slug or path; empty for all of them, in this order
		Apply bool   `json:"apply"`
	}
	err := guard.ReadBody(r, &form)
	name := chi.URLParam(r, "origin")
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "origin adopt", name, nil, form)
	}
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	withProgress(s, w, r, func(p ingest.Progress) (api.Adoption, error) {
		return s.env.Ingest.Adopt(r.Context(), form.From, name, form.By, guard.ActorName(r), form.Apply, p)
	})
}

// compareOrigin compares everything an origin holds with what is held here, and answers
// with its progress as NDJSON.
func (s *API) compareOrigin(w http.ResponseWriter, r *http.Request) {
	var form struct {
		// Delete has entries deleted that the origin does not have any more, however many.
		Delete bool `json:"delete"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	name := chi.URLParam(r, "origin")
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "origin compare", name, nil, form); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	withProgress(s, w, r, func(p ingest.Progress) (api.Reconciled, error) {
		return s.env.Ingest.Reconcile(r.Context(), name, content.Cause{Kind: "reconcile", Name: name}, form.Delete, p)
	})
}
