// Package office is the harbour office: a small editorial system, simulated,
// that stands in for whatever outside origin a gateway reads. It has its own
// state, its own form of JSON and its own web page, asks for credentials, and
// announces what happens with signed CloudEvents.
//
// It knows nothing of the gateway but the address of its hook.
package office

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Fields are what an editor writes, by the office's own names.
type Fields map[string]any

// Item is one piece of content with its working draft and its live state.
type Item struct {
	Ref      string
	Kind     string
	Working  Fields
	Live     Fields // nil when readers see nothing
	Changed  time.Time
	WentLive *time.Time
}

// status tells the working draft and the live state apart.
func (i *Item) status() string {
	switch {
	case i.Live == nil && i.WentLive != nil:
		return "withdrawn"
	case i.Live == nil || !sameFields(i.Live, i.Working):
		return "draft"
	default:
		return "live"
	}
}

// timeForm has a fixed length, so that text order is time order.
const timeForm = "2006-01-02T15:04:05.000000000Z07:00"

// shown is the item as the interface gives it out: the chosen state's fields
// beside ref, status and times; with both states, the live one under "live".
func (i *Item) shown(fields Fields, both bool) map[string]any {
	out := map[string]any{
		"ref":      i.Ref,
		"kind":     i.Kind,
		"status":   i.status(),
		"changed":  i.Changed.UTC().Format(timeForm),
		"wentLive": nil,
	}
	for _, name := range slices.Sorted(maps.Keys(kinds[i.Kind])) {
		out[name] = fields[name]
	}
	if fields["translations"] != nil {
		out["translations"] = fields["translations"]
	}
	if i.WentLive != nil {
		out["wentLive"] = i.WentLive.UTC().Format(timeForm)
	}
	if both {
		out["live"] = i.Live
	}
	return out
}

// kinds says what each kind of item has, and how an editor's page asks for it:
// line, text, object or list.
var kinds = map[string]map[string]string{
	"reports": {
		"headline":   "line",
		"address":    "line",
		"standfirst": "text",
		"copy":       "text",
		"by":         "line",
		"photo":      "object",
		"topics":     "list",
	},
	"staff": {"fullName": "line", "address": "line", "duty": "line", "portrait": "object", "life": "text"},
	"pages": {"heading": "line", "address": "line", "under": "line", "parts": "list"},
}

// Kinds lists the kinds of item.
func Kinds() []string { return slices.Sorted(maps.Keys(kinds)) }

// Options of Open.
type Options struct {
	// Dir keeps the office's state.
	Dir string
	// Seed gives the items of a first start, by kind: all of them live.
	Seed map[string][]Fields
	// Credentials, as in user:password.
	Credentials string
	// Hook is the address that announcements go to; empty for none.
	Hook string
	// Secret signs them (whsec_ and base64).
	Secret string
	// Pictures serves what is under /pictures/, to everyone.
	Pictures http.Handler
	Log      *slog.Logger
}

// Office is a running harbour office.
type Office struct {
	o     Options
	mux   *http.ServeMux
	wake  chan struct{}
	mu    sync.Mutex
	state state
}

type state struct {
	Items  map[string]*Item // by kind/ref
	Outbox []*letter
	Next   int
}

// Open takes up the state in the directory, or begins with the seed.
func Open(o Options) (*Office, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	f := &Office{o: o, wake: make(chan struct{}, 1), state: state{Items: map[string]*Item{}, Next: 1001}}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	src, err := os.ReadFile(f.file())
	switch {
	case err == nil:
		if err := json.Unmarshal(src, &f.state); err != nil {
			return nil, fmt.Errorf("the harbour office's state in %s: %w", f.file(), err)
		}
	case errors.Is(err, os.ErrNotExist):
		if err := f.seed(); err != nil {
			return nil, err
		}
	default:
		return nil, err
	}
	f.routes()
	return f, nil
}

func (f *Office) file() string { return filepath.Join(f.o.Dir, "office.json") }

