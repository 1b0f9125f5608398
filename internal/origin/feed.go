package origin

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/mmcdole/gofeed"
	"golang.org/x/net/html/charset"
)

// feed reads RSS, Atom and JSON feeds. What a feed lists no longer is not gone: feeds list what is new.
type feed struct {
	s      *Source
	client *http.Client

	sync.Mutex
	etag, modified string
	items          []any
	known, pending map[string]string // by id, the hash of the item
	hub            Hub
}

// Hub is where a feed can be subscribed to (WebSub), and what as; empty for nowhere.
type Hub struct{ Address, Topic string }

func newFeed(s *Source, with Reading) (reader, error) {
	base, err := url.Parse(s.Config.Pull.Feed)
	if err != nil {
		return nil, err
	}
	s.base = base
	return &feed{s: s, client: with.Client}, nil
}

// Feed tells whether the source is a feed.
func (s *Source) Feed() bool { return s.Config.Pull.Feed != "" }

// Hub is where the feed can be subscribed to, once it has been read.
func (s *Source) Hub() Hub {
	f, is := s.reader.(*feed)
	if !is {
		return Hub{}
	}
	f.Lock()
	defer f.Unlock()
	return f.hub
}

// fetch reads the feed, if it has changed.
func (f *feed) fetch(ctx context.Context) ([]any, error) {
	f.Lock()
	etag, modified, held := f.etag, f.modified, f.items
	f.Unlock()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, f.s.Config.Pull.Feed, nil)
	if err != nil {
		return nil, err
	}
	if held != nil && etag != "" {
		req.Header.Set("If-None-Match", etag)
	}
	if held != nil && modified != "" {
		req.Header.Set("If-Modified-Since", modified)
	}
	o := overHTTP{s: f.s}
	if err := o.authorize(req); err != nil {
		return nil, err
	}
	resp, err := f.client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("origin %s: %w", f.s.Name, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNotModified && held != nil {
		return held, nil
	}
	if resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone {
		return nil, fmt.Errorf("origin %s answers %s: is pull.feed still its address?", f.s.Name, resp.Status)
	}
	src, err := readAnswer(f.s.Name, req.URL.Path, resp, "pull.auth")
	if err != nil {
		return nil, err
	}
	parsed, err := gofeed.NewParser().Parse(bytes.NewReader(src))
	if err != nil {
		return nil, fmt.Errorf("origin %s answers no RSS, Atom or JSON feed: %w", f.s.Name, err)
	}
	items := make([]any, 0, len(parsed.Items))
	seen := map[string]bool{}
	for _, one := range parsed.Items {
		item := feedItem(one)
		if id, _ := item["id"].(string); !seen[id] {
			seen[id] = true
			items = append(items, item)
		}
	}
	f.Lock()
	defer f.Unlock()
	f.etag, f.modified, f.items = resp.Header.Get("ETag"), resp.Header.Get("Last-Modified"), items
	f.hub = hubOf(resp, src)
	return items, nil
}

// feedItem is an entry of a feed as an item: id, title, link, summary, content, published, updated,
// authors, categories, image and enclosures.
func feedItem(one *gofeed.Item) map[string]any {
	item := map[string]any{
		"title": one.Title, "link": one.Link, "summary": one.Description, "content": one.Content,
		"published": moment(one.PublishedParsed, one.Published), "updated": moment(one.UpdatedParsed, one.Updated),
	}
	authors, categories, enclosures := []any{}, []any{}, []any{}
	for _, a := range one.Authors {
		if a != nil {
			authors = append(authors, a.Name)
		}
	}
	for _, c := range one.Categories {
		categories = append(categories, c)
	}
	for _, e := range one.Enclosures {
		if e != nil {
			enclosures = append(enclosures, map[string]any{"url": e.URL, "type": e.Type})
		}
	}
	item["authors"], item["categories"], item["enclosures"] = authors, categories, enclosures
	if one.Image != nil {
		item["image"] = one.Image.URL
	}
	switch {
	case one.GUID != "":
		item["id"] = one.GUID
	case one.Link != "":
		item["id"] = one.Link
	default:
		item["id"] = "made:" + hashOf([]any{one.Title, item["published"], one.Description})[:20]
	}
	return item
}

func moment(at *time.Time, text string) string {
	if at != nil {
		return at.UTC().Format(time.RFC3339)
	}
	return text
}

func hashOf(v any) string {
	src, _ := json.Marshal(v) // of what JSON has made
	sum := sha256.Sum256(src)
	return hex.EncodeToString(sum[:])
}

