package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
)

// Import sends entries as NDJSON, telling how far the service has come.
func (es *Entries) Import(ctx context.Context, in io.Reader, o api.ImportOptions, tell func(api.ImportProgress)) error {
	bad := "skip"
	if o.StopAtBad {
		bad = "stop"
	}
	return es.c.stream(
		ctx,
		"/import?"+values("check", strconv.FormatBool(o.Check), "after", positive(o.After), "bad", bad),
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
	query := values("type", strings.Join(types, ","), "origin", origin)
	if revisions {
		query += "&revisions=true"
	}
	answer, err := es.c.long(ctx, http.MethodGet, "/export?"+strings.TrimPrefix(query, "&"), "", nil)
	if err != nil {
		return err
	}
	defer answer.Close()
	_, err = io.Copy(out, answer)
	return err
}

// Coverage returns how much of each type is translated into each locale.
func (es *Entries) Coverage(ctx context.Context) ([]api.Coverage, error) {
	var out struct{ Items []api.Coverage }
	err := es.c.call(ctx, http.MethodGet, "/coverage", nil, &out)
	return out.Items, err
}

// List lists entries, and says how many there are.
func (es *Entries) List(ctx context.Context, f api.EntryFilter) ([]api.EntryInfo, int, error) {
	var out struct {
		Items []api.EntryInfo
		Total int
	}
	err := es.c.call(
		ctx,
		http.MethodGet,
		"/entries?"+values(
			"type", f.Type, "origin", f.Origin, "state", string(f.State), "search", f.Search, "missing", f.Missing,
			"refersTo", f.RefersTo, "ids", strings.Join(f.IDs, ","), "limit", positive(f.Limit), "offset",
			positive(f.Offset),
		),
		nil,
		&out,
	)
	return out.Items, out.Total, err
}

// Get returns one entry with its history.
func (es *Entries) Get(ctx context.Context, id string) (out api.EntryDetail, err error) {
	return out, es.c.call(ctx, http.MethodGet, "/entries/"+url.PathEscape(id), nil, &out)
}

// Edit is one edit of an entry that is written in the service itself: what is
// saved, and what is done then.
type Edit struct {
	ID      string         `json:"id,omitempty"` // empty: a new one is given
	Type    string         `json:"type,omitempty"`
	Save    map[string]any `json:"save,omitempty"` // the whole of the fields
	Message string         `json:"message,omitempty"`
	// Do is publish, unpublish, discard, restore, submit, approve, return, retire or
	// delete.
	Do string `json:"do,omitempty"`
	// Locales that publish and unpublish are for; none means all.
	Locales []string `json:"locales,omitempty"`
	// Revision that restore saves anew, or publish publishes.
	Revision       int    `json:"revision,omitempty"`
	Remark         string `json:"remark,omitempty"` // of submit, approve and return
	EvenIfReferred bool   `json:"evenIfReferred,omitempty"`
	IfRevision     int    `json:"ifRevision,omitempty"`
}

// Edited is what edits came to.
type Edited struct {
	// Sequence of the last change, 0 if no reader could see a difference.
	Sequence int64
	Changes  int
	Entries  []struct {
		ID       string
		Revision int // 0 when it is gone
	}
	// Warnings tell of what is stored, and not delivered as it is.
	Warnings content.Problems
}

// Edit carries out edits, all or none.
func (es *Entries) Edit(ctx context.Context, edits ...Edit) (out Edited, err error) {
	return out, es.c.call(ctx, http.MethodPost, "/edits", map[string]any{"edits": edits}, &out)
}

// Duplicate saves a copy of an entry as a draft.
func (es *Entries) Duplicate(ctx context.Context, id string) (out Edited, err error) {
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
		"/entries/"+url.PathEscape(id)+"/differences?"+values("from", positive(from), "to", positive(to)), nil, &out,
	)
}

// LinkedDrafts lists drafts that the entries refer to.
func (es *Entries) LinkedDrafts(ctx context.Context, ids ...string) ([]api.EntryInfo, error) {
	var out struct{ Items []api.EntryInfo }
	err := es.c.call(ctx, http.MethodGet, "/linked-drafts?"+values("ids", strings.Join(ids, ",")), nil, &out)
	return out.Items, err
}

// Schedule has an entry published or unpublished at a moment: RFC 3339, or a
// local time in the zone.
func (es *Entries) Schedule(
	ctx context.Context, entry, action, at, zone string, locales []string,
) (out api.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPost, "/schedules",
		map[string]any{"entry": entry, "action": action, "at": at, "zone": zone, "locales": locales}, &out,
	)
}

// Schedules lists schedules; with a state only those in it.
func (es *Entries) Schedules(ctx context.Context, state string) ([]api.Schedule, error) {
	var out struct{ Items []api.Schedule }
	err := es.c.call(ctx, http.MethodGet, "/schedules?"+values("state", state), nil, &out)
	return out.Items, err
}

// MoveSchedule gives a pending schedule another moment.
func (es *Entries) MoveSchedule(ctx context.Context, id, at, zone string) (out api.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPatch, "/schedules/"+url.PathEscape(id), map[string]string{"at": at, "zone": zone}, &out,
	)
}

// CancelSchedule cancels a pending schedule.
func (es *Entries) CancelSchedule(ctx context.Context, id string) error {
	return es.c.call(ctx, http.MethodDelete, "/schedules/"+url.PathEscape(id), nil, &struct{}{})
}
