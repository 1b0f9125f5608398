package server

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/gateway"
	"ubiquon/internal/store"
)

// controlSchedules mounts what is done with schedules.
func (s *Server) controlSchedules(r chi.Router) {
	r.Get("/schedules", answerWith(s, func(r *http.Request) (any, error) {
		p, err := queryValues(r, "state")
		if err != nil {
			return nil, err
		}
		items, err := s.g.Schedules(r.Context(), p["state"])
		return map[string]any{"items": items}, err
	}))
	r.Post("/schedules", answerWith(s, func(r *http.Request) (any, error) {
		var form struct {
			momentForm
			Entry   string   `json:"entry"`
			Action  string   `json:"action"` // publish or unpublish
			Locales []string `json:"locales"`
		}
		if err := readBody(r, &form); err != nil {
			return nil, err
		}
		at, zone, err := gateway.ParseMoment(form.At, form.Zone)
		if err != nil {
			return nil, err
		}
		return s.g.AddSchedule(r.Context(), store.Schedule{Entry: form.Entry, Action: form.Action, Locales: form.Locales, At: at, Zone: zone, By: keyOf(r).Name})
	}))
	r.Patch("/schedules/{id}", answerWith(s, func(r *http.Request) (any, error) {
		var form momentForm
		if err := readBody(r, &form); err != nil {
			return nil, err
		}
		at, zone, err := gateway.ParseMoment(form.At, form.Zone)
		if err != nil {
			return nil, err
		}
		return s.g.MoveSchedule(r.Context(), chi.URLParam(r, "id"), at, zone)
	}))
	r.Delete("/schedules/{id}", answerWith(s, func(r *http.Request) (any, error) {
		return map[string]bool{"cancelled": true}, s.g.CancelSchedule(r.Context(), chi.URLParam(r, "id"), keyOf(r).Name)
	}))
}

// momentForm is a moment: RFC 3339, or a local time in the zone.
type momentForm struct {
	At   string `json:"at"`
	Zone string `json:"zone"`
}