var linkHeader = regexp.MustCompile(`<([^>]*)>\s*;[^,]*\brel="?([a-z ]+)"?`)

// hubOf finds the hub of a feed, and what it calls itself: in the headers Link, in link elements of Atom
// before the first entry, or in the members of a JSON feed.
func hubOf(resp *http.Response, src []byte) (h Hub) {
	note := func(rel, href string) {
		to, err := resp.Request.URL.Parse(href)
		if err != nil || href == "" {
			return
		}
		for _, one := range strings.Fields(rel) {
			if one == "hub" && h.Address == "" {
				h.Address = to.String()
			}
			if one == "self" && h.Topic == "" {
				h.Topic = to.String()
			}
		}
	}
	for _, line := range resp.Header.Values("Link") {
		for _, m := range linkHeader.FindAllStringSubmatch(line, 8) {
			note(m[2], m[1])
		}
	}
	var asJSON struct {
		Feed string `json:"feed_url"`
		Hubs []struct {
			Type string `json:"type"`
			URL  string `json:"url"`
		} `json:"hubs"`
	}
	if json.Unmarshal(src, &asJSON) == nil {
		note("self", asJSON.Feed)
		for _, one := range asJSON.Hubs {
			if strings.EqualFold(one.Type, "WebSub") {
				note("hub", one.URL)
			}
		}
	} else {
		linksOf(src, note)
	}
	if h.Topic == "" {
		h.Topic = resp.Request.URL.String()
	}
	return h
}

// linksOf calls note with the link elements before the first entry.
func linksOf(src []byte, note func(rel, href string)) {
	d := xml.NewDecoder(bytes.NewReader(src))
	d.CharsetReader = charset.NewReaderLabel
	for {
		token, err := d.Token()
		if err != nil {
			return
		}
		start, is := token.(xml.StartElement)
		if !is {
			continue
		}
		if start.Name.Local == "item" || start.Name.Local == "entry" {
			return
		}
		if start.Name.Local != "link" {
			continue
		}
		var rel, href string
		for _, a := range start.Attr {
			switch a.Name.Local {
			case "rel":
				rel = a.Value
			case "href":
				href = a.Value
			}
		}
		note(rel, href)
	}
}

func (f *feed) load(ctx context.Context) (items []any, err error) {
	err = f.s.try(ctx, func() error {
		items, err = f.fetch(ctx)
		return err
	})
	return items, err
}

func (f *feed) list(ctx context.Context, _ string, each func([]any) error) error {
	items, err := f.load(ctx)
	if err != nil {
		return err
	}
	f.Lock()
	f.pending = hashes(items)
	f.Unlock()
	return each(items)
}

func hashes(items []any) map[string]string {
	out := map[string]string{}
	for _, one := range items {
		item, _ := one.(map[string]any)
		id, _ := item["id"].(string)
		out[id] = hashOf(item)
	}
	return out
}

func (f *feed) one(ctx context.Context, typ, key string) (any, error) {
	items, err := f.load(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range items {
		if found, err := f.s.paths[typ].Text(f.s.idOf(typ), one); err == nil && found == key {
			return one, nil
		}
	}
	return nil, fmt.Errorf("the feed of origin %s does not list %s any more", f.s.Name, key)
}

func (f *feed) probe(ctx context.Context, _ string) (address string, items int, err error) {
	all, err := f.fetch(ctx)
	return f.s.Config.Pull.Feed, len(all), err
}

func (f *feed) compared() {
	f.Lock()
	defer f.Unlock()
	if f.pending != nil {
		f.known, f.pending = f.pending, nil
	}
}

// changes implements what Source.Changes says.
func (f *feed) changes(ctx context.Context) (c Changes, ok bool, err error) {
	f.Lock()
	known := f.known
	f.Unlock()
	if known == nil {
		return c, false, nil
	}
	items, err := f.load(ctx)
	if err != nil {
		return c, true, err
	}
	now := hashes(items)
	for _, one := range items {
		id, _ := one.(map[string]any)["id"].(string)
		if known[id] == now[id] {
			continue
		}
		for typ := range f.s.Config.Types {
			if key, err := f.s.paths[typ].Text(f.s.idOf(typ), one); err == nil && key != "" {
				c.Items = append(c.Items, Ref{typ, key})
			}
		}
	}
	c.Done = func() {
		f.Lock()
		f.known = now
		f.Unlock()
	}
	return c, true, nil
}
