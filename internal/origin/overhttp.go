package origin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"ubiquon/internal/core/jsonpath"
)

// overHTTP reads lists and items of JSON over HTTP.
type overHTTP struct {
	s      *Source
	client *http.Client
	token  oauth2.TokenSource // nil without OAuth 2

	// held are the lists of one page that were answered with an ETag or a date last: asked for
	// again, they need not be sent.
	sync.Mutex
	held map[string]heldList
	// since is when the origin was asked last for everything or for what has changed, by our clock; skew is
	// how far its own is ahead. listed is when the lists that are compared with now began.
	since, listed time.Time
	skew          time.Duration
}

type heldList struct {
	etag, modified string
	body           any
}

// mostHeld bounds the lists that are held, and mostHeldItems the items of one.
const (
	mostHeld      = 64
	mostHeldItems = 2000
)

func newOverHTTP(s *Source, with Reading) (reader, error) {
	base, err := url.Parse(s.Config.Pull.HTTP)
	if err != nil {
		return nil, fmt.Errorf("pull.http is no address")
	}
	s.base = base
	o := &overHTTP{s: s, client: with.Client, held: map[string]heldList{}}
	if a := s.Config.Pull.Auth.OAuth2; a != nil {
		c := clientcredentials.Config{ClientID: a.Client, ClientSecret: a.Secret, TokenURL: a.Token, Scopes: a.Scopes}
		o.token = c.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, with.Client))
	}
	return o, nil
}

// listAddress is where the list of a type begins.
func (o *overHTTP) listAddress(typ string) string {
	list := o.s.Config.Types[typ].List
	path := list.Path
	if path == "" && list.Body == nil {
		path = "/{kind}"
	}
	return o.s.Config.Pull.HTTP + expand(path, o.s.Config.Kind(typ), "", url.PathEscape)
}

func (o *overHTTP) one(ctx context.Context, typ, key string) (any, error) {
	m := o.s.Config.Types[typ]
	kind := o.s.Config.Kind(typ)
	path := m.Item.Path
	if path == "" && m.Item.Body == nil {
		path = "/{kind}/{key}"
	}
	at := o.s.Config.Pull.HTTP + expand(path, kind, key, url.PathEscape)
	var out any
	err := o.s.try(ctx, func() error {
		answer, err := o.ask(ctx, at, fill(m.Item.Body, map[string]any{"kind": kind, "key": key}), heldList{})
		if err != nil || m.Item.From == "" {
			out = answer.body
			return err
		}
		if out, err = o.s.paths[typ].First(m.Item.From, answer.body); err == nil && out == nil {
			err = fmt.Errorf("origin %s: %w", o.s.Name, ErrGone)
		}
		return err
	})
	return out, err
}

func (o *overHTTP) probe(ctx context.Context, typ string) (address string, items int, err error) {
	p := o.firstPage()
	address = p.address(o, typ)
	answer, err := o.ask(ctx, address, p.body(o, typ), heldList{})
	if err != nil {
		return address, 0, err
	}
	found, err := o.s.paths[typ].All(o.s.Config.Types[typ].From, answer.body)
	return address, len(found), err
}

func (o *overHTTP) list(ctx context.Context, typ string, each func([]any) error) error {
	o.listing()
	return o.read(ctx, typ, "", each)
}

// read reads the list of a type; with a time, as far as it has changed since.
func (o *overHTTP) read(ctx context.Context, typ, since string, each func([]any) error) error {
	kind := o.s.Config.Kind(typ)
	begin := time.Now()
	page, more := o.firstPage(), true
	page.since = since
	seen := map[string]bool{}
	for pages := 0; more; pages++ {
		at, body := page.address(o, typ), page.body(o, typ)
		mark := at
		if body != nil {
			src, err := json.Marshal(body)
			if err != nil {
				return err
			}
			mark += string(src)
		}
		if seen[mark] {
			return nil
		}
		if pages == maxPages {
			return &Trouble{fmt.Errorf("origin %s: the list of %s goes on after %d pages; does it lead in a circle?",
				o.s.Name, kind, maxPages)}
		}
		if time.Since(begin) > longestList {
			return &Trouble{fmt.Errorf(
				"origin %s: the list of %s is not read to its end after %v and %d pages; have it list more items a page, "+
					"or answer faster",
				o.s.Name,
				kind,
				longestList,
				pages,
			)}
		}
		seen[mark] = true
		var a answer
		if err := o.s.try(ctx, func() (err error) {
			a, err = o.ask(ctx, at, body, o.heldAt(mark))
			return err
		}); errors.Is(err, ErrGone) {
			return &Trouble{fmt.Errorf("origin %s has no list of %s at %s", o.s.Name, kind, at)}
		} else if err != nil {
			return err
		}
		found, err := o.items(typ, a.body)
		if err != nil {
			return &Trouble{fmt.Errorf("origin %s: %s: %w", o.s.Name, at, err)}
		}
		if page, more, err = page.next(o, typ, a, len(found)); err != nil {
			return err
		}
		if !more && pages == 0 && since == "" && len(found) <= mostHeldItems {
			o.hold(mark, a)
		}
		if err := each(found); err != nil {
			return err
		}
	}
	return nil
}

