// Package breakwater is a simulated shared cache in front of the service. It understands
// invalidations, or goes by RFC 9111 alone.
package breakwater

import (
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/core/proof"
)

// Options of New.
type Options struct {
	// Gateway is its address, as in http://127.0.0.1:8400.
	Gateway string
	// Secret proves what the gateway tells (Standard Webhooks).
	Secret string
	Log    *slog.Logger
}

// Cache is a running one. It is an http.Handler: what the gateway tells comes to POST
// /invalidations, and everything else is a read of the gateway.
type Cache struct {
	o   Options
	web http.Client

	mu   sync.Mutex
	held map[string]*held
	told int // how often it was told something
}

type held struct {
	status  int
	header  http.Header
	body    []byte
	groups  []string
	address string
	ends    time.Time
}

const (
	mostBytes   = 1 << 20 // of a body that is kept
	mostAnswers = 10_000  // beyond that it starts again
)

// New returns an empty cache.
func New(o Options) *Cache {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return &Cache{
		o: o,
		web: http.Client{
			Timeout:       30 * time.Second,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
		held: map[string]*held{},
	}
}

// ServeHTTP implements http.Handler.
func (c *Cache) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/invalidations" && r.Method == http.MethodPost:
		c.invalidate(w, r)
	case r.Method != http.MethodGet && r.Method != http.MethodHead || !strings.HasPrefix(r.URL.Path, "/content/"):
		http.Error(w, "the breakwater hands on reads of content alone", http.StatusNotFound)
	default:
		c.read(w, r)
	}
}

func (c *Cache) read(w http.ResponseWriter, r *http.Request) {
	key := r.RequestURI + "\n" + r.Header.Get("Accept-Encoding") + "\n" + r.Header.Get("Accept-Language")
	everyones := r.Header.Get("Authorization") == ""
	c.mu.Lock()
	one, told := c.held[key], c.told
	c.mu.Unlock()
	if one != nil && everyones && time.Now().Before(one.ends) {
		answer(w, one, "Breakwater; hit")
		return
	}
	one, err := c.fetch(r)
	if err != nil {
		c.o.Log.Error("the gateway does not answer", "error", err)
		http.Error(w, "the gateway does not answer", http.StatusBadGateway)
		return
	}
	status := "Breakwater; fwd=uri-miss"
	if everyones && one.status == http.StatusOK && len(one.body) <= mostBytes && time.Now().Before(one.ends) {
		// What was read before something was told is not kept after it.
		if c.mu.Lock(); told == c.told {
			if len(c.held) == mostAnswers {
				clear(c.held)
			}
			c.held[key] = one
			status += "; stored"
		}
		c.mu.Unlock()
	}
	answer(w, one, status)
}

func answer(w http.ResponseWriter, one *held, status string) {
	for name, values := range one.header {
		w.Header()[name] = values
	}
	w.Header().Add("Cache-Status", status)
	w.WriteHeader(one.status)
	_, _ = w.Write(one.body) // the reader may be gone
}

func (c *Cache) fetch(r *http.Request) (*held, error) {
	req, err := http.NewRequestWithContext(r.Context(), http.MethodGet, c.o.Gateway+r.RequestURI, nil)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"Authorization", "Accept-Encoding", "Accept-Language", "Accept"} {
		if v := r.Header.Get(name); v != "" {
			req.Header.Set(name, v)
		}
	}
	if req.Header.Get("Accept-Encoding") == "" {
		req.Header.Set("Accept-Encoding", "identity")
	}
	resp, err := c.web.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	one := &held{status: resp.StatusCode, header: resp.Header.Clone(), address: r.RequestURI}
	if one.body, err = io.ReadAll(resp.Body); err != nil {
		return nil, err
	}
	one.header.Del("Content-Length")
	one.header.Del("Date")
	for group := range strings.SplitSeq(resp.Header.Get("Cache-Groups"), ",") {
		if name, err := strconv.Unquote(strings.TrimSpace(group)); err == nil {
			one.groups = append(one.groups, name)
		}
	}
	for part := range strings.SplitSeq(resp.Header.Get("CDN-Cache-Control"), ",") {
		if n, is := strings.CutPrefix(strings.TrimSpace(part), "max-age="); is {
			seconds, _ := strconv.Atoi(n) // 0 is not kept
			one.ends = time.Now().Add(time.Duration(seconds) * time.Second)
		}
	}
	return one, nil
}

// invalidate takes what the gateway tells: a CloudEvent.
func (c *Cache) invalidate(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 4<<20))
	if err == nil {
		err = proof.Standard([]string{c.o.Secret}, r.Header, body, time.Now())
	}
	var told struct {
		SpecVersion string
		Data        struct {
			Sequence          int64
			Groups, Addresses []string
		}
	}
	if err == nil {
		if err = json.Unmarshal(body, &told); err == nil && told.SpecVersion != "1.0" {
			err = errors.New("this is no CloudEvent 1.0")
		}
	}
	if err != nil {
		c.o.Log.Warn("refused to let go of anything", "error", err)
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	c.told++
	n := 0
	for key, one := range c.held {
		if slices.ContainsFunc(one.groups, func(g string) bool { return slices.Contains(told.Data.Groups, g) }) ||
			slices.Contains(told.Data.Addresses, one.address) {
			delete(c.held, key)
			n++
		}
	}
	c.mu.Unlock()
	c.o.Log.Info("let go of answers", "sequence", told.Data.Sequence, "answers", n)
	w.WriteHeader(http.StatusNoContent)
}
