// Package client speaks to a running service: the control endpoints, typed, and
// reads of content as they come. The command line and the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/gateway"
	"ubiquon/internal/store"
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
	Status    int    `json:"status"`
	Type      string `json:"type"`
	Title     string `json:"title"`
	Detail    string `json:"detail"`
	Parameter string `json:"parameter"`
	Hint      string `json:"hint"`
	Grant     string `json:"grant"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if p.Parameter != "" {
		text = p.Parameter + ": " + text
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
	if json.Unmarshal(a.Body, p) != nil || p.Detail == "" {
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
		return nil, fmt.Errorf("no service answers at %s: %w", c.Address, err)
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	return &Answer{Status: resp.StatusCode, Header: resp.Header, Body: out}, err
}

func (c *Client) call(ctx context.Context, method, path string, body, into any) error {
	a, err := c.Do(ctx, method, "/control/v1"+path, nil, body)
	if err != nil {
		return err
	}
	if err := a.Err(); err != nil {
		return err
	}
	return json.Unmarshal(a.Body, into)
}

// Status returns how the service stands.
func (c *Client) Status(ctx context.Context) (out gateway.Status, err error) {
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
}

// Model returns the model.
func (c *Client) Model(ctx context.Context) (out model.Model, err error) {
	return out, c.call(ctx, http.MethodGet, "/model", nil, &out)
}

// Entries lists entries, and says how many there are.
func (c *Client) Entries(ctx context.Context, f store.EntryFilter) ([]store.EntryInfo, int, error) {
	var out struct {
		Items []store.EntryInfo
		Total int
	}
	err := c.call(ctx, http.MethodGet, "/entries?"+values("type", f.Type, "origin", f.Origin, "state", string(f.State), "search", f.Search,
		"limit", positive(f.Limit), "offset", positive(f.Offset)), nil, &out)
	return out.Items, out.Total, err
}

// Entry returns one entry with its history.
func (c *Client) Entry(ctx context.Context, id string) (out gateway.EntryDetail, err error) {
	return out, c.call(ctx, http.MethodGet, "/entries/"+url.PathEscape(id), nil, &out)
}

// Edit is one edit of an entry that is written in the service itself.
type Edit struct {
	ID         string         `json:"id"`
	Type       string         `json:"type,omitempty"`
	Save       map[string]any `json:"save,omitempty"`
	Publish    bool           `json:"publish,omitempty"`
	Unpublish  bool           `json:"unpublish,omitempty"`
	Delete     bool           `json:"delete,omitempty"`
	IfRevision int            `json:"ifRevision,omitempty"`
}

// Edit carries out edits, all or none, and returns the sequence of the last
// change, 0 if no reader could see a difference.
func (c *Client) Edit(ctx context.Context, edits ...Edit) (int64, error) {
	var out struct{ Sequence int64 }
	err := c.call(ctx, http.MethodPost, "/edits", map[string]any{"edits": edits}, &out)
	return out.Sequence, err
}

// Events lists events, the newest first.
func (c *Client) Events(ctx context.Context, f store.EventFilter) ([]gateway.EventTrace, error) {
	var out struct{ Items []gateway.EventTrace }
	err := c.call(ctx, http.MethodGet, "/events?"+values("state", f.State, "entry", f.Entry, "limit", positive(f.Limit)), nil, &out)
	return out.Items, err
}

// Event returns one event with everything that came of it.
func (c *Client) Event(ctx context.Context, id string) (out gateway.EventDetail, err error) {
	return out, c.call(ctx, http.MethodGet, "/events/"+url.PathEscape(id), nil, &out)
}

// Sites lists the sites with their last builds.
func (c *Client) Sites(ctx context.Context) ([]gateway.SiteInfo, error) {
	var out struct{ Items []gateway.SiteInfo }
	err := c.call(ctx, http.MethodGet, "/sites", nil, &out)
	return out.Items, err
}

// Rebuild asks for a build of a site.
func (c *Client) Rebuild(ctx context.Context, site string, immediately bool) (out rebuild.Build, err error) {
	return out, c.call(ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/rebuild", map[string]bool{"now": immediately}, &out)
}

// Builds lists builds, the newest first.
func (c *Client) Builds(ctx context.Context, site string, limit int) ([]rebuild.Build, error) {
	var out struct{ Items []rebuild.Build }
	err := c.call(ctx, http.MethodGet, "/builds?"+values("site", site, "limit", positive(limit)), nil, &out)
	return out.Items, err
}

// CacheStats returns what the cache has done.
func (c *Client) CacheStats(ctx context.Context) (out cache.Stats, err error) {
	return out, c.call(ctx, http.MethodGet, "/cache", nil, &out)
}

// Purge throws away every cached response and returns how many there were.
func (c *Client) Purge(ctx context.Context) (int, error) {
	var out struct{ Purged int }
	err := c.call(ctx, http.MethodPost, "/cache/purge", nil, &out)
	return out.Purged, err
}

// Keys lists all keys.
func (c *Client) Keys(ctx context.Context) ([]access.Key, error) {
	var out struct{ Items []access.Key }
	err := c.call(ctx, http.MethodGet, "/keys", nil, &out)
	return out.Items, err
}

// CreateKey makes a key and returns its secret.
func (c *Client) CreateKey(ctx context.Context, name string, grants []string, site string, expires *time.Time) (key access.Key, secret string, err error) {
	var out struct {
		Key    access.Key
		Secret string
	}
	err = c.call(ctx, http.MethodPost, "/keys", map[string]any{"name": name, "grants": grants, "site": site, "expires": expires}, &out)
	return out.Key, out.Secret, err
}

// RevokeKey ends a key.
func (c *Client) RevokeKey(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/keys/"+url.PathEscape(id), nil, &struct{}{})
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
