package origin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"ubiquon/internal/core/model"
	"ubiquon/internal/health"
)

// ErrGone is the error of an item that the origin does not have (any more).
var ErrGone = errors.New("the origin does not have it")

// maxAnswer bounds one answer of an origin, in bytes.
const maxAnswer = 32 << 20

const (
	// maxPages bounds the pages of one list.
	maxPages = 5000
	// longestList bounds how long one list is read.
	longestList = 15 * time.Minute
)

// Source reads one origin.
type Source struct {
	Name   string
	Config Config
	client *http.Client
	base   *url.URL
	paths  map[string]paths // by type
	health health.Target
}

// Trouble is the error of an origin that cannot be read now, whatever is asked of
// it: the same may be tried again.
type Trouble struct{ err error }

// Error implements error.
func (t *Trouble) Error() string { return t.err.Error() }

// Unwrap returns the error beneath.
func (t *Trouble) Unwrap() error { return t.err }

// Health returns how reading the origin has gone. After failures in a row it is not read
// for a while: then errors are a *Trouble that wraps a *health.HeldBackError.
func (s *Source) Health() health.State { return s.health.State() }

// New returns the source for a checked configuration, which is called with the client.
func New(name string, c Config, client *http.Client) (*Source, error) {
	base, err := url.Parse(c.Pull.HTTP)
	if err != nil {
		return nil, fmt.Errorf("origin %s: pull.http is no address", name)
	}
	s := &Source{Name: name, Config: c, client: client, base: base, paths: map[string]paths{}}
	for typ, m := range c.Types {
		p, err := m.compile()
		if err != nil {
			return nil, fmt.Errorf("origin %s, type %s: %w", name, typ, err)
		}
		s.paths[typ] = p
	}
	return s, nil
}

// TypeOf returns our name for the origin's kind of item.
func (s *Source) TypeOf(kind string) (string, bool) {
	for typ, m := range s.Config.Types {
		if m.Kind == kind {
			return typ, true
		}
	}
	return "", false
}

// EditAddress is where people edit the entry, "" if that is not configured.
func (s *Source) EditAddress(typ, key string) string {
	return strings.NewReplacer("{kind}", s.Config.Types[typ].Kind, "{key}", url.PathEscape(key)).
		Replace(s.Config.EditAt)
}

// One fetches the present state of an item. Its error is ErrGone if there is
// none.
func (s *Source) One(ctx context.Context, m *model.Model, typ, key string) (Item, error) {
	mapping := s.Config.Types[typ]
	body, _, err := s.get(ctx, s.Config.Pull.HTTP+"/"+url.PathEscape(mapping.Kind)+"/"+url.PathEscape(key))
	if err != nil {
		return Item{}, err
	}
	return mapping.item(s.paths[typ], m, s.Name, s.base, typ, body)
}

// Probe fetches the first page of a type, and returns the address and how many items are there.
// It does not count for the origin's health.
func (s *Source) Probe(ctx context.Context, typ string) (address string, items int, err error) {
	mapping := s.Config.Types[typ]
	address = s.Config.Pull.HTTP + "/" + url.PathEscape(mapping.Kind)
	body, _, err := s.read(ctx, address)
	if err != nil {
		return address, 0, err
	}
	found, err := s.paths[typ].all(mapping.From, body)
	return address, len(found), err
}

