package environment_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

var (
	oracleChanges = flag.Int("oracle.changes", 770, "how many changes each of the oracle's histories makes at least")
	oracleTell    = flag.Bool("oracle.tell", false, "tell of every answer that was expired needlessly")
	oracleShrink  = flag.Int("oracle.shrink", 200, "how many shorter histories are tried when one fails")
	oracleSeed    = flag.Uint64("oracle.seed", 8400, "where the oracle's histories begin")
)

// TestTheOracle makes long random histories of content, of random models. After
// every commit each answer that is held is recomputed: none may be stale, and of
// those that were expired at most one in a hundred may have been as good as before.
//
// The mix, written down before anything was measured: of 100 steps 50 publish one
// entry with random values, 12 save a draft, 10 change several entries in one commit,
// 8 take an entry back, 6 delete one, 6 put references in another order, 4 let the
// clock pass a time that an entry has, 2 publish without a difference, 1 alters
// the model (a label, a field that comes or goes, a fallback, how long answers may
// be kept) and 1 goes on to another model of its own seed's. Each history reads 48
// random requests, of both spellings and both editions, and changes six of them
// every fifty steps. Among the entries are three files that the others show.
func TestTheOracle(t *testing.T) {
	var expired, needless atomic.Int64
	t.Run("histories", func(t *testing.T) { oracleHistories(t, &expired, &needless) })
	if *oracleChanges >= 1000 && needless.Load()*100 > expired.Load() {
		t.Errorf("%d of %d answers expired although they were as good as before", needless.Load(), expired.Load())
	}
}

func oracleHistories(t *testing.T, allExpired, allNeedless *atomic.Int64) {
	for i := range 4 {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			seed := *oracleSeed + uint64(i)
			h := history{seed: seed, r: rand.New(rand.NewPCG(seed, 6)), needless: map[string]int{}}
			h.first = h.randomModel()
			h.model = h.first
			o := oracleOf(t, h.first)
			o.pages = pagesOracleOf(o, seed)
			for n := 0; h.changes < *oracleChanges && o.failed == ""; n++ {
				if n%50 == 0 {
					h.replace(o)
				}
				h.steps = append(h.steps, h.randomStep())
				o.take(&h, h.steps[len(h.steps)-1])
			}
			if o.failed != "" {
				t.Fatalf("seed %d: %s\n\nthe shortest history that shows it:\n%s", seed, o.failed, h.shrink(t, o))
			}
			needless := 0
			for _, n := range h.needless {
				needless += n
			}
			t.Logf(
				"%d changes in %d steps: %d answers kept, 0 stale, %d expired, of these %d (%.2f %%) although "+
					"unchanged: %v",
				h.changes, len(h.steps), h.kept, h.expired, needless, 100*float64(needless)/float64(h.expired),
				h.needless,
			)
			if h.kept == 0 || h.expired == 0 {
				t.Error("nothing was kept, or nothing expired: the test tests nothing")
			}
			o.pages.tell()
			allExpired.Add(int64(h.expired))
			allNeedless.Add(int64(needless))
		})
	}
}

// history is what happened, and could happen again.
type history struct {
	seed     uint64
	r        *rand.Rand
	first    oracleModel
	model    oracleModel
	steps    []step
	changes  int
	kept     int
	expired  int
	needless map[string]int
}

// step is one thing that happens.
type step struct {
	What  string
	Edits []oracleEdit `json:",omitempty"`
	Model *oracleModel `json:",omitempty"`
}

type oracleEdit struct {
	ID, Type string
	Fields   map[string]any `json:",omitempty"`
	Do       string
	Locales  []string `json:",omitempty"`
}

// oracleModel is a model of two types that refer to each other, in some form.
type oracleModel struct {
	Fallbacks  map[string]string
	Translated map[string]bool
	Kinds      map[string]string // of the fields that have various kinds
	Path       bool
	Label      string
	Extra      bool
	Shared     int
}

