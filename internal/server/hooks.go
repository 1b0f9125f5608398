package server

import (
	"errors"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/event"
	"ubiquon/internal/ingest"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/events"
)

// hook takes in an announcement. It answers 202 as soon as it is kept.
func (s *Server) hook(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, event.MaxBody))
	if err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			guard.WriteProblem(w, api.Problem{Kind: "too-large", Status: 413, Detail: "an announcement may have " +
				"1 MiB"})
			return
		}
		guard.WriteProblem(w, api.Problem{Kind: "body", Status: 400, Detail: "the body broke off"})
		return
	}
	id, duplicate, err := s.env.Ingest.Receive(r.Context(), chi.URLParam(r, "origin"), r.Header, body,
		s.Guard.Address(r))
	var undecodable *ingest.UndecodableError
	switch {
	case errors.Is(err, ingest.ErrUnknownOrigin):
		guard.WriteProblem(w, api.Problem{Kind: "not-found", Status: 404, Detail: err.Error()})
	case errors.Is(err, event.ErrNotProven):
		w.Header().Set("WWW-Authenticate", `StandardWebhooks realm="ubiquon"`)
		guard.WriteProblem(w, api.Problem{Kind: "signature", Status: 401, Detail: err.Error()})
	case errors.Is(err, event.ErrContentType):
		guard.WriteProblem(w, api.Problem{Kind: "media-type", Status: 415, Detail: err.Error()})
	case errors.As(err, &undecodable):
		guard.WriteProblem(w, api.Problem{Kind: "body", Status: 422, Detail: err.Error()})
	case err != nil:
		s.Guard.Fail(w, r, err)
	default:
		out := map[string]any{"event": id, "duplicate": duplicate}
		if patience := guard.WaitTime(r); patience > 0 {
			// It is kept already: whatever comes of the waiting, it is accepted.
			state, open, err := s.env.Ingest.ConfirmEvent(r.Context(), id, patience)
			if err != nil {
				s.log.Warn(
					"an announcement is accepted, and what became of it cannot be said", "event", id, "error", err,
				)
			}
			out["state"], out["confirmed"] = state, err == nil && state == events.EventDone && len(open) == 0
			if len(open) > 0 {
				out["unconfirmed"] = open
			}
		}
		guard.WriteJSON(w, http.StatusAccepted, out)
	}
}
