// Package board is a simulated pier display: a site whose pages are rendered on its server, kept,
// and rendered again when it is told that they are stale.
package board

import (
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/proof"
)

//go:embed templates/*.html
var files embed.FS

var templates = template.Must(template.ParseFS(files, "templates/*.html"))

// Options of New.
type Options struct {
	// Gateway is the base address that content is read from, as in
	// http://host:port/content/main/published.
	Gateway string
	// Key reads it.
	Key string
	// Secret proves the calls (whsec_ and base64).
	Secret string
	Log    *slog.Logger
}

// Board is a running display. It is an http.Handler.
type Board struct {
	o      Options
	client *http.Client
	mux    *http.ServeMux

	mu        sync.Mutex
	pages     map[string]*page // rendered, by path
	sequence  int64            // no page may show an older state
	refreshes []Refresh        // the newest first
}

// Refresh is what the display was told.
type Refresh struct {
	At       time.Time `json:"at"`
	Sequence int64     `json:"sequence"`
	Pages    []string  `json:"pages"`
	All      bool      `json:"all"`
}

type page struct {
	body     []byte
	sequence int64
	at       time.Time
}

// mostPages bounds the pages that are kept; the display has a page for each pier.
const mostPages = 500

// New returns a display without any page yet.
func New(o Options) *Board {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	b := &Board{o: o, client: &http.Client{Timeout: 10 * time.Second}, mux: http.NewServeMux(), pages: map[string]*page{}}
	b.mux.HandleFunc("POST /refresh", b.refresh)
	b.mux.HandleFunc("GET /refreshes", b.list)
	b.mux.HandleFunc("GET /{$}", b.serve)
	b.mux.HandleFunc("GET /piers/{slug}", b.serve)
	return b
}

// ServeHTTP implements http.Handler.
func (b *Board) ServeHTTP(w http.ResponseWriter, r *http.Request) { b.mux.ServeHTTP(w, r) }

func (b *Board) list(w http.ResponseWriter, _ *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"items": append([]Refresh{}, b.refreshes...)})
}

// refresh takes a CloudEvent of the type pages-stale.
func (b *Board) refresh(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err == nil {
		err = proof.Standard([]string{b.o.Secret}, r.Header, body, time.Now())
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	var told struct {
		Type string
		Data struct {
			Sequence int64
			Pages    []struct{ Path string }
			All      bool
			Test     bool
		}
	}
	if err := json.Unmarshal(body, &told); err != nil || !strings.HasSuffix(told.Type, "pages-stale") {
		http.Error(w, "this is no event of the type pages-stale", http.StatusBadRequest)
		return
	}
	if told.Data.Test {
		_, _ = io.WriteString(w, "The display is there.\n") // who asks may be gone
		return
	}
	done := Refresh{At: time.Now().UTC(), Sequence: told.Data.Sequence, All: told.Data.All, Pages: []string{}}
	b.mu.Lock()
	b.sequence = max(b.sequence, told.Data.Sequence)
	if told.Data.All {
		clear(b.pages)
	}
	for _, p := range told.Data.Pages {
		delete(b.pages, p.Path)
		done.Pages = append(done.Pages, p.Path)
	}
	b.refreshes = append([]Refresh{done}, b.refreshes[:min(len(b.refreshes), 99)]...)
	b.mu.Unlock()
	rendered := []string{}
	for _, path := range done.Pages {
		if _, err := b.page(r.Context(), path); err == nil {
			rendered = append(rendered, path)
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"done": rendered})
}

func (b *Board) serve(w http.ResponseWriter, r *http.Request) {
	path := r.URL.Path
	p, err := b.page(r.Context(), path)
	if err != nil {
		b.o.Log.Warn("a page cannot be rendered", "path", path, "error", err)
		http.Error(w, "The display is out of order: "+err.Error(), http.StatusBadGateway)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("Ubiquon-Sequence", fmt.Sprint(p.sequence))
	_, _ = w.Write(p.body) // the visitor may be gone
}

// page returns a page, rendered if need be.
func (b *Board) page(ctx context.Context, path string) (*page, error) {
	b.mu.Lock()
	p, needed := b.pages[path], b.sequence
	b.mu.Unlock()
	if p != nil {
		return p, nil
	}
	p, err := b.render(ctx, path, needed)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.pages) >= mostPages {
		clear(b.pages)
	}
	if b.sequence == needed { // else it may be stale already
		b.pages[path] = p
	}
	return p, nil
}

// shown is what a page of the display shows.
type shown struct {
	Path     string
	Title    string
	Sequence int64
	At       time.Time
	Notices  []notice
	Routes   []route
	Piers    []pier
}

type (
	notice struct {
		Title    string
		Severity string
		Text     struct{ Plain string }
	}
	route struct {
		Number  int
		Name    string
		Minutes int
	}
	pier struct{ Name, Slug string }
)

// render reads what a page shows, at the sequence or later, and renders it.
func (b *Board) render(ctx context.Context, path string, sequence int64) (*page, error) {
	s := shown{Path: path, Title: "All piers", At: time.Now()}
	mark := fmt.Sprintf("%q; render=\"%x\"", path, s.At.UnixNano())
	var err error
	if s.Sequence, err = b.read(ctx, sequence, mark, "/notices?sort=-published&limit=4&fields=title,severity,text(plain)",
		itemsOf(&s.Notices)); err != nil {
		return nil, err
	}
	name := "home.html"
	if slug, is := strings.CutPrefix(path, "/piers/"); is {
		name = "pier.html"
		var one struct {
			Name   string
			Routes []route
		}
		if _, err := b.read(ctx, sequence, mark, "/piers/"+url.PathEscape(slug)+"?fields=name,routes(number,name,minutes)",
			&one); err != nil {
			return nil, err
		}
		s.Title, s.Routes = one.Name, one.Routes
	} else if _, err := b.read(
		ctx, sequence, mark, "/piers?sort=name&limit=100&fields=name,slug", itemsOf(&s.Piers),
	); err != nil {
		return nil, err
	}
	var out strings.Builder
	if err := templates.ExecuteTemplate(&out, name, s); err != nil {
		return nil, err
	}
	return &page{body: []byte(out.String()), sequence: s.Sequence, at: s.At}, nil
}

// itemsOf decodes the items of a list.
func itemsOf[T any](into *[]T) any {
	return &struct{ Items *[]T }{into}
}

// read gets one answer of the gateway, no older than the sequence; mark says for which page.
func (b *Board) read(ctx context.Context, sequence int64, mark, path string, into any) (int64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.o.Gateway+path, nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+b.o.Key)
	req.Header.Set("Ubiquon-Min-Sequence", fmt.Sprint(sequence))
	req.Header.Set(pages.Header, mark)
	resp, err := b.client.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("the gateway answered %s", resp.Status)
	}
	var at int64
	if _, err := fmt.Sscan(resp.Header.Get("Ubiquon-Sequence"), &at); err != nil {
		return 0, fmt.Errorf("the gateway's answer has no sequence")
	}
	return at, json.NewDecoder(resp.Body).Decode(into)
}
