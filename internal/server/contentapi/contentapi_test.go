package contentapi

import (
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/delivery"
	"ubiquon/internal/testkit"
)

func TestMatches(t *testing.T) {
	for header, want := range map[string]bool{
		"": false, `"a"`: true, `W/"a"`: true, `"b"`: false,
		`"b", W/"a"`: true, "*": true, `a`: false, `"ab"`: false, ` "a" `: true,
	} {
		if got := matches(header, `"a"`); got != want {
			t.Errorf("%q: %t", header, got)
		}
	}
}

func TestTiming(t *testing.T) {
	for took, want := range map[time.Duration]string{
		0: "all;dur=0.000", 15 * time.Microsecond: "all;dur=0.015",
		1234567 * time.Nanosecond: "all;dur=1.234", 2 * time.Second: "all;dur=2000.000", -1: "all;dur=0.000",
	} {
		if got := timing(took); got != want {
			t.Errorf("%v: %s", took, got)
		}
	}
}

func TestCachePolicyIsTheStrictestOfWhatIsShown(t *testing.T) {
	m := testkit.Model(t, `
types:
  notice:
    freshness: {private: 30s, shared: 60s, staleWhileRevalidate: 5m, staleIfError: 1d, staleInBrowsers: 20s}
    fields: {title: {kind: text}, routes: {kind: reference, types: [route], several: true}}
  route:
    freshness: {shared: 10s, staleIfError: 1h}
    fields: {name: {kind: text}, piers: {kind: reference, types: [pier], several: true}}
  pier:
    fields: {name: {kind: text}}
`)
	of := func(edition, fields string, open bool) string {
		sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("notice")}, fields)
		if err != nil {
			t.Fatal(err)
		}
		q := &query.Query{
			Edition: edition,
			Roots:   []query.Root{{By: query.ByList, Type: "notice", Locale: "en", Selection: sel}},
		}
		return policyFor(open, headers(m, q, "application/json", false)["Cache-Control"])[0]
	}
	for _, c := range []struct {
		edition, fields string
		open            bool
		want            string
	}{
		{"published", "title", false, "private, max-age=30, stale-while-revalidate=20"},
		{"published", "title", true, "public, max-age=30, s-maxage=60, stale-while-revalidate=20"},
		{"published", "title,routes(name)", false, "private, no-cache"},
		{"published", "title,routes(name)", true, "public, max-age=0, s-maxage=10"},
		{"published", "title,routes(name,piers(name))", true, "public, no-cache"},
		{"preview", "title", false, "private, no-store"},
		{"preview", "title", true, "private, no-store"},
	} {
		if got := of(c.edition, c.fields, c.open); got != c.want {
			t.Errorf("%s of %s, open %t: %s, want %s", c.fields, c.edition, c.open, got, c.want)
		}
	}
}

func TestLocaleNegotiation(t *testing.T) {
	m := testkit.Model(t, "locales: {en: {}, nb: {}, pt-BR: {}}\ntypes: {pier: {fields: {name: {kind: text}}}}\n")
	for header, want := range map[string]string{
		"": "en", "nb": "nb", "nb-NO": "nb", "NB": "nb", "fr": "en",
		"fr, nb;q=0.5": "nb", "nb;q=0.2, en;q=0.9": "en", "pt-BR": "pt-BR", "pt": "en", "*": "en", "\x00;;": "en",
		"nb;q=0": "en",
	} {
		root := &query.Root{}
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("Accept-Language", header)
		if negotiated, err := chooseLocale(m, root, nil, r); err != nil || !negotiated || root.Locale != want {
			t.Errorf("%q: %s, %v", header, root.Locale, err)
		}
	}
}

// TestJSONMediaTypes goes through media types as they come.
func TestJSONMediaTypes(t *testing.T) {
	for header, want := range map[string]bool{
		"application/json": true, "application/json; " +
			"charset=utf-8": true, "application/json;charset=UTF-8": true, "Application/JSON": true,
		`application/json; charset="utf-8"`: true,
		"application/json; charset=latin1":  false, "text/plain": false, "": false, "application/jsonp": false,
		"application/json, text/plain": false, "application/x-www-form-urlencoded": false,
	} {
		if got := isJSON(header); got != want {
			t.Errorf("%q: %t", header, got)
		}
	}
}

// TestSmallBodiesAreReadWhole reads bodies of which the length is known, is not, or is
// not what was said.
func TestSmallBodiesAreReadWhole(t *testing.T) {
	const most = 10
	for name, c := range map[string]struct {
		body   string
		length int64 // as it is said; -1: it is not
		want   string
		fails  bool
	}{
		"as long as it says":         {"harbour", 7, "harbour", false},
		"nothing":                    {"", 0, "", false},
		"of a length nobody says":    {"harbour", -1, "harbour", false},
		"as long as may be":          {"0123456789", 10, "0123456789", false},
		"longer than it may be":      {"0123456789a", 11, "", true},
		"longer, and nobody says so": {"0123456789a", -1, "", true},
		"shorter than it says":       {"pier", 7, "", true},
	} {
		r := httptest.NewRequest("POST", "/", strings.NewReader(c.body))
		r.ContentLength = c.length
		got, err := readSmall(httptest.NewRecorder(), r, most)
		if (err != nil) != c.fails || !c.fails && string(got) != c.want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
}

// TestRequestDirectives reads the directives of a Cache-Control header.
func TestRequestDirectives(t *testing.T) {
	for header, want := range map[string]string{
		"": "", "no-cache": "current", "No-Cache": "current", "no-store": "current, not kept",
		"only-if-cached": "held", "max-age=0": "current", "max-age=\"30\"": "current",
		"no-cache, only-if-cached": "current, held", "max-stale=5": "", "max-stale=5, min-fresh=3": "current",
		"x=y": "",
	} {
		var o delivery.ReadOptions
		directives([]string{header}, true, &o)
		var got []string
		for name, is := range map[string]bool{"current": o.Current, "not kept": o.NoStore, "held": o.OnlyHeld} {
			if is {
				got = append(got, name)
			}
		}
		if slices.Sort(got); strings.Join(got, ", ") != want {
			t.Errorf("%q asks %q, want %q", header, strings.Join(got, ", "), want)
		}
	}
}
