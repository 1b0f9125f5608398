package server

import "net/http"

// live tells that the process runs.
func (s *Server) live(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, map[string]string{"status": "live"})
}

// ready tells whether reads can be answered: the database is there, the change
// log is followed.
func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.g.Ready(r.Context()); err != nil {
		writeJSON(w, http.StatusServiceUnavailable, map[string]string{"status": "not ready", "reason": err.Error()})
		return
	}
	writeJSON(w, http.StatusOK, map[string]string{"status": "ready"})
}
