package server

import (
	"errors"
	"io"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/proof"
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
	name := chi.URLParam(r, "origin")
	m := proof.Message{Method: r.Method, URL: s.Guard.Self(r) + r.URL.RequestURI(), Header: r.Header, Body: body}
	m.Address, _ = netip.ParseAddr(s.Guard.Address(r)) // none is in no network
	got, err := s.env.Ingest.Receive(r.Context(), name, &m)
	if source := s.env.Ingest.Source(name); source != nil && source.Config.Decode.Name == event.XMLRPC &&
		!got.Captured {
		s.answerPing(w, r, err)
		return
	}
	if err != nil {
		s.refuseHook(w, r, name, err)
		return
	}
	out := map[string]any{"duplicate": got.Duplicates > 0 && got.Duplicates == len(got.Events)}
	if len(got.Events) > 0 {
		out["event"] = got.Events[0]
	}
	if len(got.Events) > 1 {
		out["events"] = got.Events
	}
	if got.Captured {
		out["captured"] = true
	}
	if got.Unknown != "" {
		out["notUnderstood"] = got.Unknown
	}
	if patience := guard.WaitTime(r); patience > 0 && len(got.Events) > 0 {
		s.awaitEvents(r, got.Events, patience, out)
	}
	guard.WriteJSON(w, http.StatusAccepted, out)
}

// awaitEvents waits until what was announced is carried out. It is kept already: whatever comes of the
// waiting, it is accepted.
func (s *Server) awaitEvents(r *http.Request, all []string, patience time.Duration, out map[string]any) {
	until := time.Now().Add(patience)
	confirmed, missing := true, map[string]bool{}
	for _, id := range all {
		state, open, err := s.env.Ingest.ConfirmEvent(r.Context(), id, max(0, time.Until(until)))
		if err != nil {
			s.log.Warn("an announcement is accepted, and what became of it cannot be said", "event", id, "error", err)
		}
		out["state"] = state
		confirmed = confirmed && err == nil && state == events.EventDone && len(open) == 0
		for _, node := range open {
			missing[node] = true
		}
	}
	if out["confirmed"] = confirmed; len(missing) > 0 {
		out["unconfirmed"] = slices.Sorted(maps.Keys(missing))
	}
}

// refuseHook tells why an announcement is not taken in.
func (s *Server) refuseHook(w http.ResponseWriter, r *http.Request, name string, err error) {
	var undecodable *ingest.UndecodableError
	var media *event.ContentTypeError
	switch {
	case errors.Is(err, ingest.ErrUnknownOrigin):
		guard.WriteProblem(w, api.Problem{Kind: "not-found", Status: 404, Detail: err.Error()})
	case errors.Is(err, proof.ErrNotProven):
		if source := s.env.Ingest.Source(name); source != nil {
			w.Header().Set("WWW-Authenticate", source.Challenge())
		}
		guard.WriteProblem(w, api.Problem{Kind: "signature", Status: 401, Detail: err.Error()})
	case errors.As(err, &media):
		guard.WriteProblem(w, api.Problem{Kind: "media-type", Status: 415, Detail: err.Error()})
	case errors.As(err, &undecodable):
		guard.WriteProblem(w, api.Problem{Kind: "body", Status: 422, Detail: err.Error()})
	default:
		s.Guard.Fail(w, r, err)
	}
}

// answerPing answers the weblog ping in XML-RPC, where a failure is an answer, too.
func (s *Server) answerPing(w http.ResponseWriter, r *http.Request, err error) {
	reason := ""
	var undecodable *ingest.UndecodableError
	switch {
	case errors.As(err, &undecodable), errors.Is(err, proof.ErrNotProven), errors.Is(err, access.ErrTooMany):
		reason = err.Error()
	case err != nil:
		s.log.Error("a ping is not taken in", "error", err)
		reason = "the ping cannot be taken in now"
	}
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = w.Write(event.PingAnswer(reason)) // the caller may be gone
}

// verifyHook answers the hub of a feed that asks whether a subscription is meant.
func (s *Server) verifyHook(w http.ResponseWriter, r *http.Request) {
	challenge, ok, err := s.env.Ingest.VerifySubscription(r.Context(), chi.URLParam(r, "origin"), r.URL.Query())
	switch {
	case err != nil:
		s.Guard.Fail(w, r, err)
	case !ok:
		guard.WriteProblem(w, api.Problem{
			Kind: "not-found", Status: 404, Detail: "no subscription of this kind was asked for; announcements are " +
				"sent with POST",
		})
	default:
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		_, _ = io.WriteString(w, challenge) // the hub may be gone
	}
}
