package authoring

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
)

// ErrMoment is the error of a time or a time zone that cannot be read.
var ErrMoment = errors.New("no such moment")

// ParseMoment reads a time: RFC 3339 with an offset, or a local time such as
// 2026-12-01T08:00 in the time zone, an IANA name; empty means UTC. A local time
// that the zone skips, or has twice, is refused.
func ParseMoment(text, zone string) (time.Time, string, error) {
	if zone == "" {
		zone = "UTC"
	}
	location, err := time.LoadLocation(zone)
	if err != nil || zone == "Local" {
		return time.Time{}, "", fmt.Errorf("%w: %q is no time zone; name one as in Europe/Oslo", ErrMoment, zone)
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, zone, nil
	}
	for _, form := range []string{
		"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05",
		"2006-01-02 15:04",
	} {
		at, err := time.ParseInLocation(form, text, location)
		if err != nil {
			continue
		}
		if at.Format(form) != text {
			return at, "", fmt.Errorf(
				"%w: %s does not exist in %s, where clocks are put forward then", ErrMoment, text, zone,
			)
		}
		// Clocks are put back by half an hour on Lord Howe, and by two at Troll.
		for other := -3 * time.Hour; other <= 3*time.Hour; other += 15 * time.Minute {
			if other != 0 && at.Add(other).Format(form) == text {
				return at, "", fmt.Errorf(
					"%w: %s comes twice in %s, where clocks are put back then; give it with an offset, as in %s",
					ErrMoment, text, zone, at.Format(time.RFC3339),
				)
			}
		}
		return at, zone, nil
	}
	return time.Time{}, "", fmt.Errorf("%w: %q is no time; write it as in 2026-12-01T08:00", ErrMoment, text)
}

// AddSchedules has entries published or unpublished at their times, all or none. What is
// published is the newest revision at the time of this call. Its error is entries.ErrPast,
// db.ErrForeign or the content.Problems of all entries where that is the reason.
func (a *Service) AddSchedules(ctx context.Context, all ...api.Schedule) ([]api.Schedule, error) {
	var problems content.Problems
	for _, s := range all {
		err := a.checkSchedule(ctx, s)
		var p content.Problems
		if errors.As(err, &p) {
			problems = append(problems, p...)
		} else if err != nil {
			return nil, err
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	out, err := a.store.Schedules.Add(ctx, all...)
	a.schedulesMoved()
	return out, err
}

// checkSchedule tells whether the newest revision of an entry could be published as scheduled.
func (a *Service) checkSchedule(ctx context.Context, s api.Schedule) error {
	e, err := a.store.Entries.Get(ctx, s.Entry)
	if err != nil {
		return err
	}
	if e.Origin != content.Local {
		return fmt.Errorf("entry %s: %w (%s)", s.Entry, db.ErrForeign, e.Origin)
	}
	m := a.replica.Model()
	t := m.Type(e.Type)
	problem := func(path, rule, format string, args ...any) error {
		return content.Problems{{Entry: s.Entry, Path: path, Rule: rule, Text: fmt.Sprintf(format, args...)}}
	}
	for _, tag := range s.Locales {
		if _, ok := m.Locale(tag); !ok {
			return problem("locales", "locale", "there is no locale %q", tag)
		}
	}
	switch s.Action {
	case entries.SchedulePublish:
		if t.Approval && e.Review != content.Approved {
			return problem(
				"action", "approval",
				"revision %d is not approved, and %s is published only after approval; submit it for review",
				e.Revision, t.Label,
			)
		}
		live := content.Publish(t, e.Shown, e.Newest, s.Locales)
		if p := content.Check(m, t, s.Entry, live, content.For{Publish: true, Locales: s.Locales}); len(p) > 0 {
			return p
		}
	case entries.ScheduleUnpublish:
	default:
		return problem("action", "action", "%q is neither publish nor unpublish", s.Action)
	}
	return nil
}

// Schedules lists schedules: see store.Schedules.
func (a *Service) Schedules(ctx context.Context, state string, limit int) ([]api.Schedule, int, error) {
	return a.store.Schedules.List(ctx, state, limit)
}

// Schedule returns one schedule, db.ErrNotFound if there is none.
func (a *Service) Schedule(ctx context.Context, id string) (api.Schedule, error) {
	return a.store.Schedules.Get(ctx, id)
}

// MoveSchedule gives a pending schedule another time.
func (a *Service) MoveSchedule(ctx context.Context, id string, at time.Time, zone string) (api.Schedule, error) {
	out, err := a.store.Schedules.Move(ctx, id, at, zone)
	a.schedulesMoved()
	return out, err
}

// CancelSchedule cancels a pending schedule.
func (a *Service) CancelSchedule(ctx context.Context, id, by string) error {
	err := a.store.Schedules.End(ctx, id, entries.ScheduleCancelled, "by "+by)
	a.schedulesMoved()
	return err
}

func (a *Service) schedulesMoved() {
	background.Nudge(a.wakeSchedules)
	a.news.Tell("schedules")
}

// runSchedules carries out what is due. Every node tries; the database lets one
// of them.
func (a *Service) runSchedules(ctx context.Context) {
	for {
		due, next, err := a.store.Schedules.Due(ctx)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			next = time.Second
			a.log.Debug("schedules cannot be read; trying on", "error", err)
		}
		for i := range due {
			a.execute(ctx, &due[i])
			if ctx.Err() != nil {
				return
			}
		}
		// Another node may have taken in a schedule that is due earlier.
		if !background.Sleep(ctx, min(next, time.Second), a.wakeSchedules) {
			return
		}
	}
}

func (a *Service) execute(ctx context.Context, s *api.Schedule) {
	edit := writing.Edit{
		ID:              s.Entry,
		Origin:          content.Local,
		Live:            writing.PublishNewest,
		Locales:         s.Locales,
		PublishRevision: s.Revision,
		Schedule:        s.ID,
	}
	if s.Action == entries.ScheduleUnpublish {
		edit.Live, edit.PublishRevision = writing.TakeBack, 0
	}
	_, err := a.Apply(ctx, []writing.Edit{edit}, s.By, content.Cause{Kind: "schedule", Name: s.By})
	switch {
	case err == nil:
	case errors.Is(err, writing.ErrScheduleGone), ctx.Err() != nil:
		return // somebody else has done it, or it is tried again
	case !writing.ContentReason(err):
		if s.Tries == 0 {
			a.log.Warn(
				"a schedule is late; it is tried again until it is carried out", "entry", s.Entry, "action", s.Action,
				"at", s.At, "error", err,
			)
		}
		_, told := db.TroubleOf(err)
		if err := a.store.Schedules.Delay(ctx, s.ID, cmp.Or(told, "something went wrong here; the log has "+
			"more"), min(time.Second<<min(s.Tries, 5), 30*time.Second)); err != nil {
			a.log.Debug("that a schedule is late cannot be noted", "error", err)
		}
	default:
		a.log.Warn("a schedule could not be carried out", "entry", s.Entry, "action", s.Action, "error", err)
		if err := a.store.Schedules.End(ctx, s.ID, entries.ScheduleFailed, err.Error()); err != nil {
			a.log.Error("a failed schedule could not be marked as such", "schedule", s.ID, "error", err)
		}
		a.scheduleFailed(ctx, s.Entry, err.Error())
	}
	a.news.Tell("schedules")
}