func (m oracleModel) text() string {
	tr := func(name string) string {
		if m.Translated[name] {
			return ", translated: true"
		}
		return ""
	}
	var b strings.Builder
	b.WriteString("locales:\n  en: {}\n")
	for _, tag := range []string{"nb", "ja"} {
		fmt.Fprintf(&b, "  %s: {%s}\n", tag, m.Fallbacks[tag])
	}
	path := ""
	if m.Path {
		path = "\n    path: /routes/{slug}"
	}
	fmt.Fprintf(&b, `types:
  pier:
    plural: piers
    title: name
    fields:
      name: {kind: text, required: true, max: 40%s}
      slug: {kind: slug, madeFrom: name}
      depth: {kind: %s}
      office: {kind: record, fields: {town: {kind: text}, hours: {kind: text}, plan: {kind: file}}}
      photo: {kind: file, renditions: {card: {width: 300, height: 300}}}
    freshness: {shared: %ds}
  route:
    plural: routes
    title: name%s
    fields:
      name: {kind: text, required: true, label: %s%s}
      slug: {kind: slug, madeFrom: name}
      rank: {kind: %s}
      season: {kind: choice, options: {summer: %s, winter: Winter time}%s}
      piers: {kind: reference, types: [pier], several: true, inverse: routes}
      start: {kind: reference, types: [pier, route], inverse: departures}
      since: {kind: datetime}
      tags: {kind: text, several: true}
      photos: {kind: file, several: true}
      text: {kind: prose%s}
`, tr("pier.name"), m.Kinds["depth"], m.Shared, path, m.Label, tr("name"), m.Kinds["rank"], m.Label, tr("season"),
		tr("text"))
	if m.Extra {
		b.WriteString("      extra: {kind: text, default: none}\n")
	}
	b.WriteString("  settings:\n    singleton: true\n    fields: {claim: {kind: text" + tr("claim") + "}}\n")
	return b.String()
}

func (h *history) one(from ...string) string { return from[h.r.IntN(len(from))] }
func (h *history) odds(n int) bool           { return h.r.IntN(n) == 0 }

func (h *history) randomModel() oracleModel {
	m := oracleModel{
		Fallbacks: map[string]string{
			"nb": h.one("", "fallback: [en]"),
			"ja": h.one("", "fallback: [en]", "fallback: [nb, en]"),
		},
		Translated: map[string]bool{},
		Kinds: map[string]string{
			"depth": h.one("integer", "decimal"),
			"rank":  h.one("integer", "decimal", "text", "money", "boolean"),
		},
		Path:   !h.odds(4),
		Label:  "Summer",
		Shared: 60,
	}
	for _, f := range []string{"pier.name", "name", "season", "text", "claim"} {
		m.Translated[f] = h.odds(2)
	}
	return m
}

func (h *history) altered() oracleModel {
	m := h.model
	m.Fallbacks = maps.Clone(m.Fallbacks)
	switch h.r.IntN(4) {
	case 0:
		m.Label = h.one("Summer", "High", "Light")
	case 1:
		m.Extra = !m.Extra
	case 2:
		m.Fallbacks["ja"] = h.one("", "fallback: [en]", "fallback: [nb, en]")
	default:
		m.Shared = 60 + h.r.IntN(3)
	}
	return m
}

var oracleIDs = map[string][]string{
	"pier":     {"p0", "p1", "p2", "p3", "p4", "p5"},
	"route":    {"r0", "r1", "r2", "r3", "r4", "r5", "r6", "r7", "r8"},
	"settings": {"s"},
	"file":     {"f0", "f1", "f2"},
}

// oracleHashes are of bytes that are noted, though they are nowhere.
var oracleHashes = []string{strings.Repeat("a1", 32), strings.Repeat("b2", 32)}

// photo is a random value of a field that holds a file.
func (h *history) photo() map[string]any {
	out := map[string]any{"file": h.one("f0", "f1", "f2", "nobody")}
	if h.odds(5) {
		out["alt"] = h.one("own", "other")
	}
	return out
}

func (h *history) randomStep() step {
	switch n := h.r.IntN(100); {
	case n < 50:
		return step{What: "publish", Edits: []oracleEdit{h.edit("publish")}}
	case n < 62:
		return step{What: "save", Edits: []oracleEdit{h.edit("save")}}
	case n < 72:
		s := step{What: "several"}
		seen := map[string]bool{}
		for range 2 + h.r.IntN(3) {
			e := h.edit(h.one("publish", "publish", "takeback", "save"))
			if !seen[e.ID] {
				s.Edits = append(s.Edits, e)
			}
			seen[e.ID] = true
		}
		return s
	case n < 80:
		return step{What: "take back", Edits: []oracleEdit{h.edit("takeback")}}
	case n < 86:
		return step{What: "delete", Edits: []oracleEdit{h.edit("delete")}}
	case n < 92:
		id := h.one(oracleIDs["route"]...)
		return step{
			What:  "order",
			Edits: []oracleEdit{{ID: id, Type: "route", Do: "publish", Fields: map[string]any{"+piers": h.piers()}}},
		}
	case n < 96:
		return step{What: "clock"}
	case n < 98:
		e := h.edit("publish")
		e.Fields = nil
		return step{What: "again", Edits: []oracleEdit{e}}
	case n < 99:
		m := h.altered()
		h.model = m
		return step{What: "model", Model: &m}
	}
	m := h.randomModel()
	m.Kinds = h.model.Kinds // values are to be kept
	h.model = m
	return step{What: "model", Model: &m}
}

