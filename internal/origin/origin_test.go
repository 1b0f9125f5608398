package origin_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/testkit"
)

const mapped = `
origins:
  office:
    pull: {http: "http://office.example/api", auth: {basic: "user:pass"}, page: link}
    prove: {standardWebhooks: ["whsec_YQ=="]}
    editAt: "http://office.example/?kind={kind}&ref={key}"
    types:
      route:
        kind: lines
        from: $.lines[*]
        id: $.ref
        version: $.changed
        state: {path: $.status, values: {live: published, draft: saved}}
        live: $.live
        publishedAt: $.since
        translations: $.other
        fields:
          name: $.title
          number: $.no
          text: {markdown: $.copy}
          piers: {ref: "$.stops[*]"}
          start: {ref: $.first, type: pier}
          photo: {file: $.picture.href, alt: $.picture.says, mirror: false}
          tags: $.tags[*]
          open: $.open
`

func configured(t *testing.T, text string) (map[string]origin.Config, *model.Model) {
	t.Helper()
	var f origin.File
	if err := strictyaml.Decode("origins.yaml", []byte(text), &f); err != nil {
		t.Fatal(err)
	}
	return f.Origins, testkit.Model(t, testkit.Ferries)
}

// check returns everything that is wrong with some origins; nil if nothing is.
func check(all map[string]origin.Config, m *model.Model) error {
	var wrong []string
	for _, c := range all {
		wrong = append(wrong, c.Check(m)...)
	}
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "\n"))
	}
	return nil
}

func TestCheckNamesWhatIsWrong(t *testing.T) {
	good, m := configured(t, mapped)
	if err := check(good, m); err != nil {
		t.Fatalf("the good one: %v", err)
	}
	for name, c := range map[string]struct{ from, to, want string }{
		"no address":        {`http: "http://office.example/api"`, `http: "office"`, "no http address"},
		"paging in part":    {"page: link", "page: {cursor: after}", "pull.page.next is missing"},
		"two sources":       {"page: link", "folder: tides", "not of two"},
		"unknown layout":    {"tags: $.tags[*]", `tags: {date: $.tags, layout: "%Q"}`, `layout: "%Q" is not read`},
		"no proof":          {`standardWebhooks: ["whsec_YQ=="]`, `standardWebhooks: []`, "nobody could announce"},
		"unknown type":      {"route:\n", "rote:\n", `did you mean "route"?`},
		"unknown field":     {"number: $.no", "nubmer: $.no", `did you mean "number"?`},
		"reference by path": {`piers: {ref: "$.stops[*]"}`, "piers: $.stops[*]", "comes from {ref: path}"},
		"text by reference": {"name: $.title", "name: {ref: $.title}", "comes from {ref: path}"},
		"which type": {"start: {ref: $.first, type: pier}", "start: {ref: $.first}", "say which with {ref: " +
			"path, type: name}"},
		"unknown state":   {"live: published", "live: shown", `published or saved, not "shown"`},
		"no path":         {"id: $.ref", "id: $[", "no JSONPath"},
		"nothing to find": {"id: $.ref", "id: \"\"", "from and id are needed"},
	} {
		text := strings.Replace(mapped, c.from, c.to, 1)
		if text == mapped {
			t.Fatalf("%s: nothing replaced", name)
		}
		bad, m := configured(t, text)
		if err := check(bad, m); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	var f origin.File
	for text, want := range map[string]string{
		"text: {markdown: $.a, file: $.b}": "not from two", "text: {value: a, path: $.b}": "not from two",
		"text: {markdwon: $.a}": "markdwon", "text: {type: pier}": "a path, or from one of path, value",
	} {
		if err := strictyaml.Decode("o.yaml", []byte(strings.Replace(mapped, "text: {markdown: "+
			"$.copy}", text, 1)), &f); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// reading reads without a guard.
func reading(m *model.Model) origin.Reading {
	return origin.Reading{Client: http.DefaultClient, Long: http.DefaultClient, Locales: m.Tags}
}

// source serves answers by path, for the mapping above.
func source(t *testing.T, answers map[string]string) (*origin.Source, *model.Model) {
	t.Helper()
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, pass, _ := r.BasicAuth(); user != "user" || pass != "pass" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		body, ok := answers[r.URL.RequestURI()]
		if !ok {
			http.NotFound(w, r)
			return
		}
		if next, rest, ok := strings.Cut(body, "|"); ok {
			w.Header().Set("Link", fmt.Sprintf("<%s>; rel=\"next\"", next))
			body = rest
		}
		fmt.Fprint(w, body)
	}))
	t.Cleanup(web.Close)
	origins, m := configured(t, strings.Replace(mapped, "http://office.example/api", web.URL+"/api", 1))
	s, err := origin.New("office", origins["office"], reading(m))
	if err != nil {
		t.Fatal(err)
	}
	return s, m
}

