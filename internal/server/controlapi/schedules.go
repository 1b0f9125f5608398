package controlapi

import (
	"cmp"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
)

// routeSchedules mounts what is done with schedules.
func (s *API) routeSchedules(c routes) {
	c.get("/schedules", guard.ReadsAll, s.listSchedules)
	c.do("POST", "/schedules", guard.Publishes, s.addSchedule)
	c.do("PATCH", "/schedules/{id}", guard.Publishes, s.moveSchedule)
	c.do("DELETE", "/schedules/{id}", guard.Publishes, s.cancelSchedule)
}

// scheduleOf returns the schedule that a request is about, if who asks may change it.
func (s *API) scheduleOf(r *http.Request) (api.Schedule, error) {
	sch, err := s.env.Authoring.Schedule(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		return sch, err
	}
	return sch, s.guard.RequireOnEntry(r, sch.Entry, access.Publish, "published")
}

func (s *API) listSchedules(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "state", "limit")
	if err != nil {
		return nil, err
	}
	limit, err := strconv.Atoi(cmp.Or(p["limit"], "200"))
	if err != nil || limit < 1 || limit > 1000 {
		return nil, api.Problem{
			Kind:      "parameter",
			Status:    400,
			Parameter: "limit",
			Detail:    "limit is a number from 1 to 1000",
		}
	}
	items, total, err := s.env.Authoring.Schedules(r.Context(), p["state"], limit)
	return map[string]any{"items": items, "total": total}, err
}

func (s *API) addSchedule(r *http.Request) (any, error) {
	var form struct {
		timeForm
		Entry   string   `json:"entry"`
		Action  string   `json:"action"` // publish or unpublish
		Locales []string `json:"locales"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	at, zone, err := authoring.ParseMoment(form.At, form.Zone)
	if err != nil {
		return nil, err
	}
	if err := s.guard.RequireOnEntry(r, form.Entry, access.Publish, "published"); err != nil {
		return nil, err
	}
	out, err := s.env.Authoring.AddSchedule(
		r.Context(),
		api.Schedule{
			Entry:   form.Entry,
			Action:  form.Action,
			Locales: form.Locales,
			At:      at,
			Zone:    zone,
			By:      guard.ActorName(r),
		},
	)
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule add", out.ID, nil, out)
	}
	return out, err
}

func (s *API) moveSchedule(r *http.Request) (any, error) {
	var form timeForm
	before, err := s.scheduleOf(r)
	if err != nil {
		return nil, err
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	at, zone, err := authoring.ParseMoment(form.At, form.Zone)
	if err != nil {
		return nil, err
	}
	out, err := s.env.Authoring.MoveSchedule(r.Context(), chi.URLParam(r, "id"), at, zone)
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule move", out.ID, before, out)
	}
	return out, err
}

func (s *API) cancelSchedule(r *http.Request) (any, error) {
	before, err := s.scheduleOf(r)
	if err == nil {
		err = s.env.Authoring.CancelSchedule(r.Context(), chi.URLParam(r, "id"), guard.ActorName(r))
	}
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule cancel", chi.URLParam(r, "id"), before, nil)
	}
	return map[string]bool{"cancelled": true}, err
}

// timeForm is a moment: RFC 3339, or a local time in the zone.
type timeForm struct {
	At   string `json:"at"`
	Zone string `json:"zone"`
}