func (h *history) piers() []any {
	var out []any
	for _, i := range h.r.Perm(6)[:h.r.IntN(4)] {
		out = append(out, oracleIDs["pier"][i])
	}
	return out
}

// edit makes an edit of a random entry; a date is so many milliseconds from when
// it happens.
func (h *history) edit(do string) oracleEdit {
	typ := h.one("pier", "route", "route", "route", "settings", "file")
	e := oracleEdit{ID: h.one(oracleIDs[typ]...), Type: typ, Do: do}
	if do == "takeback" || do == "delete" {
		return e
	}
	words := func(translated bool, from ...string) any {
		if !translated {
			return h.one(from...)
		}
		out := map[string]any{"en": h.one(from...)}
		for _, tag := range []string{"nb", "ja"} {
			if h.odds(3) {
				out[tag] = h.one(from...)
			}
		}
		return out
	}
	tr := h.model.Translated
	f := map[string]any{}
	switch typ {
	case "settings":
		f["claim"] = words(tr["claim"], "a", "b")
	case "pier":
		f["name"], f["slug"] = words(
			tr["pier.name"], "Mella", "Østra", "Tern Rock",
		), "slug-"+h.one(
			e.ID, e.ID, "x", "y",
		)
		if !h.odds(4) {
			f["depth"] = float64(h.r.IntN(4))
		}
		f["office"] = map[string]any{"town": h.one("Mella", "Østra"), "hours": h.one("8-16", "9-15"), "plan": h.photo()}
		if h.odds(2) {
			f["photo"] = h.photo()
		}
	case "file":
		f["name"], f["hash"], f["alt"] = h.one("a.png", "b.png"), h.one(oracleHashes...), words(true, "quay", "boat")
		if h.odds(2) {
			f["focus"] = map[string]any{"x": .1, "y": .1, "width": .1 * float64(1+h.r.IntN(4)), "height": .2}
		}
		if h.odds(3) {
			f["credit"] = h.one("x", "y")
		}
	case "route":
		f["name"], f["slug"] = words(
			tr["name"], "Ring", "Line", "Outer ring", "Night",
		), "slug-"+h.one(
			e.ID, e.ID, "x", "y",
		)
		if !h.odds(5) {
			switch n := h.r.IntN(6); h.model.Kinds["rank"] {
			case "text":
				f["rank"] = h.one("a", "b", "ba", "Å", "z")
			case "money":
				f["rank"] = map[string]any{"amount": float64(n * 100), "currency": "NOK"}
			case "boolean":
				f["rank"] = n%2 == 0
			default:
				f["rank"] = float64(n - 2)
			}
		}
		if !h.odds(3) {
			f["season"] = words(tr["season"], "summer", "winter")
		}
		f["piers"], f["tags"] = h.piers(), []any{h.one("fog", "ice"), h.one("bread", "light")}
		if h.odds(2) {
			f["start"] = h.one("p0", "p1", "r1", "r2", "nobody")
		}
		if h.odds(3) {
			f["since"] = float64(h.r.IntN(1500) - 500)
		}
		if h.odds(2) {
			f["photos"] = []any{h.photo(), h.photo()}
		}
		f["text"] = words(tr["text"], "A *b* c", "See [there](ref:r1)", "d")
		if h.model.Extra && h.odds(2) {
			f["extra"] = h.one("x", "y")
		}
	}
	if h.odds(3) { // only some of it differs from what is there
		keep := h.one(slices.Sorted(maps.Keys(f))...)
		f = map[string]any{"+" + keep: f[keep]}
	}
	e.Fields = f
	if do == "publish" && h.odds(6) {
		e.Locales = []string{h.one("en", "nb")}
	}
	return e
}