const item = `{"ref": "L-1", "status": "draft", "changed": "2026-11-23T08:00:00Z", "since": "2026-11-01T07:00:00+01:00", "title": "Outer Ring, new", "no": 1,
	"copy": "*Round*", "stops": ["P-1", "P-2", null], "first": "P-1", "picture": {"href": "http://a/b.png", "says": "A ferry"}, "tags": ["a", "b"], "open": true,
	"other": {"nb": {"title": "Ytre ring"}, "xx": {"title": "?"}}, "live": {"title": "Outer Ring", "no": 1, "tags": []}}`

func TestItemIsIngested(t *testing.T) {
	s, m := source(t, map[string]string{"/api/lines/L-1": item})
	got, err := s.One(t.Context(), m, "route", "L-1")
	if err != nil {
		t.Fatal(err)
	}
	pier := func(key string) string { return content.MakeID("office", "pier", key) }
	want := content.Fields{
		"name":   map[string]any{"en": "Outer Ring, new", "nb": "Ytre ring"},
		"number": 1.0,
		"text":   map[string]any{"en": "*Round*"},
		"piers": []any{
			pier("P-1"), pier("P-2"),
		},
		"start": pier("P-1"),
		"photo": map[string]any{"url": "http://a/b.png", "alt": "A ferry"},
		"tags":  []any{"a", "b"},
		"open":  true,
	}
	if !reflect.DeepEqual(got.Saved, want) {
		t.Errorf("saved\n%v\nwant\n%v", got.Saved, want)
	}
	if want := (content.Fields{"name": map[string]any{"en": "Outer Ring"}, "number": 1.0}); !reflect.DeepEqual(
		got.Live, want,
	) {
		t.Errorf("live %v, want %v", got.Live, want)
	}
	if got.ID != content.MakeID("office", "route", "L-1") || got.Key != "L-1" ||
		got.Version != "2026-11-23T08:00:00Z" ||
		got.PublishedAt.Hour() != 6 {
		t.Errorf("%+v", got)
	}
	if problems := content.Check(m, m.Type("route"), got.ID, got.Saved, content.For{Publish: true}); len(
		problems,
	) > 0 {
		t.Errorf("what was brought over is not valid: %v", problems)
	}
}

func TestEntryStates(t *testing.T) {
	s, m := source(t, map[string]string{
		"/api/lines/live":    `{"ref": "live", "status": "live", "title": "A"}`,
		"/api/lines/draft":   `{"ref": "draft", "status": "draft", "title": "A"}`,
		"/api/lines/unknown": `{"ref": "unknown", "status": "lost", "title": "A"}`,
		"/api/lines/nobody":  `{"status": "live"}`,
		"/api/lines/broken":  `{`,
	})
	if i, err := s.One(t.Context(), m, "route", "live"); err != nil || i.Live == nil ||
		!reflect.DeepEqual(i.Live, i.Saved) {
		t.Errorf("live: %+v, %v", i, err)
	}
	if i, err := s.One(t.Context(), m, "route", "draft"); err != nil || i.Live != nil || i.Saved == nil {
		t.Errorf("draft: %+v, %v", i, err)
	}
	for key, want := range map[string]string{
		"unknown": `in the state "lost"`, "nobody": "nothing at $.ref",
		"broken": "answers no JSON",
	} {
		if _, err := s.One(t.Context(), m, "route", key); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", key, err)
		}
	}
	if _, err := s.One(t.Context(), m, "route", "none"); !errors.Is(err, origin.ErrGone) {
		t.Errorf("none: %v", err)
	}
}

