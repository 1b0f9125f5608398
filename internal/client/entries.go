package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
)

// Import sends entries as NDJSON, telling how far the service has come.
func (es *Entries) Import(ctx context.Context, in io.Reader, o api.ImportOptions, tell func(api.ImportProgress)) error {
	return es.c.stream(
		ctx,
		"/import?"+query(o),
		"application/x-ndjson",
		in,
		func(line []byte) error {
			var p api.ImportProgress
			err := json.Unmarshal(line, &p)
			if err == nil {
				tell(p)
			}
			return err
		},
	)
}

// Export writes entries as NDJSON.
func (es *Entries) Export(ctx context.Context, out io.Writer, types []string, origin string, revisions bool) error {
	f := api.ExportFilter{Types: types, Origin: origin, Revisions: revisions}
	answer, err := es.c.long(ctx, http.MethodGet, "/export?"+query(f), "", nil)
	if err != nil {
		return err
	}
	defer answer.Close()
	_, err = io.Copy(out, answer)
	return err
}

// Coverage returns how much of each type is translated into each locale.
func (es *Entries) Coverage(ctx context.Context) ([]api.Coverage, error) {
	var out api.Items[api.Coverage]
	err := es.c.call(ctx, http.MethodGet, "/coverage", nil, &out)
	return out.Items, err
}

// List lists entries, and says how many there are.
func (es *Entries) List(ctx context.Context, f api.EntryFilter) ([]api.EntryInfo, int, error) {
	var out api.Page[api.EntryInfo]
	err := es.c.call(ctx, http.MethodGet, "/entries?"+query(f), nil, &out)
	return out.Items, out.Total, err
}

// Get returns one entry with its history.
func (es *Entries) Get(ctx context.Context, id string) (out api.EntryDetail, err error) {
	return out, es.c.call(ctx, http.MethodGet, "/entries/"+url.PathEscape(id), nil, &out)
}

// Edit carries out edits, all or none.
func (es *Entries) Edit(ctx context.Context, edits ...api.Edit) (out api.EditOutcome, err error) {
	return out, es.c.call(ctx, http.MethodPost, "/edits", api.Edits{Edits: edits}, &out)
}

// Duplicate saves a copy of an entry as a draft.
func (es *Entries) Duplicate(ctx context.Context, id string) (out api.EditOutcome, err error) {
	return out, es.c.call(ctx, http.MethodPost, "/entries/"+url.PathEscape(id)+"/duplicate", nil, &out)
}

// Revision returns one revision of an entry, with its fields.
func (es *Entries) Revision(ctx context.Context, id string, number int) (out content.Revision, err error) {
	return out, es.c.call(
		ctx, http.MethodGet, fmt.Sprintf("/entries/%s/revisions/%d", url.PathEscape(id), number), nil, &out,
	)
}

// Compare compares two revisions of an entry. A from of 0 is what readers get, a
// to of 0 the newest.
func (es *Entries) Compare(ctx context.Context, id string, from, to int) (out api.RevisionComparison, err error) {
	return out, es.c.call(
		ctx, http.MethodGet,
		"/entries/"+url.PathEscape(id)+"/differences?"+query(api.RevisionRange{From: from, To: newest(to)}), nil, &out,
	)
}

// newest is nil for 0, which stands for the newest revision.
func newest(number int) *int {
	if number <= 0 {
		return nil
	}
	return &number
}

// LinkedDrafts lists drafts that the entries refer to.
func (es *Entries) LinkedDrafts(ctx context.Context, ids ...string) ([]api.EntryInfo, error) {
	var out api.Items[api.EntryInfo]
	err := es.c.call(ctx, http.MethodGet, "/linked-drafts?"+query(api.EntryIDs{IDs: ids}), nil, &out)
	return out.Items, err
}

// Schedule has an entry published or unpublished at a time: RFC 3339, or a
// local time in the zone.
func (es *Entries) Schedule(
	ctx context.Context, entry, action, at, zone string, locales []string,
) (out api.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPost, "/schedules",
		api.NewSchedule{Entry: entry, Action: action, At: at, Zone: zone, Locales: locales}, &out,
	)
}

// ScheduleAll has several entries published or unpublished at one time, all or none.
func (es *Entries) ScheduleAll(ctx context.Context, s api.NewSchedules) ([]api.Schedule, error) {
	var out api.Items[api.Schedule]
	err := es.c.call(ctx, http.MethodPost, "/schedules/several", s, &out)
	return out.Items, err
}

// Schedules lists schedules; with a state only those in it.
func (es *Entries) Schedules(ctx context.Context, state string) ([]api.Schedule, error) {
	var out api.Items[api.Schedule]
	err := es.c.call(ctx, http.MethodGet, "/schedules?"+query(api.ScheduleFilter{State: state}), nil, &out)
	return out.Items, err
}

// MoveSchedule gives a pending schedule another time.
func (es *Entries) MoveSchedule(ctx context.Context, id, at, zone string) (out api.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPatch, "/schedules/"+url.PathEscape(id), api.ScheduleMove{At: at, Zone: zone}, &out,
	)
}

// CancelSchedule cancels a pending schedule.
func (es *Entries) CancelSchedule(ctx context.Context, id string) error {
	return es.c.call(ctx, http.MethodDelete, "/schedules/"+url.PathEscape(id), nil, &api.Cancelled{})
}
