// Package office is the harbour office: a small simulated editorial system with an HTTP interface,
// a page, and signed webhooks.
package office

import (
	"context"
	"crypto/rand"
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
