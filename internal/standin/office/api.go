package office

import (
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"
)

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
