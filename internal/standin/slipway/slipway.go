// Package slipway is a builder of static sites. It is simulated only in that it ships with the
// service: it takes build calls, reads content and writes pages.
package slipway

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"ubiquon/internal/core/pages"
)

// Options of Open.
type Options struct {
	// Dir keeps the built sites and the orders that are not done.
	Dir string
	// Gateway is the base address that content is read from, as in
	// http://host:port/content/main/published.
	Gateway string
	// Key reads it and reports.
	Key string
	// Secret proves the calls (whsec_ and base64).
	Secret string
	// Delay makes every build take this much longer.
	Delay time.Duration
	Log   *slog.Logger
}

// Slipway is a running builder.
type Slipway struct {
	o      Options
	client *http.Client
	mux    *http.ServeMux
	wake   chan struct{}
	mu     sync.Mutex
	done   []Done
}

// Done is a build that has ended.
type Done struct {
	Build    string    `json:"build"`
	Number   int64     `json:"number"`
	Sequence int64     `json:"sequence"`
	Pages    int       `json:"pages"`
	At       time.Time `json:"at"`
	Error    string    `json:"error,omitempty"`
}

// order is what a call asks for.
type order struct {
	Build    string `json:"build"`
	Number   int64  `json:"number"`
	Site     string `json:"site"`
	Sequence int64  `json:"sequence"`
	Report   string `json:"report"`
	Test     bool   `json:"test"`
	// Pages are those to be rendered.
	Pages pages.Order `json:"pages"`
}

// Open takes up where an earlier run left off.
func Open(o Options) (*Slipway, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Slipway{
		o:      o,
		client: &http.Client{Timeout: 20 * time.Second},
		wake:   make(chan struct{}, 1),
		mux:    http.NewServeMux(),
	}
	if err := os.MkdirAll(s.orders(), 0o755); err != nil {
		return nil, err
	}
	s.mux.HandleFunc("POST /build", s.call)
	s.mux.HandleFunc("GET /builds", s.list)
	s.mux.HandleFunc("GET /preview", s.preview)
	s.mux.HandleFunc("GET /preview/end", s.endPreview)
	s.mux.HandleFunc("GET /", s.serve)
	return s, nil
}

func (s *Slipway) orders() string  { return filepath.Join(s.o.Dir, "orders") }
func (s *Slipway) current() string { return filepath.Join(s.o.Dir, "current") }

// ServeHTTP implements http.Handler.
func (s *Slipway) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// call takes an order: it is kept before it is confirmed, so that a crash loses
// none. The same order twice is one build.
func (s *Slipway) call(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 4<<20))
	if err != nil {
		http.Error(w, "the order is too large", http.StatusRequestEntityTooLarge)
		return
	}
	proof, err := standardwebhooks.NewWebhook(s.o.Secret)
	if err != nil || proof.Verify(body, r.Header) != nil {
		http.Error(w, "the order is not signed with the secret that we share", http.StatusUnauthorized)
		return
	}
	var o order
	if json.Unmarshal(body, &o) == nil && o.Test {
		_, _ = io.WriteString(w, "The slipway is there.\n") // who asks may be gone
		return
	}
	if err := json.Unmarshal(body, &o); err != nil || o.Build == "" || strings.ContainsAny(o.Build, "/.") {
		http.Error(w, "the order cannot be read", http.StatusBadRequest)
		return
	}
	if err := os.WriteFile(filepath.Join(s.orders(), o.Build+".json"), body, 0o600); err != nil {
		http.Error(w, "the order cannot be kept", http.StatusInternalServerError)
		return
	}
	select {
	case s.wake <- struct{}{}:
	default:
	}
	w.WriteHeader(http.StatusAccepted)
}

func (s *Slipway) list(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"builds": s.done})
}

