package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/authoring"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/diagnose"
	"ubiquon/internal/ingest"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
)

// Client speaks to one service with one key. The zero HTTP means a client with
// a time limit of 30 s.
type Client struct {
	Address string // as in http://127.0.0.1:8400
	Key     string
	HTTP    *http.Client
}

// Problem is the error of a request that the service refused (RFC 9457).
type Problem struct {
	Status    int    `json:"status,omitempty"`
	Type      string `json:"type,omitempty"`
	Title     string `json:"title,omitempty"`
	Detail    string `json:"detail,omitempty"`
	Parameter string `json:"parameter,omitempty"`
	Hint      string `json:"hint,omitempty"`
	Grant     string `json:"grant,omitempty"`
	// Problems of an entry's content, Mistakes of a model's files, ReferredBy of a
	// deletion, Consequences of a model that would lose content, Conflict of a lost
	// update.
	Problems     content.Problems      `json:"problems,omitempty"`
	Mistakes     strictyaml.Mistakes   `json:"mistakes,omitempty"`
	ReferredBy   []writing.Referrer    `json:"referredBy,omitempty"`
	Consequences []writing.Consequence `json:"consequences,omitempty"`
	Conflict     *Conflict             `json:"conflict,omitempty"`
}

// ErrUnreachable is the error of a service that does not answer.
var ErrUnreachable = errors.New("no service answers")

// What the service says of models and imports, under the names of this room.
type (
	ModelPlan      = authoring.ModelPlan
	ImportOptions  = authoring.ImportOptions
	ImportProgress = authoring.ImportProgress
)