func (f *Office) seed() error {
	now := time.Now().UTC()
	for kind, all := range f.o.Seed {
		for _, fields := range all {
			ref, _ := fields["ref"].(string)
			at := now
			if text, ok := fields["wentLive"].(string); ok {
				parsed, err := time.Parse(time.RFC3339, text)
				if err != nil {
					return err
				}
				at = parsed
			}
			clean := maps.Clone(fields)
			delete(clean, "ref")
			delete(clean, "wentLive")
			f.state.Items[kind+"/"+ref] = &Item{
				Ref:      ref,
				Kind:     kind,
				Working:  clean,
				Live:     maps.Clone(clean),
				Changed:  now,
				WentLive: &at,
			}
		}
	}
	return f.save()
}

// save writes the state to its file, as a whole or not at all.
func (f *Office) save() error {
	src, err := json.Marshal(&f.state)
	if err != nil {
		return err
	}
	if err := os.WriteFile(f.file()+".new", src, 0o600); err != nil {
		return err
	}
	return os.Rename(f.file()+".new", f.file())
}

// ServeHTTP implements http.Handler.
func (f *Office) ServeHTTP(w http.ResponseWriter, r *http.Request) { f.mux.ServeHTTP(w, r) }

func (f *Office) routes() {
	f.mux = http.NewServeMux()
	guard := func(pattern string, h http.HandlerFunc) {
		f.mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			user, password, _ := r.BasicAuth()
			if subtle.ConstantTimeCompare([]byte(user+":"+password), []byte(f.o.Credentials)) != 1 {
				w.Header().Set("WWW-Authenticate", `Basic realm="Harbour office"`)
				writeError(w, 401, "the harbour office asks for user and password")
				return
			}
			h(w, r)
		})
	}
	guard("GET /api", f.listKinds)
	guard("GET /api/{kind}", f.list)
	guard("POST /api/{kind}", f.create)
	guard("GET /api/{kind}/{ref}", f.one)
	guard("PATCH /api/{kind}/{ref}", f.patch)
	guard("DELETE /api/{kind}/{ref}", f.remove)
	guard("POST /api/{kind}/{ref}/publish", f.publish)
	guard("POST /api/{kind}/{ref}/unpublish", f.unpublish)
	guard("GET /{$}", f.page)
	guard("POST /desk/{kind}/{ref}", f.desk)
	if f.o.Pictures != nil {
		f.mux.Handle("GET /pictures/", http.StripPrefix("/pictures/", f.o.Pictures))
	}
}

func (f *Office) listKinds(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := []map[string]any{}
	for _, kind := range Kinds() {
		n := 0
		for _, item := range f.state.Items {
			if item.Kind == kind {
				n++
			}
		}
		out = append(out, map[string]any{"kind": kind, "items": n, "href": "/api/" + kind})
	}
	writeJSON(w, 200, map[string]any{"kinds": out})
}

const pageSize = 25

func (f *Office) list(w http.ResponseWriter, r *http.Request) {
	kind, q := r.PathValue("kind"), r.URL.Query()
	if kinds[kind] == nil {
		writeError(w, 404, "there is no kind "+strconv.Quote(kind))
		return
	}
	state := q.Get("state")
	if state != "" && state != "live" && state != "draft" {
		writeError(w, 400, "state is live or draft")
		return
	}
	var since time.Time
	if text := q.Get("updatedSince"); text != "" {
		var err error
		if since, err = time.Parse(time.RFC3339, text); err != nil {
			writeError(w, 400, "updatedSince is a time as in 2026-11-23T08:30:00Z")
			return
		}
	}
	page, _ := strconv.Atoi(q.Get("page"))
	f.mu.Lock()
	defer f.mu.Unlock()
	out := []map[string]any{}
	for _, key := range slices.Sorted(maps.Keys(f.state.Items)) {
		item := f.state.Items[key]
		if item.Kind != kind || item.Changed.Before(since) {
			continue
		}
		switch {
		case state == "live" && item.Live != nil:
			out = append(out, item.shown(item.Live, false))
		case state == "draft" && item.status() != "live", state == "":
			out = append(out, item.shown(item.Working, true))
		}
	}
	from := min(max(0, page)*pageSize, len(out))
	to := min(from+pageSize, len(out))
	if to < len(out) {
		q.Set("page", strconv.Itoa(max(0, page)+1))
		w.Header().Set("Link", fmt.Sprintf(`</api/%s?%s>; rel="next"`, kind, q.Encode()))
	}
	writeJSON(w, 200, map[string]any{kind: out[from:to], "count": len(out)})
}

