package environment_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/server"
	"ubiquon/internal/service"
	"ubiquon/internal/store"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/conformity"
)

// harbour has what access is about: types that refer to each other, locales, and
// one that takes what is handed in.
const harbour = `
locales: {en: {}, nb: {fallback: [en]}, ja: {}}
types:
  route:
    fields: {name: {kind: text, translated: true}, slug: {kind: slug, madeFrom: name}}
  notice:
    path: /notices/{slug}
    fields:
      title: {kind: text, translated: true, required: true}
      slug: {kind: slug, madeFrom: title}
      routes: {kind: reference, types: [route], several: true, inverse: notices}
  remark:
    title: subject
    submissions: {fields: [subject, text, day], bytes: 600, perMinute: 3, trap: website}
    fields:
      subject: {kind: text, required: true, max: 20}
      slug: {kind: slug, madeFrom: subject}
      text: {kind: prose, translated: true}
      day: {kind: date}
      state: {kind: text}
`

// line is some nodes on one store, with a key for each that asks.
type line struct {
	store *store.Store
	nodes []node
}

func newLine(t *testing.T, nodes int) *line {
	t.Helper()
	l := &line{store: testkit.Store(t, testkit.Model(t, harbour))}
	secret := access.NewSecret()
	for range nodes {
		l.nodes = append(l.nodes, open(t, l.store, secret))
	}
	n := l.nodes[0]
	n.must(t, api.Edit{ID: "ring", Type: "route", Save: per{"name": per{"en": "Outer Ring"}}, Do: "publish"},
		api.Edit{ID: "north", Type: "route", Save: per{"name": per{"en": "North Line"}}})
	n.must(
		t,
		api.Edit{
			ID:   "fog",
			Type: "notice",
			Save: per{"title": per{"en": "Fog", "nb": "Tåke"}, "routes": []any{"ring", "north"}},
			Do:   "publish",
		},
		api.Edit{ID: "ice", Type: "notice", Save: per{"title": per{"en": "Ice"}}},
	)
	return l
}

// key makes a key that is known on the first node.
func (l *line) key(t *testing.T, grants ...string) (*access.Key, string) {
	t.Helper()
	parsed, err := access.ParseGrants(grants)
	if err != nil {
		t.Fatal(err)
	}
	k, secret, err := l.nodes[0].Keys.CreateKey(
		t.Context(), access.Key{Name: strings.Join(grants, " "), Grants: parsed}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	return k, secret
}

// ask reads a path below an edition as the holder of a secret, "" for everyone.
func (n node) ask(t *testing.T, secret, path string, header ...string) *client.Answer {
	t.Helper()
	h := http.Header{}
	for i := 0; i+1 < len(header); i += 2 {
		h.Set(header[i], header[i+1])
	}
	a, err := (&client.Client{Address: n.client.Address, Key: secret}).Do(
		t.Context(), http.MethodGet, "/content/"+n.Replica.Environment()+"/"+path, h, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestGrantsAreAdditive(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice")
	_, norwegian := l.key(t, "read published notice in nb", "read published route in nb")
	for _, c := range []struct {
		name, secret, path string
		status             int
		text               string
	}{
		{"nothing open, no key", "", "published/notices", 401, `"grant":"read published notice"`},
		{"granted", notices, "published/notices/fog?fields=title", 200, `"Fog"`},
		{"what nobody named is left out, and said", notices, "published/notices/fog", 200, `"hidden":["routes"]`},
		{
			"a nested selection", notices, "published/notices/fog?fields=title,routes(name)", 403,
			`"grant":"read published route"`,
		},
		{
			"the mend is a command", notices, "published/notices/fog?fields=routes(name)", 403,
			`ubiquon key grant KEY \"read published route\"`,
		},
		{"another edition", notices, "preview/notices/fog?fields=title", 403, `"grant":"read preview notice"`},
		{"its locale", norwegian, "published/notices/fog?fields=title,routes(name)&locale=nb", 200, `"Tåke"`},
		{
			"another locale", norwegian, "published/notices/fog?fields=title", 403,
			`"grant":"read published notice in en"`,
		},
		{
			"another locale, by path", norwegian, "published/at?path=/notices/fog&fields=title&locale=ja", 404,
			"not-found",
		},
		{"its locale, negotiated", norwegian, "published/entries/fog?fields=title&locale=nb", 200, `"Tåke"`},
	} {
		a := n.ask(t, c.secret, c.path)
		if a.Status != c.status || !strings.Contains(string(a.Body), c.text) {
			t.Errorf("%s: %d %s", c.name, a.Status, a.Body)
		}
	}
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "route"}}, nil); err != nil {
		t.Fatal(err)
	}
	open := n.ask(t, "", "published/routes?fields=name")
	if open.Status != 200 {
		t.Fatalf("open to everyone: %d %s", open.Status, open.Body)
	}
	for name, secret := range map[string]string{"no key": "", "a key for something else": notices} {
		a := n.ask(t, secret, "published/routes?fields=name")
		if a.Status != 200 || !bytes.Equal(a.Body, open.Body) || !testkit.Hit(a.Header.Get("Cache-Status")) {
			t.Errorf("%s: %d %s %s", name, a.Status, a.Header.Get("Cache-Status"), a.Body)
		}
	}
	if a := n.ask(t, notices, "published/notices/fog?fields=title,routes(name)"); a.Status != 200 {
		t.Errorf("what is open counts within what the key grants: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, "", "published/notices"); a.Status != 401 {
		t.Errorf("what is not open, while something is: %d", a.Status)
	}
	before := n.Delivery.CacheStats()
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test", nil,
		access.Grants{{Verb: access.Read, Edition: content.Published, Type: "route"}}); err != nil {
		t.Fatal(err)
	}
	if a := n.ask(t, "", "published/routes?fields=name"); a.Status != 401 {
		t.Errorf("closed again: %d", a.Status)
	}
	if after := n.Delivery.CacheStats(); after.Expired != before.Expired || after.Responses != before.Responses {
		t.Errorf("a grant change expires something: %+v, %+v", before, after)
	}
	for _, bad := range []string{"write preview notice", "submit preview *", "read published " +
		"notise", "read published notice in xx"} {
		g, _ := access.ParseGrant(bad)
		var wrong *api.BadParameterError
		if _, err := n.Keys.ChangePublicGrants(t.Context(), "test", access.Grants{g}, nil); !errors.As(err, &wrong) {
			t.Errorf("opening %q: %v", bad, err)
		}
	}
}