func TestListsAreReadPageByPage(t *testing.T) {
	s, m := source(t, map[string]string{
		"/api/lines":        `/api/lines?page=1|{"lines": [{"ref": "1", "status": "live", "title": "A"}, {"status": "live"}]}`,
		"/api/lines?page=1": `/api/lines|{"lines": [{"ref": "2", "status": "live", "title": "B"}]}`, // and round again: seen already
	})
	var keys []string
	bad := 0
	err := s.All(t.Context(), m, "route", func(items []origin.Item) error {
		for _, i := range items {
			keys = append(keys, i.Key)
		}
		return nil
	}, func(b origin.BadItem) { bad++ })
	if err != nil || !reflect.DeepEqual(keys, []string{"1", "2"}) || bad != 1 {
		t.Errorf("%v, %d bad, %v", keys, bad, err)
	}
	enough := errors.New("enough")
	if err := s.All(t.Context(), m, "route", func([]origin.Item) error { return enough },
		func(origin.BadItem) {}); !errors.Is(
		err, enough,
	) {
		t.Errorf("a stop is not passed on: %v", err)
	}
}

func TestAddressesAndCredentials(t *testing.T) {
	s, m := source(t, nil)
	if typ, ok := s.TypeOf("lines"); !ok || typ != "route" {
		t.Errorf("kind lines is type %q", typ)
	}
	if _, ok := s.TypeOf("boats"); ok {
		t.Error("kind boats is known")
	}
	if got := s.EditAddress("route", "L 1"); got != "http://office.example/?kind=lines&ref=L%201" {
		t.Errorf("edit at %s", got)
	}
	s.Config.Pull.Auth.Basic = "user:wrong-secret"
	if _, err := s.One(t.Context(), m, "route", "L-1"); err == nil ||
		!strings.Contains(err.Error(), "refuses our credentials") ||
		strings.Contains(err.Error(), "wrong-secret") {
		t.Errorf("wrong credentials: %v", err)
	}
	origins, _ := configured(t, strings.Replace(mapped, "http://office.example/api", "http://127.0.0.1:1/api", 1))
	away, err := origin.New("office", origins["office"], reading(m))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := away.One(t.Context(), m, "route", "L-1"); err == nil || errors.Is(err, origin.ErrGone) {
		t.Errorf("an origin that is away: %v", err)
	}
}