// items finds the items of a list. An answer without the list, or with errors as GraphQL has them, is
// an error: else everything would seem to be gone.
func (o *overHTTP) items(typ string, body any) ([]any, error) {
	m := o.s.Config.Types[typ]
	found, err := o.s.paths[typ].All(m.From, body)
	if err != nil || len(found) > 0 {
		return found, err
	}
	if object, is := body.(map[string]any); is && m.List.Body != nil {
		if wrong, _ := object["errors"].([]any); len(wrong) > 0 {
			return nil, fmt.Errorf("it answers with errors: %.200s", jsonpath.Text(wrong[0]))
		}
	}
	if list, each := strings.CutSuffix(m.From, "[*]"); each {
		if there, err := o.s.paths[typ].All(list, body); err != nil || len(there) == 0 {
			return nil, fmt.Errorf("the answer has no list at %s", list)
		}
	}
	return found, nil
}

func (o *overHTTP) heldAt(mark string) heldList {
	o.Lock()
	defer o.Unlock()
	return o.held[mark]
}

func (o *overHTTP) hold(mark string, a answer) {
	if a.etag == "" && a.modified == "" {
		return
	}
	o.Lock()
	defer o.Unlock()
	if len(o.held) >= mostHeld {
		clear(o.held)
	}
	o.held[mark] = heldList{a.etag, a.modified, a.body}
}

var nextLink = regexp.MustCompile(`<([^>]*)>\s*;[^,]*\brel="?next"?`)

// answer is what an origin has answered.
type answer struct {
	body           any
	next           string
	etag, modified string
}

// ask asks for an address, with POST where there is something to send. Where the origin says that what
// is held has not changed, that is the answer.
func (o *overHTTP) ask(ctx context.Context, address string, send any, held heldList) (out answer, err error) {
	name, method := o.s.Name, http.MethodGet
	var body io.Reader
	if send != nil {
		src, err := json.Marshal(send)
		if err != nil {
			return out, err
		}
		method, body = http.MethodPost, bytes.NewReader(src)
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return out, err
	}
	if req.URL.Host != o.s.base.Host || req.URL.Scheme != o.s.base.Scheme {
		// The credentials are for the configured host alone.
		return out, fmt.Errorf("origin %s: its list goes on at %s://%s, which is not %s://%s", name, req.URL.Scheme,
			req.URL.Host, o.s.base.Scheme, o.s.base.Host)
	}
	req.Header.Set("Accept", "application/json")
	if send != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if held.etag != "" {
		req.Header.Set("If-None-Match", held.etag)
	}
	if held.modified != "" {
		req.Header.Set("If-Modified-Since", held.modified)
	}
	if err := o.authorize(req); err != nil {
		return out, fmt.Errorf("origin %s: %w", name, err)
	}
	resp, err := o.client.Do(req)
	if err != nil {
		return out, fmt.Errorf("origin %s: %w", name, err)
	}
	defer resp.Body.Close()
	o.noteClock(resp.Header)
	if resp.StatusCode == http.StatusNotModified && held.body != nil {
		return answer{body: held.body, etag: held.etag, modified: held.modified}, nil
	}
	src, err := readAnswer(name, req.URL.Path, resp, "pull.auth")
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(src, &out.body); err != nil {
		return out, fmt.Errorf("origin %s answers no JSON to %s: %w", name, req.URL.Path, err)
	}
	if m := nextLink.FindStringSubmatch(resp.Header.Get("Link")); m != nil {
		if to, err := resp.Request.URL.Parse(m[1]); err == nil {
			out.next = to.String()
		}
	}
	out.etag, out.modified = resp.Header.Get("ETag"), resp.Header.Get("Last-Modified")
	return out, nil
}

// readAnswer reads what an origin answers, up to what is allowed.
func readAnswer(name, path string, resp *http.Response, where string) ([]byte, error) {
	switch {
	case resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone:
		return nil, fmt.Errorf("origin %s: %w", name, ErrGone)
	case resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden:
		return nil, fmt.Errorf("origin %s refuses our credentials (%s); see %s in its configuration", name, resp.Status,
			where)
	case resp.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("origin %s answers %s to %s", name, resp.Status, path)
	}
	src, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("origin %s: %w", name, err)
	}
	if len(src) > maxAnswer {
		return nil, fmt.Errorf("origin %s answers with more than %d MiB to %s; have it list fewer items a page", name,
			maxAnswer>>20, path)
	}
	return src, nil
}

func (o *overHTTP) authorize(req *http.Request) error {
	auth := o.s.Config.Pull.Auth
	switch {
	case auth.Basic != "":
		user, password, _ := strings.Cut(auth.Basic, ":")
		req.SetBasicAuth(user, password)
	case auth.Bearer != "":
		req.Header.Set("Authorization", "Bearer "+auth.Bearer)
	case auth.Header != nil:
		req.Header.Set(auth.Header.Name, auth.Header.Value)
	case o.token != nil:
		token, err := o.token.Token()
		if err != nil {
			return fmt.Errorf("no token from %s: %w", auth.OAuth2.Token, err)
		}
		token.SetAuthHeader(req)
	}
	return nil
}

// fill puts values in the place of {name} in the texts of a JSON value; one that is nothing else
// becomes the value itself.
func fill(v any, values map[string]any) any {
	switch v := v.(type) {
	case string:
		if inner := strings.TrimSuffix(strings.TrimPrefix(v, "{"), "}"); len(inner) == len(v)-2 {
			if value, is := values[inner]; is {
				return value
			}
		}
		for name, value := range values {
			v = strings.ReplaceAll(v, "{"+name+"}", jsonpath.Text(value))
		}
		return v
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = fill(inner, values)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = fill(inner, values)
		}
		return out
	}
	return v
}
