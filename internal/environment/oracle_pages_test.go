package environment_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/store/builds"
	stored "ubiquon/internal/store/pages"
	"ubiquon/internal/testkit"
)

// pagesOracle is a site of which half of the pages are built and half are rendered on demand. It
// remembers every byte that its pages got, and holds what the ledger says of them against what
// their reads give now.
type pagesOracle struct {
	o     *oracle
	r     *rand.Rand
	key   string
	reads [][]int // of each page, by their numbers

	// got is what a page got of a read in a run.
	got     map[string]map[string]map[oracleRead]answered
	renders map[string][]string // of a page on demand, the latest first
	running *rebuild.Build
	left    []int // pages that the running build has not read for yet
	late    []lateRead
	n       int
	said    map[string]bool // which pages the ledger says are stale

	judged, stale, needless, skipped, builds int
}

// lateRead is one that is registered only later.
type lateRead struct {
	stored.Registration
	read oracleRead
}

const (
	oraclePages   = 16
	builtPages    = 8 // the first ones; the others are rendered on demand
	structurePage = 0
)

func pagesOracleOf(o *oracle, seed uint64) *pagesOracle {
	p := &pagesOracle{
		o: o, r: rand.New(rand.NewPCG(seed, 20)), got: map[string]map[string]map[oracleRead]answered{},
		renders: map[string][]string{}, reads: make([][]int, oraclePages),
	}
	var err error
	if _, p.key, err = o.g.Keys.CreateKey(o.t.Context(), access.Key{
		Name: "web", Site: "web", Grants: access.Grants{{Verb: access.Read, Edition: access.Any, Type: access.Any}},
	}, "test"); err != nil {
		o.t.Fatal(err)
	}
	return p
}

func (p *pagesOracle) path(n int) string {
	if n == structurePage {
		return pages.Structure
	}
	return fmt.Sprintf("/page-%d", n)
}

// choose has pages made of other reads; of the published edition.
func (p *pagesOracle) choose(n int) {
	p.reads[n] = nil
	for range 1 + p.r.IntN(4) {
		i := p.r.IntN(len(p.o.reads))
		if strings.Contains(p.o.reads[i].path, "/published/") {
			p.reads[n] = append(p.reads[n], i)
		}
	}
}

// get reads for a page.
func (p *pagesOracle) get(r oracleRead, mark string) answered {
	method, path := http.MethodGet, strings.Replace(r.path, "%s", p.o.g.Replica.Environment(), 1)
	if r.body != "" {
		method = http.MethodPost
	}
	req := httptest.NewRequest(method, path, strings.NewReader(r.body))
	req.Header.Set("Authorization", "Bearer "+p.key)
	req.Header.Set("Content-Type", "application/json")
	if mark != "" {
		req.Header.Set(pages.Header, mark)
	}
	w := httptest.NewRecorder()
	p.o.web.ServeHTTP(w, req)
	return answered{w.Code, w.Body.Bytes(), w.Header()}
}

// read has a page read what it is made of, and remembers it.
func (p *pagesOracle) read(n int, run string, render bool) {
	p.choose(n)
	path, kind := p.path(n), "build"
	if render {
		kind = "render"
	}
	for _, i := range p.reads[n] {
		r := p.o.reads[i]
		mark := fmt.Sprintf("%q; %s=%q", path, kind, run)
		var a answered
		if p.r.IntN(12) == 0 && !render {
			// What it got is registered later, by another node say.
			a = p.get(r, "")
			if a.status < 500 && a.status != 400 {
				p.late = append(p.late, lateRead{p.registration(path, run, r, a), r})
			}
		} else {
			for range 1 + p.r.IntN(2) {
				a = p.get(r, mark)
			}
		}
		if a.status >= 400 && a.status != 404 {
			continue // not an answer
		}
		p.remember(path, run, r, a)
		if render {
			p.rendered(path, run, r)
		}
	}
}

func (p *pagesOracle) remember(path, run string, r oracleRead, a answered) {
	if p.got[path] == nil {
		p.got[path] = map[string]map[oracleRead]answered{}
	}
	if p.got[path][run] == nil {
		p.got[path][run] = map[oracleRead]answered{}
	}
	p.got[path][run][r] = a
}

