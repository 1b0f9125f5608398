package server

import (
	"net/http"

	"ubiquon/internal/server/guard"
)

// live tells that the process runs.
func (s *Server) live(w http.ResponseWriter, _ *http.Request) {
	guard.WriteJSON(w, http.StatusOK, map[string]string{"status": "live"})
}

// readiness is the body of an answer on whether this node serves.
type readiness struct {
	Status string `json:"status"`
	Reason string `json:"reason,omitempty"`
	// Writes is "ok", or "failing" with why.
	Writes string `json:"writes,omitempty"`
	Why    string `json:"why,omitempty"`
}

// ready tells whether reads can be answered: the database is there, the change
// log is followed. While the database takes no writes reads are answered as before, so the
// status is 200 then too, except with ?writes: that is for whoever sends writes here.
func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.env.Replica.Ready(r.Context()); err != nil {
		guard.WriteJSON(w, http.StatusServiceUnavailable, readiness{Status: "not ready", Reason: err.Error()})
		return
	}
	out, status := readiness{Status: "ready", Writes: "ok"}, http.StatusOK
	if state := s.env.Authoring.Writes(); state.Error != "" {
		out.Writes, out.Why = "failing", state.Error
		if r.URL.Query().Has("writes") {
			out.Status, status = "not ready", http.StatusServiceUnavailable
		}
	}
	guard.WriteJSON(w, status, out)
}
