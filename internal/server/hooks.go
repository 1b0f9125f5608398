package server

import (
	"errors"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/core/event"
	"ubiquon/internal/gateway"
)

// hook takes in an announcement. It answers 202 as soon as it is kept.
func (s *Server) hook(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, event.MaxBody))
	if err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			writeProblem(w, problem{Kind: "too-large", Status: 413, Detail: "an announcement may have 1 MiB"})
			return
		}
		writeProblem(w, problem{Kind: "body", Status: 400, Detail: "the body broke off"})
		return
	}
	id, duplicate, err := s.g.Receive(r.Context(), chi.URLParam(r, "origin"), r.Header, body)
	var undecodable *gateway.UndecodableError
	switch {
	case errors.Is(err, gateway.ErrUnknownOrigin):
		writeProblem(w, problem{Kind: "not-found", Status: 404, Detail: err.Error()})
	case errors.Is(err, event.ErrNotProven):
		w.Header().Set("WWW-Authenticate", `StandardWebhooks realm="ubiquon"`)
		writeProblem(w, problem{Kind: "signature", Status: 401, Detail: err.Error()})
	case errors.Is(err, event.ErrContentType):
		writeProblem(w, problem{Kind: "media-type", Status: 415, Detail: err.Error()})
	case errors.As(err, &undecodable):
		writeProblem(w, problem{Kind: "body", Status: 422, Detail: err.Error()})
	case err != nil:
		s.fail(w, r, err)
	default:
		writeJSON(w, http.StatusAccepted, map[string]any{"event": id, "duplicate": duplicate})
	}
}