// rendered keeps of a page on demand the reads of its two latest renders, each as it was last made.
func (p *pagesOracle) rendered(path, run string, r oracleRead) {
	if !slices.Contains(p.renders[path], run) {
		p.renders[path] = append([]string{run}, p.renders[path]...)
	}
	p.renders[path] = p.renders[path][:min(2, len(p.renders[path]))]
	for other := range p.got[path] {
		if !slices.Contains(p.renders[path], other) {
			delete(p.got[path], other)
		} else if other != run {
			delete(p.got[path][other], r)
		}
	}
}

func (p *pagesOracle) registration(path, run string, r oracleRead, a answered) stored.Registration {
	q := query.Request{Address: strings.Replace(r.path, "%s", p.o.g.Replica.Environment(), 1)}
	if r.body != "" {
		q = query.Request{GraphQL: r.body, Edition: "published"}
	}
	sequence, err := strconv.ParseInt(a.header.Get("Ubiquon-Sequence"), 10, 64)
	if err != nil {
		p.o.t.Fatal(err)
	}
	return stored.Registration{
		Mark: pages.Mark{Page: path, Run: run}, Request: q.Text(), Sequence: sequence,
		Answer: delivery.NameOf(&cache.Response{Status: a.status, Content: cache.NewContent(a.body)}),
	}
}

// look lets the site do something, and holds the ledger against the truth.
func (p *pagesOracle) look(what string) {
	p.n++
	p.compare("after " + what)
	for n := builtPages; n < oraclePages; n++ {
		if p.r.IntN(12) == 0 {
			p.read(n, fmt.Sprintf("r%d-%d", p.n, n), true)
		}
	}
	p.build()
	if p.r.IntN(80) == 0 {
		if err := p.o.g.Pages.Restarted(p.o.t.Context(), false); err != nil {
			p.o.t.Fatal(err)
		}
	}
	if len(p.late) > 0 && p.r.IntN(4) == 0 {
		for _, l := range p.late {
			p.o.g.Pages.Note(p.o.t.Context(), "web", l.Registration)
		}
		p.late = nil
	}
}

// build begins a build, goes on with it, or ends it.
func (p *pagesOracle) build() {
	ctx := p.o.t.Context()
	call := &rebuild.Call{Quiet: strictyaml.Duration(time.Nanosecond), AtMost: strictyaml.Duration(time.Nanosecond)}
	switch {
	case p.running == nil && p.r.IntN(2) == 0:
		if _, err := p.o.store.Builds.Request(ctx, "web", []rebuild.Cause{{What: "published"}}, p.o.g.Replica.Applied(),
			true); err != nil {
			p.o.t.Fatal(err)
		}
		testkit.Eventually(p.o.t, "it is known what is to be built", func() bool {
			b, _, err := p.o.store.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call})
			if err != nil {
				p.o.t.Fatal(err)
			}
			p.running = b
			return b != nil || p.wasSkipped()
		})
		if p.running == nil {
			p.skipped++
			p.compare("after a build was skipped")
			for n := range builtPages {
				if p.said[p.path(n)] {
					p.o.t.Fatalf("a build was skipped though the page %q is stale", p.path(n))
				}
			}
			return
		}
		p.builds++
		for n := range builtPages {
			if p.running.Pages.IsAll() || slices.Contains(p.running.Pages, p.path(n)) {
				p.left = append(p.left, n)
			}
		}
	case p.running != nil:
		some := min(len(p.left), 1+p.r.IntN(8))
		for _, n := range p.left[:some] {
			p.read(n, p.running.ID, false)
		}
		if p.left = p.left[some:]; len(p.left) > 0 {
			return
		}
		report := builds.Report{State: rebuild.Finished}
		if p.r.IntN(5) == 0 {
			report = builds.Report{State: rebuild.Failed, Error: "it leaked"}
		}
		if _, err := p.o.g.Automation.ReportBuild(ctx, p.running.ID, report); err != nil {
			p.o.t.Fatal(err)
		}
		p.ended(report.State == rebuild.Finished)
	}
}

// wasSkipped tells whether the last build was not made; nothing may be stale then.
func (p *pagesOracle) wasSkipped() bool {
	all, err := p.o.store.Builds.List(p.o.t.Context(), api.BuildFilter{Site: "web", Limit: 1})
	return err == nil && len(all) == 1 && all[0].State == rebuild.Skipped
}