// Conflict shows both sides of a lost update.
type Conflict struct {
	Entry       string                    `json:"entry"`
	Present     content.Revision          `json:"present"`
	Yours       content.Fields            `json:"yours"`
	Differences []content.FieldDifference `json:"differences"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if p.Parameter != "" {
		text = p.Parameter + ": " + text
	}
	if len(p.Mistakes) > 0 {
		return p.Mistakes.Error()
	}
	if p.Hint != "" {
		text += "\n" + p.Hint
	}
	return text
}

// Answer is a response as it came.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Err returns the *Problem that the answer is, or nil.
func (a *Answer) Err() error {
	if a.Status < 400 {
		return nil
	}
	p := &Problem{Status: a.Status}
	var graph struct{ Errors []struct{ Message string } }
	if json.Unmarshal(a.Body, &graph) == nil && len(graph.Errors) > 0 {
		for i, e := range graph.Errors {
			if i > 0 {
				p.Detail += "\n"
			}
			p.Detail += e.Message
		}
	} else if json.Unmarshal(a.Body, p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("the service answered %d: %s", a.Status, bytes.TrimSpace(a.Body[:min(len(a.Body), 300)]))
	}
	return p
}

var defaultHTTP = &http.Client{Timeout: 30 * time.Second}

// Do sends a request to a path of the service. A body is sent as JSON; header
// may be nil.
func (c *Client) Do(ctx context.Context, method, path string, header http.Header, body any) (*Answer, error) {
	var src io.Reader
	if body != nil {
		enc, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		src = bytes.NewReader(enc)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Address, "/")+path, src)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for name, values := range header {
		req.Header[http.CanonicalHeaderKey(name)] = values
	}
	if c.Key != "" {
		req.Header.Set("Authorization", "Bearer "+c.Key)
	}
	h := c.HTTP
	if h == nil {
		h = defaultHTTP
	}
	resp, err := h.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", ErrUnreachable, c.Address, err)
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	return &Answer{Status: resp.StatusCode, Header: resp.Header, Body: out}, err
}

// settled waits for the outcome of a write that goes on in the background, and returns it
// as if it had come at once.
func (c *Client) settled(ctx context.Context, a *Answer) (*Answer, error) {
	at := a.Header.Get("Location")
	for a.Status == http.StatusAccepted && strings.HasPrefix(at, "/control/v1/writes/") {
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("the write goes on; ask for %s: %w", at, ctx.Err())
		case <-time.After(writePause):
		}
		said, err := c.Do(ctx, http.MethodGet, at, nil, nil)
		if err != nil {
			return nil, err
		}
		if err := said.Err(); err != nil && said.Status != http.StatusServiceUnavailable {
			return nil, err
		}
		var state struct {
			State, Detail string
			Status        int
			Answer        json.RawMessage
		}
		if said.Status == http.StatusServiceUnavailable ||
			json.Unmarshal(said.Body, &state) == nil && state.State == "running" {
			continue
		}
		switch {
		case state.State == "lost":
			return nil, errors.New(state.Detail)
		case state.Answer == nil:
			state.Answer = json.RawMessage("{}")
		}
		return &Answer{Status: state.Status, Header: said.Header, Body: state.Answer}, nil
	}
	return a, nil
}

// writePause is how long to wait before it is asked again what became of a write.
const writePause = time.Second

func (c *Client) call(ctx context.Context, method, path string, body, into any) error {
	a, err := c.Do(ctx, method, "/control/v1"+path, nil, body)
	if err == nil {
		a, err = c.settled(ctx, a)
	}
	if err != nil {
		return err
	}
	if err := a.Err(); err != nil {
		return err
	}
	return json.Unmarshal(a.Body, into)
}

// Status returns how the service stands.
func (c *Client) Status(ctx context.Context) (out diagnose.Status, err error) {
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
}

// Model returns the model.
func (ms *Models) Present(ctx context.Context) (*model.Model, error) {
	var src json.RawMessage
	if err := ms.c.call(ctx, http.MethodGet, "/model", nil, &src); err != nil {
		return nil, err
	}
	return model.FromJSON(src)
}

// PlanModel returns what applying the model in the files would do.
func (ms *Models) Plan(ctx context.Context, files map[string]string) (out ModelPlan, err error) {
	return out, ms.c.call(ctx, http.MethodPost, "/model/plan", map[string]any{"files": files}, &out)
}

// Conversion is how far a change of the model has come.
type Conversion struct {
	Done, Total int
	Applied     bool
	Version     int64
}

// ApplyModel makes the files the model, telling how far it has come.
func (ms *Models) Apply(
	ctx context.Context, files map[string]string, allowLoss bool, ifVersion int64, tell func(Conversion),
) error {
	return ms.convert(
		ctx, "/model/apply", map[string]any{"files": files, "allowLoss": allowLoss, "ifVersion": ifVersion}, tell,
	)
}

// LocaleEdit is one change of the locales: add, change, retire or restore one,
// or order all.
type LocaleEdit struct {
	Do       string   `json:"do"`
	Tag      string   `json:"tag,omitempty"`
	Name     string   `json:"name,omitempty"`
	Fallback []string `json:"fallback,omitempty"`
	Order    []string `json:"order,omitempty"`
}

// EditLocales changes the locales, telling how far it has come.
func (ms *Models) EditLocales(ctx context.Context, e LocaleEdit, tell func(Conversion)) error {
	return ms.convert(ctx, "/locales", e, tell)
}

func (ms *Models) convert(ctx context.Context, path string, body any, tell func(Conversion)) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return ms.c.stream(ctx, path, "application/json", bytes.NewReader(src), func(line []byte) error {
		var p Conversion
		err := json.Unmarshal(line, &p)
		if err == nil && tell != nil {
			tell(p)
		}
		return err
	})
}

// long sends a request whose answer may take as long as it takes, and returns it to be
// read.
func (c *Client) long(ctx context.Context, method, path, mediaType string, body io.Reader) (io.ReadCloser, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Address, "/")+"/control/v1"+path, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", mediaType)
	}
	req.Header.Set("Authorization", "Bearer "+c.Key)
	h := http.Client{}
	if c.HTTP != nil {
		h.Transport = c.HTTP.Transport
	}
	resp, err := h.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", ErrUnreachable, c.Address, err)
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		src, _ := io.ReadAll(resp.Body) // what came tells enough
		return nil, (&Answer{Status: resp.StatusCode, Header: resp.Header, Body: src}).Err()
	}
	return resp.Body, nil
}

// stream posts a body and hands over the answer line by line as it comes. A last
// line that is a problem is returned as one.
func (c *Client) stream(
	ctx context.Context, path, mediaType string, body io.Reader, each func(line []byte) error,
) error {
	answer, err := c.long(ctx, http.MethodPost, path, mediaType, body)
	if err != nil {
		return err
	}
	defer answer.Close()
	lines := bufio.NewScanner(answer)
	lines.Buffer(nil, 8<<20)
	for lines.Scan() {
		var failed struct{ Problem *Problem }
		if json.Unmarshal(lines.Bytes(), &failed) == nil && failed.Problem != nil {
			return failed.Problem
		}
		if err := each(lines.Bytes()); err != nil {
			return err
		}
	}
	return lines.Err()
}

// Import sends entries as NDJSON, telling how far the service has come.
func (es *Entries) Import(ctx context.Context, in io.Reader, o ImportOptions, tell func(ImportProgress)) error {
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
			var p ImportProgress
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
func (es *Entries) Coverage(ctx context.Context) ([]entries.Coverage, error) {
	var out struct{ Items []entries.Coverage }
	err := es.c.call(ctx, http.MethodGet, "/coverage", nil, &out)
	return out.Items, err
}

// Entries lists entries, and says how many there are.
func (es *Entries) List(ctx context.Context, f entries.EntryFilter) ([]entries.EntryInfo, int, error) {
	var out struct {
		Items []entries.EntryInfo
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

// Entry returns one entry with its history.
func (es *Entries) Get(ctx context.Context, id string) (out diagnose.EntryDetail, err error) {
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
func (es *Entries) Compare(ctx context.Context, id string, from, to int) (out authoring.Comparison, err error) {
	return out, es.c.call(
		ctx, http.MethodGet,
		"/entries/"+url.PathEscape(id)+"/differences?"+values("from", positive(from), "to", positive(to)), nil, &out,
	)
}

// LinkedDrafts lists drafts that the entries refer to.
func (es *Entries) LinkedDrafts(ctx context.Context, ids ...string) ([]entries.EntryInfo, error) {
	var out struct{ Items []entries.EntryInfo }
	err := es.c.call(ctx, http.MethodGet, "/linked-drafts?"+values("ids", strings.Join(ids, ",")), nil, &out)
	return out.Items, err
}

// Schedule has an entry published or unpublished at a moment: RFC 3339, or a
// local time in the zone.
func (es *Entries) Schedule(
	ctx context.Context, entry, action, at, zone string, locales []string,
) (out entries.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPost, "/schedules",
		map[string]any{"entry": entry, "action": action, "at": at, "zone": zone, "locales": locales}, &out,
	)
}

// Schedules lists schedules; with a state only those in it.
func (es *Entries) Schedules(ctx context.Context, state string) ([]entries.Schedule, error) {
	var out struct{ Items []entries.Schedule }
	err := es.c.call(ctx, http.MethodGet, "/schedules?"+values("state", state), nil, &out)
	return out.Items, err
}

// MoveSchedule gives a pending schedule another moment.
func (es *Entries) MoveSchedule(ctx context.Context, id, at, zone string) (out entries.Schedule, err error) {
	return out, es.c.call(
		ctx, http.MethodPatch, "/schedules/"+url.PathEscape(id), map[string]string{"at": at, "zone": zone}, &out,
	)
}

// CancelSchedule cancels a pending schedule.
func (es *Entries) CancelSchedule(ctx context.Context, id string) error {
	return es.c.call(ctx, http.MethodDelete, "/schedules/"+url.PathEscape(id), nil, &struct{}{})
}

// Events lists events, the newest first.
func (os *Origins) Events(ctx context.Context, f events.EventFilter) ([]ingest.EventTrace, error) {
	var out struct{ Items []ingest.EventTrace }
	err := os.c.call(
		ctx, http.MethodGet, "/events?"+values("state", f.State, "entry", f.Entry, "limit", positive(f.Limit)), nil,
		&out,
	)
	return out.Items, err
}

// Event returns one event with everything that came of it.
func (os *Origins) Event(ctx context.Context, id string) (out ingest.EventDetail, err error) {
	return out, os.c.call(ctx, http.MethodGet, "/events/"+url.PathEscape(id), nil, &out)
}

// Rebuild asks for a build of a site.
func (bs *Builds) Rebuild(ctx context.Context, site string, immediately bool) (out rebuild.Build, err error) {
	return out, bs.c.call(
		ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/rebuild", map[string]bool{"now": immediately}, &out,
	)
}

// Build returns one build, with its log.
func (bs *Builds) Get(ctx context.Context, id string) (out rebuild.Build, err error) {
	return out, bs.c.call(ctx, http.MethodGet, "/builds/"+url.PathEscape(id), nil, &out)
}

// Origins lists the origins, and how reading them goes.
func (os *Origins) List(ctx context.Context) ([]ingest.OriginState, error) {
	var out struct{ Items []ingest.OriginState }
	err := os.c.call(ctx, http.MethodGet, "/origins", nil, &out)
	return out.Items, err
}

// CompareOrigin compares everything an origin holds with what is held here, telling how
// many items of a type were seen. With deleteMany entries go that the origin does not have
// any more, however many they are.
func (os *Origins) Compare(
	ctx context.Context, name string, deleteMany bool, tell func(typ string, seen int),
) (out ingest.Reconciled, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/compare", map[string]any{"delete": deleteMany}, tell, &out,
	)
}

// RetireOrigin lets go of an origin that is not configured any more: do is local, unpublish
// or delete. Without apply it is only told what would happen.
func (os *Origins) Retire(
	ctx context.Context, name, do string, apply bool, tell func(typ string, seen int),
) (out ingest.Retirement, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/retire", map[string]any{"do": do, "apply": apply}, tell, &out,
	)
}

// AdoptOrigin has the entries of an old origin change hands to a new one. by is key, slug or
// path, or empty for all of them; without apply it is only told what would happen.
func (os *Origins) Adopt(
	ctx context.Context, old, name, by string, apply bool, tell func(typ string, seen int),
) (out ingest.Adoption, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/adopt", map[string]any{"from": old, "by": by, "apply": apply}, tell,
		&out,
	)
}

// Untaken lists what could not be taken over of an origin.
func (os *Origins) Rejected(ctx context.Context, name string) ([]events.Rejected, error) {
	var out struct{ Items []events.Rejected }
	err := os.c.call(ctx, http.MethodGet, "/origins/"+url.PathEscape(name)+"/untaken", nil, &out)
	return out.Items, err
}

// withProgress asks for long work on an origin, tells how far it has come, and reads its
// outcome.
func (c *Client) withProgress(
	ctx context.Context, path string, body any, tell func(typ string, seen int), into any,
) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return c.stream(ctx, path, "application/json", bytes.NewReader(src), func(line []byte) error {
		var p struct {
			Type string
			Seen int
			Done json.RawMessage
		}
		err := json.Unmarshal(line, &p)
		if p.Done != nil {
			return json.Unmarshal(p.Done, into)
		}
		if err == nil && tell != nil {
			tell(p.Type, p.Seen)
		}
		return err
	})
}

// Wake ends that the node runs as a quiet copy.
func (c *Client) Wake(ctx context.Context) error {
	var out struct{ Awake bool }
	return c.call(ctx, http.MethodPost, "/wake", nil, &out)
}

// Builds lists builds, the newest first.
func (bs *Builds) List(ctx context.Context, site string, limit int) ([]rebuild.Build, error) {
	var out struct{ Items []rebuild.Build }
	err := bs.c.call(ctx, http.MethodGet, "/builds?"+values("site", site, "limit", positive(limit)), nil, &out)
	return out.Items, err
}

// values writes a query string from names and values, leaving out empty ones.
func values(pairs ...string) string {
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	return v.Encode()
}

func positive(n int) string {
	if n <= 0 {
		return ""
	}
	return strconv.Itoa(n)
}