// request makes a random read.
func (h *history) request() (path string, body string) {
	edition := h.one("published", "published", "preview")
	locale := h.one("en", "nb", "ja")
	if h.odds(4) {
		return h.graphql(edition)
	}
	base, q := "/content/%s/"+edition, url.Values{}
	q.Set("locale", locale)
	ofRoute := []string{
		"name", "slug", "rank", "season(label)", "tags", "text(plain)", "piers(name,office)",
		"start(name,rank,depth)", "since", "about(published)", "about(path,locales)",
		"piers(routes[limit=2,sort=name](name))", "extra", "photos(alt)", "photos[width=100](url)",
		"piers(photo(alt,credit))",
	}
	ofPier := []string{
		"name", "slug", "depth", "routes[limit=2](name)", "routes[sort=-rank,limit=3,filter=season = 'summer'](slug)",
		"departures(name)", "about(updated)", "office(town)", "photo(alt)", "photo(url)", "photo(card)",
		"photo[width=300,height=100](url)", "photo[width=320](url,width)", "photo(srcset)", "photo(credit)",
		"office(plan(alt))", "office(plan[width=320](url))", "photo",
	}
	fields := func(from []string) {
		if h.odds(6) {
			return
		}
		var some []string
		for _, i := range h.r.Perm(len(from))[:1+h.r.IntN(3)] {
			if from[i] != "extra" || h.model.Extra {
				some = append(some, from[i])
			}
		}
		if len(some) > 0 {
			q.Set("fields", strings.Join(some, ","))
		}
	}
	switch h.r.IntN(13) {
	case 12:
		fields([]string{"name", "alt", "file(url,alt)", "file[width=200,height=200](url)", "credit", "about(updated)"})
		if h.odds(2) {
			q.Set("filter", h.one("name = 'a.png'", "alt IS NULL", "credit = 'x'", "width > 1000"))
		}
		h.window(q)
		return base + "/files?" + q.Encode(), ""
	case 0:
		fields(ofRoute)
		return base + "/routes/slug-" + h.one("r0", "r1", "x", "y") + "?" + q.Encode(), ""
	case 1:
		fields(ofPier)
		return base + "/piers/slug-" + h.one("p0", "p1", "x") + "?" + q.Encode(), ""
	case 2:
		q.Set("fields", h.one("id", "about(path,updated)", "about(revision)"))
		return base + "/entries/" + h.one("p0", "r0", "r1", "nobody") + "?" + q.Encode(), ""
	case 3:
		if h.odds(2) {
			return base + "/settings?" + q.Encode(), ""
		}
		q.Set("path", "/routes/slug-"+h.one("r0", "r1", "x"))
		q.Set("fields", "id")
		return base + "/at?" + q.Encode(), ""
	case 4:
		return base + "/paths?type=route&limit=" + h.one("3", "100") + h.one("", "&fields=locale,path"), ""
	case 5, 6:
		fields(ofPier)
		if h.odds(2) {
			q.Set(
				"filter",
				h.one(
					"depth > 1", "CASEI(name) LIKE '%e%'", "routes.season = 'summer'",
					"slug = 'slug-p1' OR depth IS NULL", "office.town = 'Mella'", "routes.tags IS NULL",
				),
			)
		}
		if h.odds(2) {
			q.Set("sort", h.one("name", "-depth", "depth,-name", "-updated", "slug"))
		}
		h.window(q)
		return base + "/piers?" + q.Encode(), ""
	}
	fields(ofRoute)
	if !h.odds(3) {
		q.Set(
			"filter",
			h.one(
				"season = 'summer'", "season IN ('summer','winter') AND NOT name = 'Ring'", "since > now()",
				"since <= now() AND season = 'winter'", "rank IS NULL", "A_CONTAINS(tags, ('ice'))",
				"piers.name = 'Mella'", "start.slug = 'slug-p1' OR season IS NULL",
				"A_CONTAINS(piers, ('p0')) AND updated > TIMESTAMP('2026-01-01T00:00:00Z')", "name LIKE 'O%'",
				"text IS NULL", "piers.depth > 1 AND season = 'summer'", "NOT start.name = 'Ring'",
				"piers.routes.season = 'winter'", "name = slug",
			),
		)
	}
	if !h.odds(3) {
		q.Set("sort", h.one("name", "-rank", "rank,name", "-published", "-since", "-updated", "season,-slug", "slug"))
	}
	if h.odds(6) {
		q.Set("translated", "only")
	}
	h.window(q)
	return base + "/routes?" + q.Encode(), ""
}