func (f *Office) one(w http.ResponseWriter, r *http.Request) {
	f.with(w, r, "", func(i *Item) error { return nil })
}

// with runs a change of the item and, if it was one, announces it.
func (f *Office) with(w http.ResponseWriter, r *http.Request, announce string, change func(*Item) error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	item := f.state.Items[r.PathValue("kind")+"/"+r.PathValue("ref")]
	if item == nil {
		writeError(w, 404, "there is no "+r.PathValue("kind")+"/"+r.PathValue("ref"))
		return
	}
	if err := change(item); err != nil {
		writeError(w, 422, err.Error())
		return
	}
	if announce != "" {
		if err := f.happened(item, announce); err != nil {
			writeError(w, 500, err.Error())
			return
		}
	}
	writeJSON(w, 200, item.shown(item.Working, true))
}

// happened dates the item's change, keeps it and announces it.
func (f *Office) happened(item *Item, what string) error {
	now := time.Now().UTC()
	if !now.After(item.Changed) {
		now = item.Changed.Add(1)
	}
	item.Changed = now
	if what == "published" {
		item.WentLive = &now
	}
	f.announce(item, what, now)
	return f.save()
}

func (f *Office) patch(w http.ResponseWriter, r *http.Request) {
	var in Fields
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&in); err != nil {
		writeError(w, 400, "the body is not a JSON object of fields: "+err.Error())
		return
	}
	f.with(w, r, "saved", func(i *Item) error { return i.merge(in) })
}

// merge overwrites the fields given in the working draft.
func (i *Item) merge(in Fields) error {
	next := maps.Clone(i.Working)
	if next == nil {
		next = Fields{}
	}
	for name, v := range in {
		if name != "translations" && kinds[i.Kind][name] == "" {
			return fmt.Errorf(
				"%s have no %s; they have %v", i.Kind, strconv.Quote(name), slices.Sorted(maps.Keys(kinds[i.Kind])),
			)
		}
		next[name] = v
	}
	i.Working = next
	return nil
}

func (f *Office) create(w http.ResponseWriter, r *http.Request) {
	kind := r.PathValue("kind")
	var in Fields
	if kinds[kind] == nil {
		writeError(w, 404, "there is no kind "+strconv.Quote(kind))
		return
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&in); err != nil {
		writeError(w, 400, "the body is not a JSON object of fields: "+err.Error())
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	item := &Item{Ref: fmt.Sprintf("N-%d", f.state.Next), Kind: kind}
	if err := item.merge(in); err != nil {
		writeError(w, 422, err.Error())
		return
	}
	f.state.Next++
	f.state.Items[kind+"/"+item.Ref] = item
	if err := f.happened(item, "saved"); err != nil {
		writeError(w, 500, err.Error())
		return
	}
	writeJSON(w, 201, item.shown(item.Working, true))
}

func (f *Office) publish(w http.ResponseWriter, r *http.Request) {
	f.with(w, r, "published", func(i *Item) error {
		i.Live = maps.Clone(i.Working)
		return nil
	})
}

func (f *Office) unpublish(w http.ResponseWriter, r *http.Request) {
	f.with(w, r, "unpublished", func(i *Item) error {
		i.Live = nil
		return nil
	})
}

func (f *Office) remove(w http.ResponseWriter, r *http.Request) {
	f.with(w, r, "deleted", func(i *Item) error {
		delete(f.state.Items, i.Kind+"/"+i.Ref)
		return nil
	})
}

func sameFields(a, b Fields) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func writeError(w http.ResponseWriter, status int, text string) {
	writeJSON(w, status, map[string]string{"error": text})
}

// Run sends announcements until ctx ends.
func (f *Office) Run(ctx context.Context) {
	for {
		wait := f.deliver(ctx)
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-f.wake:
		case <-timer.C:
		}
		timer.Stop()
	}
}

func newID() string { return "msg_" + rand.Text() }
