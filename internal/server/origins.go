package server

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/gateway"
)

// routeOrigins mounts what is done with origins.
func (s *Server) routeOrigins(c routes) {
	c.get("/origins", readsAll, func(r *http.Request) (any, error) {
		items, err := s.g.Origins(r.Context())
		return map[string]any{"items": items}, err
	})
	c.handle("POST", "/origins/{origin}/compare", administers, http.HandlerFunc(s.compareOrigin))
	c.do("POST", "/wake", administers, func(r *http.Request) (any, error) {
		s.g.Wake()
		return map[string]bool{"awake": true}, s.g.Note(r.Context(), by(r), "wake", "", nil, nil)
	})
}

// comparing is one line of the answer to a comparison.
type comparing struct {
	Type string              `json:"type,omitempty"`
	Seen int                 `json:"seen,omitempty"`
	Done *gateway.Reconciled `json:"done,omitempty"`
}

// compareOrigin compares everything an origin holds with what is held here, and answers
// with its progress as NDJSON.
func (s *Server) compareOrigin(w http.ResponseWriter, r *http.Request) {
	var form struct {
		// Delete has entries deleted that the origin does not have any more, however many.
		Delete bool `json:"delete"`
	}
	if err := readBody(r, &form); err != nil {
		s.fail(w, r, err)
		return
	}
	name := chi.URLParam(r, "origin")
	if err := s.g.Note(r.Context(), by(r), "origin compare", name, nil, form); err != nil {
		s.fail(w, r, err)
		return
	}
	out := newStream(w)
	done, err := s.g.Reconcile(r.Context(), name, content.Cause{Kind: "reconcile", Name: name}, form.Delete, func(typ string, n int) { out.write(comparing{Type: typ, Seen: n}) })
	switch {
	case err == nil:
		out.write(comparing{Done: &done})
	case out.started:
		out.write(map[string]any{"problem": map[string]string{"detail": err.Error()}})
	default:
		s.fail(w, r, err)
	}
}