func (s *Slipway) serve(w http.ResponseWriter, r *http.Request) {
	if s.showPreview(w, r) {
		return
	}
	if _, err := os.Stat(s.current()); err != nil {
		http.Error(w, "No site has been built yet.", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Cache-Control", "no-cache")
	http.FileServer(http.Dir(s.current())).ServeHTTP(w, r)
}

// Run builds what is ordered, one after another, until ctx ends.
func (s *Slipway) Run(ctx context.Context) {
	for {
		if o, ok := s.next(); ok {
			s.build(ctx, o)
			if ctx.Err() != nil {
				return
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		}
	}
}

// next returns the oldest order.
func (s *Slipway) next() (order, bool) {
	files, _ := filepath.Glob(filepath.Join(s.orders(), "*.json"))
	var all []order
	for _, f := range files {
		var o order
		src, err := os.ReadFile(f)
		if err == nil && json.Unmarshal(src, &o) == nil {
			all = append(all, o)
		}
	}
	if len(all) == 0 {
		return order{}, false
	}
	return slices.MinFunc(all, func(a, b order) int { return int(a.Number - b.Number) }), true
}

func (s *Slipway) build(ctx context.Context, o order) {
	s.report(ctx, o, "started", "")
	made, sequence, err := s.render(ctx, o)
	if err == nil && s.o.Delay > 0 {
		select {
		case <-ctx.Done():
		case <-time.After(s.o.Delay):
		}
	}
	if ctx.Err() != nil {
		return // the order stays, and is taken up at the next start
	}
	d := Done{Build: o.Build, Number: o.Number, Sequence: sequence, Pages: made, At: time.Now().UTC()}
	if err == nil {
		err = s.swap(o.Build)
	}
	if err != nil {
		d.Error = err.Error()
		s.o.Log.Warn("the site cannot be built", "build", o.Number, "error", err)
		s.report(ctx, o, "failed", err.Error())
	} else {
		s.report(ctx, o, "finished", "")
	}
	if ctx.Err() == nil {
		_ = os.Remove(filepath.Join(s.orders(), o.Build+".json"))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.done = append([]Done{d}, s.done[:min(len(s.done), 19)]...)
}

// swap puts the built site in the place of the one before, in one step.
func (s *Slipway) swap(build string) error {
	before, _ := os.Readlink(s.current())
	link := s.current() + ".new"
	_ = os.Remove(link)
	if err := os.Symlink("site-"+build, link); err != nil {
		return err
	}
	if err := os.Rename(link, s.current()); err != nil {
		return err
	}
	if before != "" && before != "site-"+build {
		return os.RemoveAll(filepath.Join(s.o.Dir, before))
	}
	return nil
}

// report tells the gateway, trying for a while if it is away.
func (s *Slipway) report(ctx context.Context, o order, state, reason string) {
	body, _ := json.Marshal(map[string]string{"state": state, "error": reason})
	for try := range 8 {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, o.Report, bytes.NewReader(body))
		if err != nil {
			return
		}
		req.Header.Set("Authorization", "Bearer "+s.o.Key)
		req.Header.Set("Content-Type", "application/json")
		resp, err := s.client.Do(req)
		if err == nil {
			resp.Body.Close()
			if resp.StatusCode < 500 {
				return // taken, or not wanted any more
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(200 * time.Millisecond << try):
		}
	}
	s.o.Log.Warn("a report cannot be delivered", "build", o.Number, "state", state)
}

var errTooOld = errors.New("the gateway's answer is older than the order")

// errNotThere is the error of reading what is not there.
var errNotThere = errors.New("the gateway has nothing there")

// read gets one answer of the gateway, no older than the sequence; mark says for which page.
func (s *Slipway) read(ctx context.Context, sequence int64, mark, path string, into any) (int64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.o.Gateway+path, nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Ubiquon-Min-Sequence", fmt.Sprint(sequence))
	if mark != "" {
		req.Header.Set(pages.Header, mark)
	}
	resp, err := s.send(req, path, s.o.Key)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	var at int64
	if _, err := fmt.Sscan(resp.Header.Get("Ubiquon-Sequence"), &at); err != nil || at < sequence {
		return at, fmt.Errorf("%s: %w (%d, not %d)", path, errTooOld, at, sequence)
	}
	return at, json.NewDecoder(resp.Body).Decode(into)
}

// send asks the gateway with a key or token; any answer but 200 is an error that
// names the path.
func (s *Slipway) send(req *http.Request, path, key string) (*http.Response, error) {
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := s.client.Do(req)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode == http.StatusNotFound {
		resp.Body.Close()
		return nil, fmt.Errorf("%s: %w", path, errNotThere)
	}
	if resp.StatusCode != http.StatusOK {
		resp.Body.Close()
		return nil, fmt.Errorf("%s: the gateway answered %s", path, resp.Status)
	}
	return resp, nil
}