// ended does what becomes of a build's reads when it has ended.
func (p *pagesOracle) ended(good bool) {
	b := p.running
	p.running = nil
	for n := range builtPages {
		path := p.path(n)
		if !good {
			delete(p.got[path], b.ID)
			continue
		}
		if !b.Pages.IsAll() && !slices.Contains(b.Pages, path) {
			continue
		}
		for run := range p.got[path] {
			if run != b.ID {
				delete(p.got[path], run)
			}
		}
	}
	if !good {
		p.late = slices.DeleteFunc(p.late, func(l lateRead) bool { return l.Run == b.ID })
	}
}

// compare holds what the ledger says against the bytes.
func (p *pagesOracle) compare(what string) {
	if len(p.got) == 0 {
		return
	}
	p.listen()
	for path := range p.got {
		r, differs := p.differs(path, p.now)
		if differs != "" && !p.said[path] &&
			(strings.Contains(r.path, "now%28") || strings.Contains(r.body, "isPast")) {
			// What speaks of now may be another by now, and is looked at again at that moment.
			testkit.Eventually(p.o.t, "the moment passes for "+path, func() bool {
				p.listen()
				_, differs = p.differs(
					path,
					func(r oracleRead) (answered, bool) { return p.o.get(r, "no-store"), true },
				)
				return (differs != "") == p.said[path]
			})
		}
		p.judged++
		switch {
		case differs != "" && !p.said[path]:
			p.o.t.Fatalf("%s, a page is stale and not said to be: %s", what, differs)
		case differs != "":
			p.stale++
		case p.said[path]:
			p.needless++
			if *oracleTell {
				p.o.t.Logf("needless: %s %v", path, p.got[path])
			}
		}
	}
}

// listen takes up what the ledger says once it knows of everything.
func (p *pagesOracle) listen() {
	ctx := p.o.t.Context()
	head, err := p.o.store.Changes.Head(ctx)
	if err != nil {
		p.o.t.Fatal(err)
	}
	var all api.SitePages
	testkit.Eventually(p.o.t, "the ledger knows", func() bool {
		if all, err = p.o.g.Pages.List(ctx, api.PageFilter{Site: "web", Limit: 1000}); err != nil {
			p.o.t.Fatal(err)
		}
		return all.Ledger.Position >= head.Sequence && all.Ledger.Unjudged == 0
	})
	p.said = map[string]bool{pages.Structure: all.Ledger.Structure}
	for _, page := range all.Items {
		p.said[page.Page] = page.StaleSince != nil
	}
}

// differs returns a read of a page that gives something else now than the page got, and says what.
func (p *pagesOracle) differs(path string, now func(oracleRead) (answered, bool)) (which oracleRead, what string) {
	for run, reads := range p.got[path] {
		for r, was := range reads {
			late := slices.ContainsFunc(p.late, func(l lateRead) bool {
				return l.Page == path && l.Run == run && l.read == r
			})
			is, known := now(r)
			if known && !late && (was.status != is.status || string(was.body) != string(is.body)) {
				return r, fmt.Sprintf("%s in %s read %s %s\nand got %d %s\nnow    %d %s", path, run, r.path, r.body,
					was.status, was.body, is.status, is.body)
			}
		}
	}
	return oracleRead{}, ""
}

// now is what a read gives.
func (p *pagesOracle) now(r oracleRead) (answered, bool) {
	for i, one := range p.o.reads {
		if one == r {
			a, known := p.o.fresh[i]
			return a, known
		}
	}
	return p.o.get(r, "no-store"), true
}

// tell says what was seen.
func (p *pagesOracle) tell() {
	p.o.t.Logf("pages: judged %d times, %d times stale, %d needlessly (%.2f %%); %d builds, %d skipped",
		p.judged, p.stale, p.needless, 100*float64(p.needless)/float64(max(1, p.stale)), p.builds, p.skipped)
	if *oracleChanges >= 500 && (p.stale < 500 || p.builds < 10 || p.needless*50 > p.stale) {
		p.o.t.Errorf("pages: too little was seen, or too much was said to be stale")
	}
}
