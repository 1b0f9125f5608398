package server

import (
	"net/http/httptest"
	"testing"
	"time"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/testkit"
)

func TestMatches(t *testing.T) {
	for header, want := range map[string]bool{"": false, `"a"`: true, `W/"a"`: true, `"b"`: false, `"b", W/"a"`: true, "*": true, `a`: false, `"ab"`: false, ` "a" `: true} {
		if got := matches(header, `"a"`); got != want {
			t.Errorf("%q: %t", header, got)
		}
	}
}

func TestTiming(t *testing.T) {
	for took, want := range map[time.Duration]string{0: "all;dur=0.000", 15 * time.Microsecond: "all;dur=0.015", 1234567 * time.Nanosecond: "all;dur=1.234", 2 * time.Second: "all;dur=2000.000", -1: "all;dur=0.000"} {
		if got := timing(took); got != want {
			t.Errorf("%v: %s", took, got)
		}
	}
}

func TestCachePolicyIsTheStrictestOfWhatIsShown(t *testing.T) {
	m := testkit.Model(t, `
types:
  notice:
    freshness: {private: 30s, shared: 60s, staleWhileRevalidate: 5m, staleIfError: 1d}
    fields: {title: {kind: text}, routes: {kind: reference, types: [route], several: true}}
  route:
    freshness: {private: 10s, staleIfError: 1h}
    fields: {name: {kind: text}}
`)
	of := func(edition, fields string) string {
		sel, err := query.Selecting{Model: m, Locale: "en"}.Fields([]*model.Type{m.Type("notice")}, fields)
		if err != nil {
			t.Fatal(err)
		}
		q := &query.Query{Edition: edition, Roots: []query.Root{{By: query.ByList, Type: "notice", Locale: "en", Selection: sel}}}
		return headers(m, q, "application/json", false)["Cache-Control"][0]
	}
	if got := of("published", "title"); got != "private, max-age=30, stale-while-revalidate=300, stale-if-error=86400" {
		t.Errorf("one type: %s", got)
	}
	if got := of("published", "title,routes(name)"); got != "private, max-age=10, stale-if-error=3600" {
		t.Errorf("two types: %s", got)
	}
	if got := of("preview", "title"); got != "private, no-store" {
		t.Errorf("preview: %s", got)
	}
}

func TestLocaleNegotiation(t *testing.T) {
	m := testkit.Model(t, "locales: {en: {}, nb: {}, pt-BR: {}}\ntypes: {pier: {fields: {name: {kind: text}}}}\n")
	for header, want := range map[string]string{"": "en", "nb": "nb", "nb-NO": "nb", "NB": "nb", "fr": "en", "fr, nb;q=0.5": "nb", "nb;q=0.2, en;q=0.9": "en", "pt-BR": "pt-BR", "pt": "en", "*": "en", "\x00;;": "en", "nb;q=0": "en"} {
		root := &query.Root{}
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("Accept-Language", header)
		if negotiated, err := chooseLocale(m, root, nil, r); err != nil || !negotiated || root.Locale != want {
			t.Errorf("%q: %s, %v", header, root.Locale, err)
		}
	}
}