// TestListsAreBoundedAndStayAtTheirHost lets an origin send its reader elsewhere, on
// and on, and more than fits.
func TestListsAreBoundedAndStayAtTheirHost(t *testing.T) {
	asked := false
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	t.Cleanup(other.Close)
	asks := 0
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asks++
		switch {
		case r.URL.Path == "/elsewhere/lines":
			w.Header().Set("Link", "<"+other.URL+`/lines>; rel="next"`)
		case r.URL.Path == "/endless/lines":
			w.Header().Set("Link", fmt.Sprintf(`</endless/lines?page=%d>; rel="next"`, asks))
		case r.URL.Path == "/large/lines":
			_, _ = w.Write(bytes.Repeat([]byte(" "), 33<<20))
		}
		fmt.Fprint(w, `{"lines": []}`)
	}))
	t.Cleanup(own.Close)
	for path, want := range map[string]string{
		"elsewhere": "its list goes on at " + other.URL,
		"endless":   "goes on after 5000 pages", "large": "more than 32 MiB",
	} {
		origins, m := configured(t, strings.Replace(mapped, "http://office.example/api", own.URL+"/"+path, 1))
		s, err := origin.New("office", origins["office"], reading(m))
		if err != nil {
			t.Fatal(err)
		}
		asks = 0
		if err := s.All(t.Context(), m, "route", func([]origin.Item) error { return nil },
			func(origin.BadItem) {}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	if asked {
		t.Error("another host was asked")
	}
}

// TestCancelledCallerDoesNotMarkOriginUnhealthy calls off reads, more often than an origin may
// fail before it is left alone.
func TestCancelledCallerDoesNotMarkOriginUnhealthy(t *testing.T) {
	s, m := source(t, map[string]string{})
	gone, leave := context.WithCancel(t.Context())
	leave()
	for range 5 {
		if _, err := s.One(gone, m, "route", "L-1"); !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
	}
	if h := s.Health(); h.Failures != 0 || h.NextTry != nil {
		t.Errorf("%+v", h)
	}
}

// TestWhatHasChangedSinceIsAskedFor lists everything once, and then what has changed since, by the origin's clock.
func TestWhatHasChangedSinceIsAskedFor(t *testing.T) {
	const ahead = 2 * time.Hour
	var asked []string
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", time.Now().Add(ahead).UTC().Format(http.TimeFormat))
		asked = append(asked, r.URL.Query().Get("changedAfter"))
		if r.URL.Query().Get("page") == "1" {
			fmt.Fprint(w, `{"lines": [{"ref": "L-1"}, {"ref": "L-2"}]}`)
			return
		}
		fmt.Fprint(w, `{"lines": []}`)
	}))
	t.Cleanup(web.Close)
	text := strings.Replace(mapped, "http://office.example/api", web.URL, 1)
	origins, m := configured(
		t,
		strings.Replace(text, "page: link", "page: {number: page, first: 1}, updatedSince: changedAfter", 1),
	)
	s, err := origin.New("office", origins["office"], reading(m))
	if err != nil {
		t.Fatal(err)
	}
	if _, ok, err := s.Changes(t.Context()); ok || err != nil {
		t.Fatalf("before everything was compared: %v %v", ok, err)
	}
	take := func([]origin.Item) error { return nil }
	if err := s.All(t.Context(), m, "route", take, func(origin.BadItem) {}); err != nil {
		t.Fatal(err)
	}
	s.Compared()
	asked = nil
	c, ok, err := s.Changes(t.Context())
	if err != nil || !ok ||
		!reflect.DeepEqual(c.Items, []origin.Ref{{Type: "route", Key: "L-1"}, {Type: "route", Key: "L-2"}}) {
		t.Fatalf("%+v %v %v", c, ok, err)
	}
	since, err := time.Parse(time.RFC3339, asked[0])
	if off := time.Until(since) - ahead; err != nil || off > -50*time.Second || off < -80*time.Second ||
		asked[1] != asked[0] {
		t.Errorf("asked for what has changed since %v, %v off; %v", asked, off, err)
	}
}

// TestAnswersThatLieAboutTheirLengthAreErrors reads answers with fewer and more bytes than they say.
func TestAnswersThatLieAboutTheirLengthAreErrors(t *testing.T) {
	for _, length := range []string{"20", "100000"} {
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			conn, out, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			defer conn.Close()
			fmt.Fprintf(out, "HTTP/1.1 200 OK\r\nContent-Length: %s\r\n\r\n{\"lines\": [%s]}", length, item)
			_ = out.Flush()
		}))
		t.Cleanup(web.Close)
		origins, m := configured(t, strings.Replace(mapped, "http://office.example/api", web.URL, 1))
		s, err := origin.New("office", origins["office"], reading(m))
		if err != nil {
			t.Fatal(err)
		}
		var trouble *origin.Trouble
		err = s.All(t.Context(), m, "route", func([]origin.Item) error { return nil }, func(origin.BadItem) {})
		if !errors.As(err, &trouble) {
			t.Errorf("%s bytes: %v", length, err)
		}
	}
}