func (h *history) window(q url.Values) {
	q.Set("limit", fmt.Sprint(h.r.IntN(6)))
	switch h.r.IntN(5) {
	case 0:
		q.Set("count", "true")
	case 1:
		q.Set("offset", fmt.Sprint(1+h.r.IntN(3)))
	case 2:
		q.Set("oracle", h.one("after", "before"))
	}
}

func (h *history) graphql(edition string) (path, body string) {
	q := h.one(
		`{routes(sort:["-rank"],first:2){totalCount nodes{id name piers{name}}}}`,
		`{routes(filter:{or:[{piers:{name:{eq:"Tern Rock"}}},{rank:{isNull:true}}]}){nodes{slug}}}`,
		`{routes(first:3,locale:"nb"){edges{cursor node{name}} pageInfo{hasNextPage endCursor}}}`,
		`{routes(last:2,sort:["name"]){nodes{name start{__typename ...on Pier{name} ...on Route{slug}}} pageInfo{hasPreviousPage startCursor}}}`,
		`{settings{claim} piers(first:2,sort:["depth"]){nodes{name routes(first:1,sort:["-name"]){totalCount nodes{name}}}}}`,
		`{a:route(slug:"slug-r0"){name about{locales path}} b:route(slug:"slug-x",locale:"ja"){name} node(id:"p0"){id ...on Pier{name}}}`,
		`{piers(filter:{routes:{season:{eq:SUMMER}}}){totalCount}}`,
		`{piers(first:3){nodes{photo(width:300,height:200){url alt card{url}}}}}`,
		`{files(first:2,sort:["name"]){totalCount nodes{name alt file{url focus{x}}}}}`,
		`{routes(filter:{since:{isPast:true}},first:3){nodes{since}}}`,
	)
	src, _ := json.Marshal(map[string]string{"query": q})
	return "/content/%s/" + edition + "/graphql", string(src)
}

// oracle is a service at which a history happens, and what it has answered.
type oracle struct {
	t      *testing.T
	g      *environment.Environment
	store  *store.Store
	web    http.Handler
	secret string
	// sequence is the highest that an answer of the published edition had.
	sequence int64
	reads    []oracleRead
	last     map[int]answered
	saved    map[string]map[string]any
	due      time.Time // the next time that some entry has
	failed   string
	at       int    // the read that failed
	change   string // the last one, for whoever is to be told
	// fresh is what each read gives now; pages are those of a site, nil for none.
	fresh map[int]answered
	pages *pagesOracle
}

type oracleRead struct{ path, body string }

type answered struct {
	status int
	body   []byte
	header http.Header
}

func (a answered) equal(b answered) bool {
	return a.status == b.status && bytes.Equal(a.body, b.body) &&
		!slices.ContainsFunc(
			[]string{"Etag", "Cache-Control", "Cdn-Cache-Control", "Cache-Groups", "Link", "Content-Language"},
			func(name string) bool { return a.header.Get(name) != b.header.Get(name) },
		)
}

