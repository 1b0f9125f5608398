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
	"reflect"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
)

// Client speaks to one service with one key. The zero HTTP means a client with
// a time limit of 30 s.
type Client struct {
	Address string // as in http://127.0.0.1:8400
	Key     string
	HTTP    *http.Client
}

// Answer is a response as it came.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Err returns the *api.Problem that the answer is, or nil.
func (a *Answer) Err() error {
	if a.Status < 400 {
		return nil
	}
	p := &api.Problem{Status: a.Status}
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
	media := "application/json"
	if text, is := body.(document); is {
		src, media = bytes.NewReader(text), "application/yaml"
	} else if raw, is := body.(octets); is {
		src, media = bytes.NewReader(raw), "application/octet-stream"
	} else if body != nil {
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
		req.Header.Set("Content-Type", media)
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

// document is a body that is sent as it is: YAML, of which JSON is a part.
type document []byte

// octets is a body that is sent as it is, of bytes.
type octets []byte

func (c *Client) call(ctx context.Context, method, path string, body, into any) error {
	return c.callWith(ctx, method, path, nil, body, into)
}

// callWith is call with headers. Without into the answer's body is thrown away.
func (c *Client) callWith(ctx context.Context, method, path string, h http.Header, body, into any) error {
	a, err := c.Do(ctx, method, "/control/v1"+path, h, body)
	if err == nil {
		a, err = c.settled(ctx, a)
	}
	if err != nil {
		return err
	}
	if err := a.Err(); err != nil {
		return err
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(a.Body, into)
}

// Status returns how the service stands.
func (c *Client) Status(ctx context.Context) (out api.Status, err error) {
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
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
		var failed struct{ Problem *api.Problem }
		if json.Unmarshal(lines.Bytes(), &failed) == nil && failed.Problem != nil {
			return failed.Problem
		}
		if err := each(lines.Bytes()); err != nil {
			return err
		}
	}
	return lines.Err()
}

// Rebuild asks for a build of a site.
func (bs *Builds) Rebuild(ctx context.Context, site string, immediately bool) (out rebuild.Build, err error) {
	return out, bs.c.call(
		ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/rebuild", api.SiteRebuild{Now: immediately}, &out,
	)
}

// Get returns one build, with its log.
func (bs *Builds) Get(ctx context.Context, id string) (out rebuild.Build, err error) {
	return out, bs.c.call(ctx, http.MethodGet, "/builds/"+url.PathEscape(id), nil, &out)
}

// List lists the origins, and how reading them goes.
func (os *Origins) List(ctx context.Context) ([]api.OriginState, error) {
	var out api.Items[api.OriginState]
	err := os.c.call(ctx, http.MethodGet, "/origins", nil, &out)
	return out.Items, err
}

// Wake ends that the node runs as a quiet copy.
func (c *Client) Wake(ctx context.Context) error {
	var out api.Awake
	return c.call(ctx, http.MethodPost, "/wake", nil, &out)
}

// List lists builds, the newest first.
func (bs *Builds) List(ctx context.Context, site string, limit int) ([]rebuild.Build, error) {
	var out api.Items[rebuild.Build]
	err := bs.c.call(ctx, http.MethodGet, "/builds?"+query(api.BuildFilter{Site: site, Limit: limit}), nil, &out)
	return out.Items, err
}

// Pages lists pages of a site, by path, and tells how much is known of them.
func (bs *Builds) Pages(ctx context.Context, f api.PageFilter) (out api.SitePages, err error) {
	return out, bs.c.call(ctx, http.MethodGet, "/pages?"+query(f), nil, &out)
}

// CheckPages makes the requests of a site's pages again, and holds what they give against what is known.
func (bs *Builds) CheckPages(ctx context.Context, site string) (out api.PageCheck, err error) {
	return out, bs.c.call(ctx, http.MethodPost, "/pages/check", api.PageCheckRequest{Site: site}, &out)
}

// query writes the query string of a request type: its fields with a query tag, without those
// that are zero.
func query(request any) string {
	out := url.Values{}
	v := reflect.ValueOf(request)
	for _, f := range reflect.VisibleFields(v.Type()) {
		name, field := f.Tag.Get("query"), v.FieldByIndex(f.Index)
		if name == "" || field.IsZero() {
			continue
		}
		switch value := reflect.Indirect(field).Interface().(type) {
		case []string:
			out.Set(name, strings.Join(value, ","))
		case time.Time:
			out.Set(name, value.Format(time.RFC3339))
		default:
			out.Set(name, fmt.Sprint(value))
		}
	}
	return out.Encode()
}