func TestHiddenLinksAreListed(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice")
	_, routes := l.key(t, "read published route")
	const lenient = "handling=lenient"
	a := n.ask(t, notices, "published/notices?fields=title,routes(name)", "Prefer", lenient)
	if a.Status != 200 || !strings.Contains(string(a.Body), `"title":"Fog","about":{"hidden":["routes"]}}`) ||
		a.Header.Get("Preference-Applied") != lenient ||
		!strings.Contains(a.Header.Get("Vary"), "Prefer") {
		t.Errorf("%d %s %v", a.Status, a.Body, a.Header)
	}
	if a := n.ask(t, notices, "published/entries/fog?fields=id,about(type),routes(name)", "Prefer",
		"return=minimal, "+lenient); !strings.Contains(
		string(a.Body), `"about":{"type":"notice","hidden":["routes"]}`,
	) {
		t.Errorf("by id: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, routes, "published/routes/outer-ring?fields=name,notices[limit=2](title,routes(name))",
		"Prefer", lenient); !strings.Contains(
		string(a.Body), `"name":"Outer Ring","about":{"hidden":["notices"]}}`,
	) {
		t.Errorf("a way back: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, notices, "published/routes", "Prefer", lenient); a.Status != 403 {
		t.Errorf("the entry itself is not for the reader, however lenient: %d", a.Status)
	}
	if a := n.ask(t, notices, "published/notices?fields=title,routes(name)"); a.Status != 403 {
		t.Errorf("without the preference: %d", a.Status)
	}
	post := func(secret, query string) string {
		a, err := (&client.Client{Address: n.client.Address, Key: secret}).Do(
			t.Context(), http.MethodPost, "/content/"+n.Replica.Environment()+"/published/graphql", nil,
			map[string]string{"query": query},
		)
		if err != nil || a.Status != 200 {
			t.Fatalf("%v %d %s", err, a.Status, a.Body)
		}
		return string(a.Body)
	}
	body := post(
		notices,
		`{ notices { nodes { title way: routes { name } } } more: notice(slug: "fog") { routes { name } } routes { totalCount } }`,
	)
	for _, want := range []string{
		`{"title":"Fog","way":null}`, `"more":{"routes":null}`, `"routes":null}`,
		`"path":["notices","nodes",0,"way"]`, `"path":["more","routes"]`, `"path":["routes"]`,
		`"grant":"read published route"`,
	} {
		if !strings.Contains(body, want) {
			t.Errorf("GraphQL lacks %s in %s", want, body)
		}
	}
	body = post(
		routes,
		`{ node(id: "ring") { ... on Route { name notices(first: 1) { edges { node { title } } } } } other: node(id: "fog") { id } }`,
	)
	for _, want := range []string{
		`"node":{"name":"Outer Ring","notices":null}`, `"other":null`,
		`"path":["node","notices"]`, `"path":["other"]`,
	} {
		if !strings.Contains(body, want) {
			t.Errorf("GraphQL by id lacks %s in %s", want, body)
		}
	}
}

func TestKeyRevocationOnAllNodes(t *testing.T) {
	l := newLine(t, 3)
	k, secret := l.key(t, "read published notice")
	const path = "published/notices?fields=title"
	for i, n := range l.nodes {
		testkit.Eventually(
			t, fmt.Sprintf("node %d knows the key", i), func() bool { return n.ask(t, secret, path).Status == 200 },
		)
	}
	a := l.nodes[0]
	rotated, second, err := a.Keys.RotateKey(t.Context(), k.Name, "test", time.Hour)
	if err != nil || rotated.FormerUntil == nil {
		t.Fatal(rotated, err)
	}
	for i, n := range l.nodes {
		testkit.Eventually(
			t, fmt.Sprintf("node %d takes both secrets", i),
			func() bool { return n.ask(t, second, path).Status == 200 && n.ask(t, secret, path).Status == 200 },
		)
	}
	_, third, err := a.Keys.RotateKey(t.Context(), k.ID, "test", 0)
	if err != nil {
		t.Fatal(err)
	}
	if got := a.ask(t, second, path); got.Status != 401 || !strings.Contains(string(got.Body), "rotated") {
		t.Errorf("the former secret, without overlap: %d %s", got.Status, got.Body)
	}
	if got := a.ask(t, secret, path); got.Status != 401 {
		t.Errorf("the one before: %d", got.Status)
	}
	begin := time.Now()
	if _, err := a.Keys.RevokeKey(t.Context(), k.ID, "test"); err != nil {
		t.Fatal(err)
	}
	if got := a.ask(t, third, path); got.Status != 401 || !strings.Contains(string(got.Body), "revoked") ||
		!strings.Contains(got.Header.Get("WWW-Authenticate"), `error="invalid_token"`) {
		t.Errorf("revoked: %d %s", got.Status, got.Body)
	}
	for i, n := range l.nodes {
		testkit.Eventually(
			t, fmt.Sprintf("node %d refuses the revoked key", i),
			func() bool { return n.ask(t, third, path).Status == 401 },
		)
	}
	if took := time.Since(begin); took > 2*time.Second {
		t.Errorf("revoked everywhere after %v, later than the lease", took)
	}
	if _, err := a.Keys.RevokeKey(t.Context(), k.ID, "test"); !errors.Is(err, access.ErrRevoked) {
		t.Errorf("revoking twice: %v", err)
	}
	short, soon := time.Now().Add(300*time.Millisecond), ""
	if _, soon, err = a.Keys.CreateKey(t.Context(), access.Key{Name: "short", Grants: k.Grants, Expires: &short},
		"test"); err != nil {
		t.Fatal(err)
	}
	if got := a.ask(t, soon, path); got.Status != 200 && time.Now().Before(short) {
		t.Errorf("before it expires: %d %s", got.Status, got.Body)
	}
	testkit.Eventually(
		t, "it expires", func() bool { return strings.Contains(string(a.ask(t, soon, path).Body), "expired") },
	)
	if _, err := a.Keys.ExtendKey(t.Context(), "short", "test", 90); err != nil {
		t.Fatal(err)
	}
	if got := a.ask(t, soon, path); got.Status != 200 {
		t.Errorf("extended: %d", got.Status)
	}
	if _, err := a.Keys.GrantKey(t.Context(), "short", "test",
		access.Grants{{Verb: "read", Edition: "preview", Type: "notice"}}, k.Grants); err != nil {
		t.Fatal(err)
	}
	if got, preview := a.ask(t, soon, path), a.ask(t, soon, "preview/notices?fields=title"); got.Status != 403 ||
		preview.Status != 200 {
		t.Errorf("other grants: %d, %d", got.Status, preview.Status)
	}
	for name, bad := range map[string]access.Key{
		"no name":       {Grants: k.Grants},
		"like a person": {Name: "a@b", Grants: k.Grants}, "no grants": {Name: "x"},
		"unknown type": {Name: "x", Grants: access.Grants{{Verb: "read", Edition: "published", Type: "boat"}}},
		"past":         {Name: "x", Grants: k.Grants, Expires: &begin},
	} {
		var wrong *api.BadParameterError
		if _, _, err := a.Keys.CreateKey(t.Context(), bad, "test"); !errors.As(err, &wrong) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestKeyUsage(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	k, secret := l.key(t, "read published notice")
	for range 4 {
		n.ask(t, secret, "published/notices?fields=title", "User-Agent", "skerry-board/2")
	}
	info, err := n.KeyNamed(t, k.ID)
	if err != nil || info.Use == nil || info.Use.Requests != 4 || info.Use.Hits != 3 ||
		info.Use.Agent != "skerry-board/2" ||
		info.Use.Address != "127.0.0.1" {
		t.Fatalf("%+v %+v %v", info, info.Use, err)
	}
	all, _, err := n.client.Keys().List(t.Context())
	if i := slices.IndexFunc(all, func(one api.KeyInfo) bool { return one.ID == k.ID }); err != nil ||
		all[i].Use == nil ||
		all[i].Use.Requests != 4 {
		t.Errorf("%v %+v", err, all)
	}
	_, bounded, err := n.Keys.CreateKey(
		t.Context(), access.Key{Name: "bounded", Grants: k.Grants, PerMinute: 3}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	var last *client.Answer
	for i := range 4 {
		if last = n.ask(t, bounded, "published/notices?fields=title"); i < 3 &&
			(last.Status != 200 || last.Header.Get("RateLimit") != fmt.Sprintf(`"key";r=%d;t=0`, 2-i) ||
				last.Header.Get("RateLimit-Policy") != `"key";q=3;w=60`) {
			t.Errorf("request %d: %d %v", i, last.Status, last.Header)
		}
	}
	wait, _ := strconv.Atoi(last.Header.Get("Retry-After"))
	if last.Status != 429 || wait < 1 || wait > 20 || !strings.Contains(string(last.Body), "3 times a minute") {
		t.Errorf("too many: %d %v %s", last.Status, last.Header, last.Body)
	}
}

// KeyNamed is the key as the client is told of it.
func (n node) KeyNamed(t *testing.T, name string) (api.KeyInfo, error) {
	return n.client.Keys().Get(t.Context(), name)
}

// TestNothingRevealsDrafts compares what a reader is told of a draft, and
// of nothing at all: byte for byte, and in time.
func TestNothingRevealsDrafts(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "read published notice")
	n.must(t, api.Edit{ID: "gone", Type: "notice", Save: per{"title": per{"en": "Gone"}}, Do: "publish"})
	n.must(t, api.Edit{ID: "gone", Do: "unpublish"})
	if _, err := n.client.Entries().Schedule(t.Context(), "ice", "publish", "2030-01-01T00:00", "UTC",
		nil); err != nil {
		t.Fatal(err)
	}
	same := func(what string, as string, draft, nothing string) {
		a, b := n.ask(t, as, draft), n.ask(t, as, nothing)
		for _, one := range []*client.Answer{a, b} {
			for _, name := range []string{"Date", "Server-Timing", "Cache-Status"} {
				one.Header.Del(name)
			}
		}
		if a.Status != b.Status || !bytes.Equal(a.Body, b.Body) || fmt.Sprint(a.Header) != fmt.Sprint(b.Header) {
			t.Errorf("%s: %d %s %v\n%d %s %v", what, a.Status, a.Body, a.Header, b.Status, b.Body, b.Header)
		}
	}
	for name, as := range map[string]string{"reader": secret, "everyone": ""} {
		same(name+", by slug", as, "published/notices/ice?fields=title", "published/notices/ixe?fields=title")
		same(name+", taken back", as, "published/notices/gone?fields=title", "published/notices/gune?fields=title")
		same(name+", by id", as, "published/entries/ice?fields=id", "published/entries/ixe?fields=id")
		same(name+", of another type", as, "published/entries/north?fields=id", "published/entries/nurth?fields=id")
		same(
			name+", by path", as, "published/at?path=/notices/ice&fields=id",
			"published/at?path=/notices/ixe&fields=id",
		)
		same(name+", preview", as, "preview/notices/ice?fields=title", "preview/notices/ixe?fields=title")
		same(
			name+", GraphQL", as, `published/graphql?query={notice(slug:"ice"){title}}`,
			`published/graphql?query={notice(slug:"ixe"){title}}`,
		)
	}
	// In time: the middle of many, taken in turns, so that noise hits both.
	for try := 0; ; try++ {
		times := [2][]time.Duration{}
		for i := range 600 {
			begin := time.Now()
			n.ask(
				t, secret, []string{"published/notices/ice?fields=title", "published/notices/ixe?fields=title"}[i%2],
				"Prefer", "recompute",
			)
			times[i%2] = append(times[i%2], time.Since(begin))
		}
		slices.Sort(times[0])
		slices.Sort(times[1])
		ratio := float64(times[0][150]) / float64(times[1][150])
		if ratio > 0.85 && ratio < 1.18 {
			break
		}
		if try == 4 {
			t.Errorf("a draft takes %.2f times as long as nothing", ratio)
			break
		}
	}
}

func TestSubmissions(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	as := func(secret string, values map[string]any) *client.Answer {
		t.Helper()
		a, err := (&client.Client{Address: n.client.Address, Key: secret}).Submit(
			t.Context(), n.Replica.Environment(), "remarks", values,
		)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	good := map[string]any{"subject": "Lost a hat", "text": "On the *first* boat", "day": "2026-11-20"}
	if a := as("", good); a.Status != 401 || !strings.Contains(string(a.Body), "submit preview remark") {
		t.Fatalf("never open by default: %d %s", a.Status, a.Body)
	}
	_, reader := l.key(t, "read preview *", "read published *")
	if a := as(reader, good); a.Status != 403 {
		t.Errorf("a reader's key: %d", a.Status)
	}
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Submit, Edition: content.Preview, Type: "remark"}}, nil); err != nil {
		t.Fatal(err)
	}
	// All that is wrong is told at once, in words that name it, and is not counted.
	for range 3 {
		if a := as("", map[string]any{
			"text": strings.Repeat("x", 10), "day": "someday",
			"extra": 1,
		}); a.Status != 422 ||
			!strings.Contains(string(a.Body), `"day (kind)`) && !strings.Contains(string(a.Body), `day (kind)`) ||
			!strings.Contains(string(a.Body), "extra (unknown)") ||
			!strings.Contains(string(a.Body), "subject (required)") ||
			strings.Contains(string(a.Body), "entry ,") {
			t.Errorf("several mistakes: %d %s", a.Status, a.Body)
		}
	}
	if a := as("", map[string]any{"subject": "Buy now", "website": "http://spam.example"}); a.Status != 202 ||
		string(a.Body) != "{\"accepted\":true}\n" {
		t.Errorf("the trap answers like the rest: %d %s", a.Status, a.Body)
	}
	if a := as("", good); a.Status != 202 || string(a.Body) != "{\"accepted\":true}\n" {
		t.Fatalf("handed in: %d %s", a.Status, a.Body)
	}
	items, total, err := n.client.Entries().List(t.Context(), api.EntryFilter{Type: "remark"})
	if err != nil || total != 1 || items[0].State != content.InReview || items[0].Title != "Lost a hat" ||
		!items[0].Withheld {
		t.Fatalf("%v %d %+v", err, total, items)
	}
	id := items[0].ID
	for _, path := range []string{
		"preview/remarks?fields=id", "preview/entries/" + id + "?fields=id",
		"published/remarks?fields=id",
	} {
		if a := n.ask(t, reader, path); strings.Contains(string(a.Body), id) {
			t.Errorf("%s shows it: %s", path, a.Body)
		}
	}
	n.must(t, api.Edit{ID: id, Do: "publish"})
	for _, path := range []string{"preview/remarks?fields=id", "published/remarks?fields=id"} {
		if a := n.ask(t, reader, path); !strings.Contains(string(a.Body), id) {
			t.Errorf("%s does not show it once it is published: %s", path, a.Body)
		}
	}
	// The same again: what there is of it already is not told. Then it is enough.
	if a := as("", good); a.Status != 202 {
		t.Errorf("the same again: %d %s", a.Status, a.Body)
	}
	if a := as("", good); a.Status != 429 || a.Header.Get("Retry-After") == "" {
		t.Errorf("a fourth within the minute: %d %s", a.Status, a.Body)
	}
	again := newLine(t, 1)
	n = again.nodes[0]
	_, submitter := again.key(t, "submit preview remark")
	for name, c := range map[string]struct {
		values map[string]any
		status int
		text   string
	}{
		"a field that is not taken": {map[string]any{"subject": "x", "state": "y"}, 422, `no field \"state\"`},
		"a required one missing":    {map[string]any{"text": "x"}, 422, `"path":"subject"`},
		"too long":                  {map[string]any{"subject": strings.Repeat("x", 21)}, 422, "20"},
	} {
		l2 := access.NewSecret()
		if err := n.Keys.KeepKey(t.Context(),
			&access.Key{Name: name, Grants: access.Grants{{Verb: "submit", Edition: "preview", Type: "remark"}}},
			l2, "test"); err != nil {
			t.Fatal(err)
		}
		if a := as(l2, c.values); a.Status != c.status || !strings.Contains(string(a.Body), c.text) {
			t.Errorf("%s: %d %s", name, a.Status, a.Body)
		}
	}
	if a := as(submitter, map[string]any{"subject": "x", "text": strings.Repeat("x", 700)}); a.Status != 413 {
		t.Errorf("too large: %d %s", a.Status, a.Body)
	}
	form, err := http.PostForm(
		n.client.Address+"/content/"+n.Replica.Environment()+"/submissions/notices", url.Values{"title": {"x"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	defer form.Body.Close()
	if form.StatusCode != 401 {
		t.Errorf("a type that takes nothing: %d", form.StatusCode)
	}
}

// TestSubmissionsAreBoundedInAll hands in from ever other addresses.
func TestSubmissionsAreBoundedInAll(t *testing.T) {
	n := newLine(t, 1).within(t, limits.Limits{SubmissionsFactor: 2})
	if _, err := n.Keys.ChangePublicGrants(t.Context(), "test",
		access.Grants{{Verb: access.Submit, Edition: content.Preview, Type: "remark"}}, nil); err != nil {
		t.Fatal(err)
	}
	address := n.web(t, server.Options{Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	taken := 0
	for i := range 20 {
		req, _ := http.NewRequestWithContext(
			t.Context(), http.MethodPost, address+"/content/"+n.Replica.Environment()+"/submissions/remarks",
			strings.NewReader(fmt.Sprintf(`{"subject": "Hat %d"}`, i)),
		)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Forwarded-For", fmt.Sprintf("203.0.113.%d", i))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		switch {
		case resp.StatusCode == http.StatusAccepted:
			taken++
		case resp.StatusCode != http.StatusTooManyRequests || resp.Header.Get("Retry-After") == "":
			t.Errorf("%d", resp.StatusCode)
		}
	}
	if taken < 6 || taken > 7 { // three a minute, twice; one more after ten seconds
		t.Errorf("%d of twenty were taken", taken)
	}
}

// TestPreviewLinks holds that a link reads its entry and what that shows, and
// nothing else.
func TestPreviewLinks(t *testing.T) {
	l := newLine(t, 2)
	n, other := l.nodes[0], l.nodes[1]
	link, err := n.client.Keys().Preview(t.Context(), "ice", api.PreviewOptions{Minutes: new(5)})
	if err != nil {
		t.Fatal(err)
	}
	n.must(
		t,
		api.Edit{ID: "ice", Type: "notice", Save: per{"title": per{"en": "Ice, thick"}, "routes": []any{"north"}}},
	)
	for name, c := range map[string]struct {
		path   string
		status int
		text   string
	}{
		"by slug":                  {"preview/notices/ice-thick?fields=title,routes(name)", 200, `"North Line"`},
		"by id":                    {"preview/entries/ice?fields=title", 200, "Ice, thick"},
		"by path":                  {"preview/at?path=/notices/ice-thick&fields=title", 200, "Ice, thick"},
		"in GraphQL":               {`preview/graphql?query={notice(slug:"ice-thick"){title}}`, 200, "Ice, thick"},
		"another entry":            {"preview/notices/fog?fields=title", 403, "one-entry"},
		"what is not there":        {"preview/notices/nothing?fields=title", 403, "one-entry"},
		"a list":                   {"preview/notices?fields=title", 403, "one-entry"},
		"what it shows, by itself": {"preview/entries/north?fields=name", 403, "one-entry"},
		"two in GraphQL":           {`preview/graphql?query={a:notice(slug:"ice-thick"){title}b:notice(slug:"fog"){title}}`, 403, "one-entry"},
		"what is published":        {"published/notices/fog?fields=title", 403, "read published notice"},
	} {
		for _, node := range []node{n, other} {
			testkit.Eventually(t, name+" on every node", func() bool {
				a := node.ask(t, link.Token, c.path)
				return a.Status == c.status && strings.Contains(string(a.Body), c.text)
			})
		}
	}
	for name, bad := range map[string]string{
		"cut":                  link.Token[:len(link.Token)-2],
		"of another signature": strings.Split(link.Token, ".")[0] + ".x", "empty": "ubv_",
		"expired": access.PreviewLink{
			Entry:   "ice",
			Expires: time.Now().Add(-time.Second),
		}.Token(l.secret(t)),
		"of another environment": access.PreviewLink{
			Entry:   "ice",
			Expires: time.Now().Add(time.Hour),
		}.Token([]byte("another")),
	} {
		if a := n.ask(t, bad, "preview/notices/ice-thick?fields=title"); a.Status != 401 {
			t.Errorf("%s: %d %s", name, a.Status, a.Body)
		}
	}
	if a := n.ask(t, "", "preview/notices/ice-thick?token="+link.Token); a.Status != 400 {
		t.Errorf("a token in the gateway's own address: %d", a.Status)
	}
	for name, minutes := range map[string]int{"no time": 0, "more than a week": 10081} {
		if _, err := n.client.Keys().Preview(t.Context(), "ice", api.PreviewOptions{Minutes: new(minutes)}); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if _, err := n.client.Keys().Preview(t.Context(), "nothing", api.PreviewOptions{Minutes: new(5)}); err == nil {
		t.Error("a link to nothing is made")
	}
}

func (l *line) secret(t *testing.T) []byte {
	t.Helper()
	secret, err := l.store.Keys.Secret(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return secret
}

// issuer signs tokens as somebody else would.
type issuer struct {
	mu   sync.Mutex
	keys map[string]*ecdsa.PrivateKey
	asks int
}

func (i *issuer) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.asks++
	var set []map[string]string
	for id, k := range i.keys {
		point, _ := k.PublicKey.Bytes()
		set = append(set, map[string]string{
			"kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": id,
			"x": base64.RawURLEncoding.EncodeToString(
				point[1:33],
			), "y": base64.RawURLEncoding.EncodeToString(point[33:]),
		})
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"keys": set})
}

// newIssuer starts an issuer with a key named one; o are options that trust it.
func newIssuer(t *testing.T) (id *issuer, o environment.Options) {
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	id = &issuer{keys: map[string]*ecdsa.PrivateKey{"one": own}}
	web := httptest.NewServer(id)
	t.Cleanup(web.Close)
	return id, environment.Options{
		Outbound: outbound.Options{Private: true},
		Issuer: &access.Issuer{
			Issuer: "https://id.skerry.example", Audience: "gateway", Keys: web.URL,
			Grants: []access.ClaimGrants{
				{Claim: "role", Is: "crew", Grants: []string{"read preview notice"}},
				{Claim: "scope", Is: "routes", Grants: []string{"read published route"}},
			},
		},
	}
}

// signed makes a token of somebody of the crew.
func signed(
	t *testing.T, method jwt.SigningMethod, key any, kid string, change func(*jwt.Token, jwt.MapClaims),
) string {
	t.Helper()
	claims := jwt.MapClaims{
		"iss":   "https://id.skerry.example",
		"aud":   []string{"gateway"},
		"sub":   "tilda",
		"exp":   time.Now().Add(time.Hour).Unix(),
		"role":  []string{"crew"},
		"scope": "mail routes",
	}
	made := jwt.NewWithClaims(method, claims)
	made.Header["kid"] = kid
	if change != nil {
		change(made, claims)
	}
	text, err := made.SignedString(key)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func TestTokensIssuedElsewhere(t *testing.T) {
	id, o := newIssuer(t)
	own := id.keys["one"]
	other, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	s := testkit.Store(t, testkit.Model(t, harbour))
	o.Store = s
	n := start(t, o, access.NewSecret())
	token := func(method jwt.SigningMethod, key any, kid string, change func(jwt.MapClaims)) string {
		return signed(t, method, key, kid, func(_ *jwt.Token, c jwt.MapClaims) {
			if change != nil {
				change(c)
			}
		})
	}
	good := token(jwt.SigningMethodES256, own, "one", nil)
	for _, path := range []string{"preview/notices?fields=title", "published/routes?fields=name"} {
		if a := n.ask(t, good, path); a.Status != 200 {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
	}
	if a := n.ask(t, good, "published/notices?fields=title"); a.Status != 403 {
		t.Errorf("what no claim brings: %d", a.Status)
	}
	if id.asks != 1 {
		t.Errorf("the issuer was asked %d times for its keys", id.asks)
	}
	set := func(name string, v any) func(jwt.MapClaims) { return func(c jwt.MapClaims) { c[name] = v } }
	for class, bad := range map[string]string{
		"expired":   token(jwt.SigningMethodES256, own, "one", set("exp", time.Now().Add(-time.Hour).Unix())),
		"audience":  token(jwt.SigningMethodES256, own, "one", set("aud", "somebody")),
		"issuer":    token(jwt.SigningMethodES256, own, "one", set("iss", "https://id.other.example")),
		"not yet":   token(jwt.SigningMethodES256, own, "one", set("nbf", time.Now().Add(time.Hour).Unix())),
		"algorithm": token(jwt.SigningMethodHS256, []byte("the public key"), "one", nil),
		"key":       token(jwt.SigningMethodES256, other, "two", nil),
		"signature": token(jwt.SigningMethodES256, other, "one", nil),
		"malformed": "a.b.c",
		"too long":  token(jwt.SigningMethodES256, own, "one", set("exp", time.Now().AddDate(100, 0, 0).Unix())),
		"critical": signed(t, jwt.SigningMethodES256, own, "one",
			func(made *jwt.Token, _ jwt.MapClaims) { made.Header["crit"] = []string{"b64"} }),
	} {
		a := n.ask(t, bad, "preview/notices?fields=title")
		if a.Status != 401 || !strings.Contains(string(a.Body), `"reason":"`+class+`"`) ||
			!strings.Contains(a.Header.Get("WWW-Authenticate"), class) {
			t.Errorf("%s: %d %s", class, a.Status, a.Body)
		}
	}
	if a := n.ask(t, token(jwt.SigningMethodNone, jwt.UnsafeAllowNoneSignatureType, "one", nil),
		"preview/notices"); a.Status != 401 {
		t.Errorf("no signature at all: %d", a.Status)
	}
	if a := open(t, s, access.NewSecret()).ask(t, good, "preview/notices"); a.Status != 401 {
		t.Errorf("where no issuer is trusted: %d", a.Status)
	}
}

// TestTokensWaitTogether has an issuer that says nothing for long, and then fails: it
// is asked once for all, and who has a key does not wait for it.
func TestTokensWaitTogether(t *testing.T) {
	id, o := newIssuer(t)
	asked, answer := make(chan struct{}, 100), make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked <- struct{}{}
		<-answer
		w.WriteHeader(http.StatusInternalServerError)
	}))
	t.Cleanup(slow.Close)
	o.Issuer.Keys, o.Store = slow.URL, testkit.Store(t, testkit.Model(t, harbour))
	n := start(t, o, access.NewSecret())
	answers := make(chan *client.Answer, 20)
	for i := range cap(answers) {
		token := signed(
			t, jwt.SigningMethodES256, id.keys["one"], "one",
			func(_ *jwt.Token, c jwt.MapClaims) { c["sub"] = fmt.Sprint(i) },
		)
		go func() {
			a, _ := (&client.Client{Address: n.client.Address, Key: token}).Do(
				context.Background(), http.MethodGet,
				"/content/"+n.Replica.Environment()+"/preview/notices?fields=title", nil, nil,
			)
			answers <- a
		}()
	}
	<-asked
	if a := n.ask(t, n.client.Key, "preview/notices?fields=title"); a.Status != 200 {
		t.Errorf("a key meanwhile: %d", a.Status)
	}
	close(answer)
	for range cap(answers) {
		if a := <-answers; a == nil || a.Status != 401 || !strings.Contains(string(a.Body), "keys away") {
			t.Errorf("%+v", a)
		}
	}
	if more := len(asked); more > 0 {
		t.Errorf("the issuer was asked %d more times", more)
	}
}

// web starts another server on the node's gateway.
func (n node) web(t *testing.T, o server.Options) string {
	o.Environment = n.Environment
	hs := server.Listening(server.New(o))
	hs.ReadHeaderTimeout = 200 * time.Millisecond
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go hs.Serve(l)
	t.Cleanup(func() { hs.Close() })
	return "http://" + l.Addr().String()
}

func TestFailedSignInsAreRateLimited(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "read published notice")
	address := n.web(t, server.Options{Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	get := func(key, from string) (int, string) {
		req, _ := http.NewRequestWithContext(
			t.Context(), http.MethodGet,
			address+"/content/"+n.Replica.Environment()+"/published/notices?fields=title", nil,
		)
		req.Header.Set("Authorization", "Bearer "+key)
		req.Header.Set("X-Forwarded-For", "198.51.100.200, "+from)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		_, _ = io.Copy(io.Discard, resp.Body)
		return resp.StatusCode, resp.Header.Get("Retry-After")
	}
	statuses := map[int]int{}
	for range 300 {
		status, after := get(access.NewSecret(), "203.0.113.7")
		statuses[status]++
		if status == 429 && after == "" {
			t.Fatal("no Retry-After")
		}
	}
	if statuses[401] < 25 || statuses[401] > 60 || statuses[401]+statuses[429] != 300 {
		t.Errorf("guesses: %v", statuses)
	}
	if status, _ := get(secret, "203.0.113.7"); status != 200 {
		t.Errorf("a good key from the same address: %d", status)
	}
	if status, _ := get(access.NewSecret(), "203.0.113.8"); status != 401 {
		t.Errorf("a slip at another address: %d", status)
	}
}

func TestHostileClients(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, secret := l.key(t, "read published notice")
	if _, err := n.Settings.Put(t.Context(), "cors", "cors", []byte(`{"allow": ["https://skerry.example"]}`), "test", nil,
		false); err != nil {
		t.Fatal(err)
	}
	address := n.web(t, server.Options{})
	path := "/content/" + n.Replica.Environment() + "/published/notices?fields=title"
	do := func(method, path string, header ...string) *http.Response {
		t.Helper()
		req, _ := http.NewRequestWithContext(t.Context(), method, address+path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp
	}
	if r := do("OPTIONS", path, "Origin", "https://skerry.example", "Access-Control-Request-Method", "GET",
		"Access-Control-Request-Headers", "authorization"); r.StatusCode/100 != 2 ||
		r.Header.Get("Access-Control-Allow-Origin") != "https://skerry.example" ||
		!strings.EqualFold(r.Header.Get("Access-Control-Allow-Headers"), "authorization") {
		t.Errorf("preflight: %d %v", r.StatusCode, r.Header)
	}
	if r := do("OPTIONS", path, "Origin", "https://other.example", "Access-Control-Request-Method",
		"GET"); r.Header.Get(
		"Access-Control-Allow-Origin",
	) != "" {
		t.Errorf("another origin's preflight: %v", r.Header)
	}
	r := do("GET", path, "Origin", "https://skerry.example", "Authorization", "Bearer "+secret)
	if r.StatusCode != 200 || r.Header.Get("Access-Control-Allow-Origin") != "https://skerry.example" ||
		!strings.Contains(strings.Join(r.Header.Values("Vary"), ","), "Origin") ||
		!strings.Contains(strings.Join(r.Header.Values("Vary"), ","), "Authorization") {
		t.Errorf("a page of the origin: %d %v", r.StatusCode, r.Header)
	}
	if r := do("GET", path, "X-Large",
		strings.Repeat("x", 80<<10)); r.StatusCode != http.StatusRequestHeaderFieldsTooLarge {
		t.Errorf("oversized headers: %d", r.StatusCode)
	}
	for _, query := range []string{"&key=" + secret, "&access_token=" + secret, "&" + secret} {
		if r := do("GET", path+query); r.StatusCode != 400 {
			t.Errorf("a key in the address: %d", r.StatusCode)
		}
	}
	for name, header := range map[string]string{
		"another scheme": "Basic " + secret,
		"truncated":      "Bearer " + secret[:20], "nothing": "Bearer ",
		"of another environment": "Bearer " + access.NewSecret(), "not a key": "Bearer {}",
	} {
		if r := do("GET", path, "Authorization", header); r.StatusCode != 401 ||
			!strings.HasPrefix(r.Header.Get("WWW-Authenticate"), "Bearer") {
			t.Errorf("%s: %d", name, r.StatusCode)
		}
	}
	slow, err := net.Dial("tcp", strings.TrimPrefix(address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer slow.Close()
	if _, err := slow.Write([]byte("GET " + path + " HTTP/1.1\r\nHost: x\r\nX-Slow: ")); err != nil {
		t.Fatal(err)
	}
	_ = slow.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadAll(slow); err != nil {
		t.Errorf("a slow client is kept: %v", err)
	}
	r = do("GET", "/console/")
	for name, want := range map[string]string{
		"Content-Security-Policy": "default-src 'none'; script-src " +
			"'self'", "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
		"Cross-Origin-Opener-Policy": "same-origin",
	} {
		if !strings.HasPrefix(r.Header.Get(name), want) {
			t.Errorf("the console's %s is %q", name, r.Header.Get(name))
		}
	}
}

// TestSigningIn goes through an account's life: the first link, passwords,
// sessions, roles, and what another site may not do.
func TestSigningIn(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, harbour)), access.NewSecret())
	link, err := n.Accounts.FirstLink(t.Context())
	if err != nil || link == "" {
		t.Fatal(link, err)
	}
	do := func(cookie, method, path string, body any, header ...string) (int, string, *http.Cookie) {
		t.Helper()
		src, _ := json.Marshal(body)
		req, _ := http.NewRequestWithContext(
			t.Context(), method, n.client.Address+"/control/v1"+path, bytes.NewReader(src),
		)
		if cookie != "" {
			req.AddCookie(&http.Cookie{Name: "ubiquon-session", Value: cookie})
		}
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		out, _ := io.ReadAll(resp.Body)
		var set *http.Cookie
		for _, c := range resp.Cookies() {
			set = c
		}
		return resp.StatusCode, string(out), set
	}
	const password = "a boat is no bath tub"
	if status, body, _ := do("", "POST", "/welcome", per{"link": link}); status != 200 ||
		!strings.Contains(body, `"first":true`) {
		t.Fatalf("%d %s", status, body)
	}
	if status, body, _ := do("", "POST", "/welcome", per{
		"link": link, "email": "ask@skerry.example",
		"password": "short",
	}); status != 400 {
		t.Errorf("a short password: %d %s", status, body)
	}
	status, body, cookie := do(
		"", "POST", "/welcome", per{"link": link, "email": "Ask@Skerry.example", "name": "Ask", "password": password},
	)
	if status != 200 || cookie == nil || !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode ||
		!strings.Contains(body, `"administer":true`) {
		t.Fatalf("%d %s %v", status, body, cookie)
	}
	if status, _, _ := do("", "POST", "/welcome", per{
		"link": link, "email": "b@skerry.example",
		"password": password,
	}); status != 404 {
		t.Errorf("the link a second time: %d", status)
	}
	first := cookie.Value
	status, _, again := do(first, "POST", "/session", per{"email": "ask@skerry.example", "password": password})
	if status != 200 || again.Value == first {
		t.Fatalf("signing in again: %d", status)
	}
	if status, _, _ := do(first, "GET", "/status", nil); status != 401 {
		t.Errorf("the session that was replaced: %d", status)
	}
	admin := again.Value
	if status, _, _ := do(admin, "GET", "/keys", nil); status != 200 {
		t.Errorf("an admin: %d", status)
	}
	for name, header := range map[string][]string{
		"Fetch Metadata": {"Sec-Fetch-Site", "cross-site"},
		"an Origin":      {"Origin", "https://other.example"},
	} {
		if status, body, _ := do(admin, "POST", "/cache/purge", per{}, header...); status != 403 ||
			!strings.Contains(body, "cross-site") {
			t.Errorf("a write from another site, by %s: %d %s", name, status, body)
		}
		if status, _, _ := do("", "POST", "/session", per{"email": "ask@skerry.example", "password": password},
			header...); status != 403 {
			t.Errorf("signing in from another site, by %s: %d", name, status)
		}
	}
	if status, _, _ := do(admin, "POST", "/cache/purge", per{}, "Sec-Fetch-Site", "same-origin"); status != 200 {
		t.Errorf("a write of the console: %d", status)
	}
	for _, one := range []struct {
		role            string
		save, publish   int
		keys, read, why int
	}{{"reader", 403, 403, 403, 200, 200}, {"editor", 200, 403, 403, 200, 200}, {"approver", 200, 200, 403, 200, 200}} {
		email := one.role + "@skerry.example"
		if status, body, _ := do(admin, "POST", "/accounts", per{
			"email": email, "role": one.role,
			"password": password,
		}); status != 200 ||
			strings.Contains(body, "argon2") {
			t.Fatalf("%d %s", status, body)
		}
		_, _, c := do("", "POST", "/session", per{"email": email, "password": password})
		got := []int{}
		for _, req := range []struct {
			method, path string
			body         any
		}{
			{"POST", "/edits", per{"edits": []any{per{
				"id": "r-" + one.role, "type": "route",
				"save": per{"name": per{"en": one.role}},
			}}}},
			{"POST", "/edits", per{"edits": []any{per{"id": "r-" + one.role, "do": "publish"}}}},
			{"GET", "/keys", nil},
			{"GET", "/entries", nil},
			{"POST", "/why", per{"entry": "x"}},
		} {
			status, _, _ := do(c.Value, req.method, req.path, req.body)
			got = append(got, status)
		}
		// What a reader could not save is not there to be published.
		if want := []int{one.save, one.publish, one.keys, one.read, one.why}; !slices.Equal(got, want) &&
			!(one.role == "reader" && slices.Equal(got[2:], want[2:]) && got[0] == 403) {
			t.Errorf("%s: %v, want %v", one.role, got, want)
		}
	}
	_, _, editor := do("", "POST", "/session", per{"email": "editor@skerry.example", "password": password})
	if status, _, _ := do(admin, "PATCH", "/accounts/editor@skerry.example", per{"disabled": true}); status != 200 {
		t.Fatalf("disabling: %d", status)
	}
	if status, _, _ := do(editor.Value, "GET", "/entries", nil); status != 401 {
		t.Errorf("a disabled account's session: %d", status)
	}
	if status, _, _ := do("", "POST", "/session", per{
		"email":    "editor@skerry.example",
		"password": password,
	}); status != 401 {
		t.Errorf("signing in to it: %d", status)
	}
	if status, body, _ := do(admin, "PATCH", "/accounts/ask@skerry.example", per{"role": "reader"}); status != 409 ||
		!strings.Contains(body, "last admin") {
		t.Errorf("the last admin: %d %s", status, body)
	}
	if status, body, _ := do(admin, "POST", "/accounts", per{
		"email": "Editor@skerry.example",
		"role":  "editor",
	}); status != 409 {
		t.Errorf("an address twice: %d %s", status, body)
	}
	if status, _, c := do(admin, "DELETE", "/session", nil); status != 200 || c.MaxAge >= 0 {
		t.Errorf("signing out: %d %v", status, c)
	}
	if status, _, _ := do(admin, "GET", "/status", nil); status != 401 {
		t.Errorf("after signing out: %d", status)
	}
	statuses := map[int]int{}
	for range 30 {
		status, body, _ := do(
			"", "POST", "/session", per{"email": "ask@skerry.example", "password": "wrong " + password},
		)
		statuses[status]++
		if strings.Contains(body, password) {
			t.Fatal("the password is told back")
		}
	}
	if statuses[429] < 15 || statuses[200] > 0 {
		t.Errorf("guessing a password: %v", statuses)
	}
}

// TestApprovalBySecondPerson holds that nobody approves what they wrote, where a type demands
// approval.
func TestApprovalBySecondPerson(t *testing.T) {
	n, _, _ := islesNode(t)
	n.must(t, api.Edit{ID: "b1", Type: "berth", Save: per{"name": "North", "number": 1}, Do: "submit"})
	if _, err := n.client.Entries().Edit(t.Context(), api.Edit{ID: "b1", Do: "approve"}); err == nil ||
		!strings.Contains(err.Error(), "somebody else") {
		t.Errorf("the writer approves: %v", err)
	}
	_, other, err := n.Keys.CreateKey(t.Context(), access.Key{Name: "duty", Grants: service.Everything()}, "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := (&client.Client{Address: n.client.Address, Key: other}).Entries().Edit(t.Context(),
		api.Edit{
			ID: "b1",
			Do: "approve",
		}); err != nil {
		t.Errorf("somebody else approves: %v", err)
	}
	n.must(t, api.Edit{ID: "b1", Do: "publish"})
}

// TestNoSecretIsLogged makes the service talk about everything, and looks for
// what it must not say.
func TestNoSecretIsLogged(t *testing.T) {
	var mu sync.Mutex
	var out bytes.Buffer
	log := slog.New(slog.NewTextHandler(locked{&mu, &out}, &slog.HandlerOptions{Level: slog.LevelDebug}))
	s := testkit.Store(t, testkit.Model(t, harbour))
	g, err := environment.Open(t.Context(), environment.Options{Store: s, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	handler := server.New(server.Options{Environment: g, Log: log})
	if err := g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	web := conformity.Serve(t, handler)
	t.Cleanup(web.Close)
	k, secret, err := g.Keys.CreateKey(t.Context(), access.Key{Name: "admin", Grants: service.Everything()}, "test")
	if err != nil {
		t.Fatal(err)
	}
	_, former, _ := g.Keys.RotateKey(t.Context(), k.ID, "test", time.Hour)
	const password = "a boat is no bath tub"
	_, link, err := g.Accounts.CreateAccount(
		t.Context(), api.Account{Email: "ask@skerry.example", Role: access.RoleAdmin}, "", "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	cookie, chosen, err := g.Accounts.ChoosePassword(
		t.Context(), link, "", "", password, audit.Actor{Address: "203.0.113.1"}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	c := &client.Client{Address: web.URL, Key: former}
	base := "/content/" + s.Environment + "/published"
	var said bytes.Buffer
	for _, path := range []string{
		base + "/notices", base + "/notices?key=" + secret, "/control/v1/keys",
		"/control/v1/audit", "/control/v1/refusals", "/control/v1/accounts", "/control/v1/nothing", "/metrics",
		"/control/v1/status",
	} {
		a, err := c.Do(t.Context(), http.MethodGet, path, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		said.Write(a.Body)
	}
	for _, body := range []any{
		per{"email": "ask@skerry.example", "password": password + "!"},
		per{"email": "ask@skerry.example", "password": password},
		"x",
	} {
		a, err := c.Do(t.Context(), http.MethodPost, "/control/v1/session", nil, body)
		if err != nil {
			t.Fatal(err)
		}
		said.Write(a.Body)
	}
	var stored string
	if err := s.DB.Pool.QueryRow(t.Context(), `select string_agg(t, ' ') from (select row_to_json(a)::text t from
		audit a union all select row_to_json(c)::text from change c union all select row_to_json(k)::text from
		access_key k
		union all select row_to_json(n)::text from session n union all select row_to_json(i)::text from invitation
		i) x`).Scan(&stored); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	for name, text := range map[string]string{
		"the log": out.String(), "an answer": said.String(),
		"what is stored": stored,
	} {
		for what, secret := range map[string]string{
			"a key": secret, "a rotated key": former,
			"a password": password, "a link": link, "a cookie": cookie, "a password's hash": chosen.Password,
		} {
			if strings.Contains(text, secret) {
				t.Errorf("%s holds %s", name, what)
			}
		}
	}
	if !strings.Contains(stored, "key rotate") {
		t.Error("the audit log was not looked at")
	}
}

type locked struct {
	mu *sync.Mutex
	w  io.Writer
}

func (l locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(p)
}
