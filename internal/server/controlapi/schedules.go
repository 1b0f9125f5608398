package controlapi

import (
	"fmt"
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// scheduleOperations are what is done with schedules.
func scheduleOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /schedules", "listSchedules", "List schedules", guard.ReadsAll, (*API).listSchedules).
			WithExample(api.ScheduleFilter{State: "pending"}),
		operation.Call("POST /schedules", "createSchedule", "Have an entry published or unpublished at a moment",
			guard.Publishes, (*API).createSchedule).Fails("moment", "content"),
		operation.Call("POST /schedules/several", "createSchedules",
			"Have several entries published or unpublished at a moment, all or none",
			guard.Publishes, (*API).createSchedules).Fails("moment", "content"),
		operation.Call("PATCH /schedules/{id}", "moveSchedule", "Give a pending schedule another moment",
			guard.Publishes, (*API).moveSchedule).Fails("moment", "not-pending"),
		operation.Call("DELETE /schedules/{id}", "cancelSchedule", "Cancel a pending schedule",
			guard.Publishes, (*API).cancelSchedule).Fails("not-pending"),
	}
}

// scheduleOf returns the schedule that a request is about, if who asks may change it.
func (s *API) scheduleOf(r *http.Request, id string) (api.Schedule, error) {
	sch, err := s.env.Authoring.Schedule(r.Context(), id)
	if err != nil {
		return sch, err
	}
	return sch, s.guard.RequireOnEntry(r, sch.Entry, access.Publish, "published")
}

func (s *API) listSchedules(r *http.Request, in api.ScheduleFilter) (api.Page[api.Schedule], error) {
	switch {
	case in.Limit == 0:
		in.Limit = 200
	case in.Limit > 1000:
		return api.Page[api.Schedule]{}, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "limit",
			Detail:    "limit is a number from 1 to 1000",
		}
	}
	return operation.Page(s.env.Authoring.Schedules(r.Context(), in.State, in.Limit))
}

func (s *API) createSchedule(r *http.Request, in api.NewSchedule) (out api.Schedule, err error) {
	made, err := s.addSchedules(r, api.NewSchedules{
		Entries: []string{in.Entry}, Action: in.Action, At: in.At, Zone: in.Zone, Locales: in.Locales,
	})
	if len(made) == 1 {
		out = made[0]
	}
	return out, err
}

func (s *API) createSchedules(r *http.Request, in api.NewSchedules) (api.Items[api.Schedule], error) {
	if len(in.Entries) == 0 || len(in.Entries) > maxScheduled {
		return api.Items[api.Schedule]{}, operation.BadMember(
			"entries",
			fmt.Sprintf("name 1 to %d entries", maxScheduled),
		)
	}
	return operation.Items(s.addSchedules(r, in))
}

// maxScheduled is how many entries are scheduled with one request.
const maxScheduled = 500

func (s *API) addSchedules(r *http.Request, in api.NewSchedules) ([]api.Schedule, error) {
	at, zone, err := authoring.ParseMoment(in.At, in.Zone)
	if err != nil {
		return nil, err
	}
	var all []api.Schedule
	for _, id := range in.Entries {
		if err := s.guard.RequireOnEntry(r, id, access.Publish, "published"); err != nil {
			return nil, err
		}
		all = append(all, api.Schedule{
			Entry: id, Action: in.Action, Locales: in.Locales, At: at, Zone: zone, By: guard.ActorName(r),
		})
	}
	out, err := s.env.Authoring.AddSchedules(r.Context(), all...)
	if err != nil {
		return nil, err
	}
	for _, one := range out {
		if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule add", one.ID, nil, one); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *API) moveSchedule(r *http.Request, in api.ScheduleMove) (api.Schedule, error) {
	before, err := s.scheduleOf(r, in.ID)
	if err != nil {
		return before, err
	}
	at, zone, err := authoring.ParseMoment(in.At, in.Zone)
	if err != nil {
		return before, err
	}
	out, err := s.env.Authoring.MoveSchedule(r.Context(), in.ID, at, zone)
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule move", out.ID, before, out)
	}
	return out, err
}

func (s *API) cancelSchedule(r *http.Request, in api.ScheduleRef) (api.Cancelled, error) {
	before, err := s.scheduleOf(r, in.ID)
	if err == nil {
		err = s.env.Authoring.CancelSchedule(r.Context(), in.ID, guard.ActorName(r))
	}
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "schedule cancel", in.ID, before, nil)
	}
	return api.Cancelled{Cancelled: true}, err
}