// oracleOf starts a service with a model. Nothing is recomputed there by itself:
// that would hide what was expired.
func oracleOf(t *testing.T, m oracleModel) *oracle {
	o := &oracle{
		t:      t,
		secret: access.NewSecret(),
		last:   map[int]answered{},
		fresh:  map[int]answered{},
		saved:  map[string]map[string]any{},
	}
	o.store = testkit.Store(t, testkit.Model(t, m.text()))
	var err error
	if o.g, err = environment.Open(t.Context(), environment.Options{
		Store: o.store, Log: testkit.Log(t),
		Cache:    cache.Options{Refresh: func(*cache.Response) {}},
		Settings: settings.Seed{Sites: map[string]rebuild.Site{"web": {Address: "http://web.example"}}},
	}); err != nil {
		t.Fatal(err)
	}
	o.web = server.New(server.Options{Environment: o.g})
	if err := o.g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(o.g.Close)
	for i, hash := range oracleHashes {
		if err := o.store.Files.Put(t.Context(), files.Blob{Hash: hash, Bytes: 100, Facts: content.Fields{
			"mediaType": "image/png", "bytes": 100.0, "width": 900.0 + 600*float64(i), "height": 600.0,
		}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := o.g.Keys.KeepKey(t.Context(),
		&access.Key{
			Name: "test",
			Grants: access.Grants{
				{Verb: access.Read, Edition: access.Any, Type: access.Any},
				{Verb: access.Recompute, Edition: access.Any, Type: access.Any},
			},
		}, o.secret, "test"); err != nil {
		t.Fatal(err)
	}
	return o
}

// get reads as the request's Cache-Control says.
func (o *oracle) get(r oracleRead, directive string) answered {
	method, path := http.MethodGet, strings.Replace(r.path, "%s", o.g.Replica.Environment(), 1)
	if r.body != "" {
		method = http.MethodPost
	}
	req := httptest.NewRequest(method, path, strings.NewReader(r.body))
	req.Header.Set("Authorization", "Bearer "+o.secret)
	req.Header.Set("Content-Type", "application/json")
	if directive != "" {
		req.Header.Set("Cache-Control", directive)
	}
	if directive == "no-store" {
		req.Header.Set("Prefer", "recompute")
	}
	w := httptest.NewRecorder()
	o.web.ServeHTTP(w, req)
	// No answer is followed by one that knows of less.
	if n, err := strconv.ParseInt(w.Header().Get("Ubiquon-Sequence"), 10, 64); err == nil &&
		strings.Contains(path, "/published/") {
		if n < o.sequence {
			o.t.Errorf("%s %s is answered as of %d, after something as of %d", method, path, n, o.sequence)
		}
		o.sequence = n
	}
	return answered{w.Code, w.Body.Bytes(), w.Header()}
}

// replace puts other requests in the place of some.
func (h *history) replace(o *oracle) {
	for len(o.reads) < 48 {
		o.reads = append(o.reads, oracleRead{})
	}
	for i := range o.reads {
		if o.reads[i].path != "" && !h.odds(8) {
			continue
		}
		for {
			var r oracleRead
			r.path, r.body = h.request()
			if at, which, is := strings.Cut(r.path, "oracle="); is {
				which, after, _ := strings.Cut(which, "&")
				r.path = at + after
				var first struct{ Window struct{ Next string } }
				if json.Unmarshal(o.get(r, "no-store").body, &first) != nil || first.Window.Next == "" {
					continue
				}
				r.path = at + which + "=" + first.Window.Next + "&" + after
			}
			if status := o.get(r, "no-store").status; status == 400 || status >= 500 {
				continue // the model has no such field now, or nobody lives anywhere
			}
			o.reads[i] = r
			delete(o.last, i)
			break
		}
	}
	o.look(h, "")
}

// take lets a step happen, and looks at all answers.
func (o *oracle) take(h *history, s step) {
	if !o.happen(h, s) {
		return
	}
	head, err := o.store.Changes.Head(o.t.Context())
	if err == nil {
		testkit.Eventually(o.t, "the node follows", func() bool { return o.g.Replica.Applied() >= head.Sequence })
	}
	o.look(h, s.What)
	if o.pages != nil && o.failed == "" {
		o.pages.look(s.What)
	}
}

// happen lets a step happen; false if it cannot.
func (o *oracle) happen(h *history, s step) bool {
	ctx, cause := o.t.Context(), content.Cause{Kind: "user"}
	switch {
	case s.Model != nil:
		if err := o.store.Writer.ApplyModel(ctx, testkit.Model(o.t, s.Model.text()), content.Cause{Kind: "model"},
			writing.ModelOptions{AllowLoss: true}); err != nil {
			return false // entries would have the same path
		}
		h.changes++
	case s.What == "clock":
		if until := time.Until(o.due); until <= 0 || until > 2*time.Second {
			return false
		}
		testkit.Eventually(
			o.t, "the moment passes", func() bool { return time.Now().After(o.due.Add(time.Millisecond)) },
		)
	default:
		var edits []writing.Edit
		saved := map[string]map[string]any{}
		for _, e := range s.Edits {
			one := writing.Edit{ID: e.ID, Type: e.Type, Origin: content.Local, Locales: e.Locales, Loose: true}
			switch e.Do {
			case "publish":
				one.Live = writing.PublishNewest
			case "takeback":
				one.Live = writing.TakeBack
			case "delete":
				one.Delete, one.EvenIfReferred = true, true
			}
			if e.Fields != nil {
				one.Save = o.fields(e)
				saved[e.ID] = one.Save
			}
			edits = append(edits, one)
		}
		done, err := o.g.Authoring.Apply(ctx, edits, "test", cause)
		if err != nil {
			return false // nothing there to publish, or the slug is taken
		}
		maps.Copy(o.saved, saved)
		h.changes += len(done.Changes)
		if *oracleTell {
			src, _ := json.Marshal(done.Changes)
			o.change = string(src)
		}
	}
	return true
}

// fields are what an edit saves: all of it, or one field of what is there already.
func (o *oracle) fields(e oracleEdit) content.Fields {
	out := content.Fields{}
	for name, v := range e.Fields {
		if bare, one := strings.CutPrefix(name, "+"); one {
			maps.Copy(out, o.saved[e.ID])
			name = bare
		}
		if name == "since" {
			at := time.Now().Add(time.Duration(v.(float64)) * time.Millisecond)
			if at.After(time.Now()) && (o.due.Before(time.Now()) || at.Before(o.due)) {
				o.due = at
			}
			v = at.UTC().Format(time.RFC3339Nano)
		}
		out[name] = v
	}
	return out
}

// look holds every answer that is held against one recomputed.
func (o *oracle) look(h *history, what string) {
	for i, r := range o.reads {
		fresh := o.get(r, "no-store")
		if fresh.status == 400 {
			o.reads[i] = oracleRead{path: "/content/%s/published/piers?fields=id"} // its model is gone
			delete(o.last, i)
			continue
		}
		held := o.get(r, "only-if-cached")
		switch was, known := o.last[i]; {
		case held.status != http.StatusGatewayTimeout:
			h.kept++
			if !held.equal(fresh) {
				o.failed, o.at = fmt.Sprintf(
					"after %q, %s %s\nserved %d %s %s\nis     %d %s %s", what, r.path, r.body, held.status, held.body,
					held.header, fresh.status, fresh.body, fresh.header,
				), i
				return
			}
		case known:
			h.expired++
			if was.equal(fresh) {
				h.needless[what+", "+r.kind()]++
				if *oracleTell {
					text, _ := url.QueryUnescape(strings.Replace(r.path, "%s", "", 1))
					o.t.Logf("needless after %s: %s %s\n%s\n%s", what, text, r.body, fresh.body, o.change)
				}
			}
		}
		o.fresh[i] = fresh
		if held.status == http.StatusGatewayTimeout {
			fresh = o.get(r, "")
		}
		o.last[i] = fresh
	}
}

// kind says what may make it hard to tell whether a change matters to the read.
func (r oracleRead) kind() string {
	text, _ := url.QueryUnescape(strings.Replace(r.path, "%s", "", 1) + r.body)
	for _, one := range [][2]string{
		{"now()", "now"},
		{"isPast", "now"},
		{"/paths", "paths"},
		{"/at?", "at"},
		{"offset=", "offset"},
		{"office(", "part"},
		{"name = 'Mella'", "dotted"},
		{"start.", "dotted"},
		{"piers.", "dotted"},
		{"routes.", "dotted"},
		{"piers:{name", "dotted"},
		{"routes:{season", "dotted"},
		{"routes[", "back"},
		{"routes(", "back"},
		{"departures", "back"},
		{"after=", "cursor"},
		{"before=", "cursor"},
		{"filter", "filter"},
		{"sort", "sorted"},
	} {
		if strings.Contains(text, one[0]) {
			return one[1]
		}
	}
	return "plain"
}

// shrink looks for a short history that shows the same failure.
func (h *history) shrink(t *testing.T, failed *oracle) string {
	read := failed.reads[failed.at]
	fails := func(steps []step) (string, bool) {
		o := oracleOf(t, h.first)
		defer o.store.DB.Close()
		defer o.g.Close()
		o.reads = []oracleRead{read}
		again := history{needless: map[string]int{}}
		o.look(&again, "")
		for _, s := range steps {
			if o.take(&again, s); o.failed != "" {
				return o.failed, true
			}
		}
		return "", false
	}
	steps, words := h.steps, failed.failed
	runs := 0
	for size := len(steps) / 2; size > 0; size /= 2 {
		for from := 0; from < len(steps) && runs < *oracleShrink; {
			runs++
			without := slices.Concat(steps[:from], steps[min(from+size, len(steps)):])
			if w, still := fails(without); still {
				steps, words = without, w
			} else {
				from += size
			}
		}
	}
	src, _ := json.MarshalIndent(steps, "", " ")
	return fmt.Sprintf("%s\n%s\n%s", h.first.text(), src, words)
}