// All fetches all items of a type, page by page. An item that cannot be brought
// over goes to bad, and the rest goes on.
func (s *Source) All(
	ctx context.Context, m *model.Model, typ string, each func([]Item) error, bad func(BadItem),
) error {
	mapping := s.Config.Types[typ]
	address := s.Config.Pull.HTTP + "/" + url.PathEscape(mapping.Kind)
	begin := time.Now()
	for seen := map[string]bool{}; address != "" && !seen[address]; {
		if len(seen) == maxPages {
			return &Trouble{
				fmt.Errorf(
					"origin %s: the list of %s goes on after %d pages; does its next link lead in a circle?", s.Name,
					mapping.Kind, maxPages,
				),
			}
		}
		if time.Since(begin) > longestList {
			return &Trouble{
				fmt.Errorf(
					"origin %s: the list of %s is not read to its end after %v and %d pages; have it list more "+
						"items a page, or answer faster",
					s.Name, mapping.Kind, longestList, len(seen),
				),
			}
		}
		seen[address] = true
		body, next, err := s.get(ctx, address)
		if err != nil {
			return err
		}
		found, err := s.paths[typ].all(mapping.From, body)
		if err != nil {
			return fmt.Errorf("%s: %w", address, err)
		}
		var items []Item
		for _, one := range found {
			if item, err := mapping.item(s.paths[typ], m, s.Name, s.base, typ, one); err != nil {
				bad(BadItem{Type: typ, Key: item.Key, Err: err})
			} else {
				items = append(items, item)
			}
		}
		if err := each(items); err != nil {
			return err
		}
		address = ""
		if s.Config.Pull.Page == "link" {
			address = next
		}
	}
	return nil
}

var nextLink = regexp.MustCompile(`<([^>]*)>\s*;[^,]*\brel="?next"?`)

// get reads an address. Its error is a *Trouble, or wraps ErrGone, unless the caller has
// gone.
func (s *Source) get(ctx context.Context, address string) (body any, next string, err error) {
	if err := s.health.Allow(time.Now()); err != nil {
		return nil, "", &Trouble{fmt.Errorf("origin %s: %w", s.Name, err)}
	}
	body, next, err = s.read(ctx, address)
	if err == nil || errors.Is(err, ErrGone) {
		s.health.Done(time.Now(), nil)
		return body, next, err
	}
	if ctx.Err() != nil {
		return nil, "", err // that says nothing of the origin
	}
	s.health.Done(time.Now(), err)
	return nil, "", &Trouble{err}
}

func (s *Source) read(ctx context.Context, address string) (body any, next string, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, "", err
	}
	if req.URL.Host != s.base.Host || req.URL.Scheme != s.base.Scheme {
		// The credentials are for the configured host alone.
		return nil, "", fmt.Errorf(
			"origin %s: its list goes on at %s://%s, which is not %s://%s", s.Name, req.URL.Scheme, req.URL.Host,
			s.base.Scheme, s.base.Host,
		)
	}
	req.Header.Set("Accept", "application/json")
	if user, password, ok := strings.Cut(s.Config.Pull.Auth.Basic, ":"); ok {
		req.SetBasicAuth(user, password)
	}
	resp, err := s.client.Do(req)
	if err != nil {
		return nil, "", fmt.Errorf("origin %s: %w", s.Name, err)
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone:
		return nil, "", fmt.Errorf("origin %s: %w", s.Name, ErrGone)
	case resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden:
		return nil, "", fmt.Errorf(
			"origin %s refuses our credentials (%s); see pull.auth in its configuration", s.Name, resp.Status,
		)
	case resp.StatusCode != http.StatusOK:
		return nil, "", fmt.Errorf("origin %s answers %s to %s", s.Name, resp.Status, req.URL.Path)
	}
	src, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, "", fmt.Errorf("origin %s: %w", s.Name, err)
	}
	if len(src) > maxAnswer {
		return nil, "", fmt.Errorf(
			"origin %s answers with more than %d MiB to %s; have it list fewer items a page", s.Name, maxAnswer>>20,
			req.URL.Path,
		)
	}
	if err := json.Unmarshal(src, &body); err != nil {
		return nil, "", fmt.Errorf("origin %s answers no JSON to %s: %w", s.Name, req.URL.Path, err)
	}
	if m := nextLink.FindStringSubmatch(resp.Header.Get("Link")); m != nil {
		if to, err := resp.Request.URL.Parse(m[1]); err == nil {
			next = to.String()
		}
	}
	return body, next, nil
}
