package invalidation

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

// changed makes a change of entry e of type t in locale en: what differs, and
// the slug before and after ("-" for no document).
func changed(e, t string, fields []string, before, after string) *Delta {
	c := &Delta{Change: content.Change{
		Kind:    content.ContentChange,
		Edition: "published",
		Entry:   e,
		Type:    t,
		Fields:  map[string][]string{"en": fields},
		Before:  map[string]content.Fields{},
		After:   map[string]content.Fields{},
	}}
	if before != "-" {
		c.Before["en"] = content.Fields{"slug": before}
	}
	if after != "-" {
		c.After["en"] = content.Fields{"slug": after}
	}
	return c
}

func TestAffected(t *testing.T) {
	entry := &Set{
		Edition: "published",
		Entries: []Entry{{ID: "a", Locale: "en", Fields: []string{"about.path", "title"}}},
	}
	absent := &Set{Edition: "published", Entries: []Entry{{ID: "a", Locale: "en"}}}
	lookup := &Set{Edition: "published", Lookups: []Lookup{{Type: "pier", Locale: "en", Slug: "mella"}}}
	list := &Set{
		Edition: "published",
		Lists: []List{
			{
				Type:   "pier",
				Locale: "en",
				Sort:   byTitle,
				Window: Window{Limit: 20, Rows: []SortKey{NewSortKey(byTitle, []*string{nil}, "b")}},
			},
		},
	}
	other := func(c *Delta, f func(*Delta)) *Delta { f(c); return c }
	for name, c := range map[string]struct {
		set  *Set
		c    *Delta
		want bool
	}{
		"a field that was read":           {entry, changed("a", "pier", []string{"title"}, "x", "x"), true},
		"a field that was not read":       {entry, changed("a", "pier", []string{"lead"}, "x", "x"), false},
		"what is said about it, read":     {entry, changed("a", "pier", []string{"about.path"}, "x", "x"), true},
		"what is said about it, not read": {entry, changed("a", "pier", []string{"about.updated"}, "x", "x"), false},
		"another entry":                   {entry, changed("b", "pier", []string{"title"}, "x", "x"), false},
		"the entry goes":                  {entry, changed("a", "pier", []string{"lead"}, "x", "-"), true},
		"another edition": {
			entry,
			other(changed("a", "pier", []string{"title"}, "x", "x"),
				func(c *Delta) { c.Edition = "preview" }), false,
		},
		"another locale": {
			entry,
			other(changed("a", "pier", nil, "x", "x"),
				func(c *Delta) { c.Fields = map[string][]string{"nb": {"title"}} }), false,
		},
		"a model change":                    {entry, &Delta{Change: content.Change{Kind: content.ModelChange}}, true},
		"a change of access":                {entry, &Delta{Change: content.Change{Kind: content.AccessChange}}, false},
		"what was missing comes":            {absent, changed("a", "pier", []string{"title"}, "-", "x"), true},
		"what was missing changes unseen":   {absent, changed("a", "pier", []string{"title"}, "x", "x"), false},
		"the slug looked for appears":       {lookup, changed("a", "pier", []string{"slug"}, "-", "mella"), true},
		"the slug looked for is given up":   {lookup, changed("a", "pier", []string{"slug"}, "mella", "other"), true},
		"another slug":                      {lookup, changed("a", "pier", []string{"slug"}, "x", "y"), false},
		"the slug stays, the title differs": {lookup, changed("a", "pier", []string{"title"}, "mella", "mella"), false},
		"the slug in another type":          {lookup, changed("a", "route", []string{"slug"}, "-", "mella"), false},
		"an entry joins the list":           {list, changed("b", "pier", []string{"title"}, "-", "x"), true},
		"an entry leaves the list":          {list, changed("b", "pier", []string{"title"}, "x", "-"), true},
		"an entry keeps its place":          {list, changed("b", "pier", []string{"title"}, "x", "x"), false},
		"an entry of the list changes":      {list, changed("b", "pier", []string{"lead"}, "x", "x"), false},
		"an entry of another type joins":    {list, changed("b", "route", []string{"title"}, "-", "x"), false},
	} {
		if got := c.set.Affected(c.c); got != c.want {
			t.Errorf("%s: affected is %t", name, got)
		}
	}
}

var byTitle = []Sort{{By: "title", Kind: model.Text}}

// TestIndexAgreesWithFullScan holds the index against the obvious
// way: to ask every set.
// TestFormerPathsAskForLives tells whether somebody who was at a path before lives
// elsewhere now: whether it is there at all does not matter to who asks only that.
func TestFormerPathsAskForLives(t *testing.T) {
	at := func(path string) map[string]content.Fields {
		switch path {
		case "gone":
			return nil
		case "":
			return map[string]content.Fields{"en": {"title": "A"}}
		}
		return map[string]content.Fields{"en": {"title": "A", "about.path": path}}
	}
	for _, c := range []struct {
		was, is string
		want    [3]bool // by Lives alone, by Lives and the title, by the document
	}{
		{"gone", "", [3]bool{false, true, true}},
		{"", "gone", [3]bool{false, true, true}},
		{"gone", "/a", [3]bool{true, true, true}},
		{"/a", "/b", [3]bool{true, true, false}},
		{"/a", "", [3]bool{true, true, false}},
		{"/a", "/a", [3]bool{}},
	} {
		change := &Delta{Change: content.Change{
			Kind:    content.ContentChange,
			Edition: "published",
			Entry:   "e",
			Type:    "page",
			Fields:  map[string][]string{"en": {}},
			Before:  at(c.was),
			After:   at(c.is),
		}}
		x := NewIndex[int]()
		for i, fields := range [][]string{{PathExists}, {PathExists, "title"}, nil} {
			set := &Set{Edition: "published", Entries: []Entry{{ID: "e", Locale: "en", Fields: fields}}}
			x.Add(i, set)
			if got := set.Affected(change); got != c.want[i] {
				t.Errorf("from %q to %q, %v: %v", c.was, c.is, fields, got)
			}
		}
		found, _ := x.Match(change)
		for i, want := range c.want {
			if slices.Contains(found, i) != want {
				t.Errorf("from %q to %q the index finds %v", c.was, c.is, found)
			}
		}
	}
}

func TestIndexAgreesWithFullScan(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 1))
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	ids := []string{"a", "b", "c", "d", "e"}
	names := []string{"lead", "slug", "title"}
	m := testModel(t)
	filters := []*filter.Filter{nil}
	for _, text := range []string{"title = 'x'", "title IN ('x', 'y') AND NOT lead = 'y'", "A_CONTAINS(refs, " +
		"('a'))", "above.title = 'x'", "refs.lead = 'y' OR title = 'z'", "id = 'a'"} {
		f, err := filter.Parse(text, m, m.Type("pier"))
		if err != nil {
			t.Fatal(err)
		}
		filters = append(filters, f)
	}
	randomSet := func() *Set {
		s := &Set{Edition: pick("published", "preview")}
		for range r.IntN(4) {
			var fields []string
			for _, n := range names {
				if r.IntN(2) == 0 {
					fields = append(fields, n)
				}
			}
			s.Entries = append(s.Entries, Entry{ID: pick(ids...), Locale: pick("en", "nb"), Fields: fields})
		}
		for range r.IntN(2) {
			s.Lookups = append(
				s.Lookups, Lookup{Type: pick("pier", "route"), Locale: pick("en", "nb"), Slug: pick("x", "y", "z")},
			)
		}
		for range r.IntN(2) {
			l := List{
				Type:   "pier",
				Locale: pick("en", "nb"),
				Sort:   byTitle,
				Filter: filters[r.IntN(len(filters))],
				Count:  r.IntN(4) == 0,
				Window: Window{Limit: r.IntN(3), Beyond: r.IntN(5), StatesSize: r.IntN(2) == 0},
			}
			if r.IntN(3) == 0 {
				l.Field, l.Target = "refs", pick(ids...)
			}
			for _, id := range ids[:r.IntN(l.Window.Limit+1)] {
				title := pick("x", "y", "z")
				l.Window.Rows = append(l.Window.Rows, NewSortKey(byTitle, []*string{&title}, id))
			}
			slices.Sort(l.Window.Rows)
			s.Lists = append(s.Lists, l)
		}
		return s
	}
	index := NewIndex[int]()
	sets, handles := map[int]*Set{}, map[int]Handle{}
	hits, followed := 0, 0
	for step := range 20000 {
		switch r.IntN(3) {
		case 0:
			sets[step] = randomSet()
			handles[step] = index.Add(step, sets[step])
		case 1:
			for s := range sets {
				index.Remove(handles[s])
				delete(sets, s)
				break
			}
		default:
			c := &Delta{Change: content.Change{
				Kind:    content.ContentChange,
				Edition: pick("published", "preview"),
				Entry:   pick(ids...),
				Type:    pick("pier", "route"),
				Fields:  map[string][]string{},
				Before:  map[string]content.Fields{},
				After:   map[string]content.Fields{},
			}}
			values := func() content.Fields {
				if r.IntN(4) == 0 {
					return nil
				}
				return content.Fields{
					"slug":  pick("x", "y", "z"),
					"title": pick("x", "y", "z"),
					"lead":  pick("x", "y"),
					"above": pick(ids...),
					"refs":  []any{pick(ids...), pick(ids...)},
				}
			}
			for _, l := range []string{"en", "nb"} {
				was, is := values(), values()
				if was == nil && is == nil {
					continue
				}
				for _, name := range []string{"above", "lead", "refs", "slug", "title"} {
					if was == nil || is == nil || !reflect.DeepEqual(was[name], is[name]) {
						c.Fields[l] = append(c.Fields[l], name)
					}
				}
				if was != nil {
					c.Before[l] = was
				}
				if is != nil {
					c.After[l] = is
				}
			}
			got, _ := index.Match(c)
			for s, set := range sets {
				plain := *set
				plain.Lists = nil
				switch found := slices.Contains(got, s); {
				case found && !set.Affected(c):
					t.Fatalf("step %d: the index finds %+v, for %+v", step, set, c)
				case !found && plain.Affected(c):
					t.Fatalf("step %d: the index does not find %+v, for %+v", step, set, c)
				case !found && set.Affected(c):
					followed++ // its window shows the same, but is another one now
					index.Remove(handles[s])
					delete(sets, s)
				case found:
					hits++
				}
			}
			for _, s := range got { // they have expired
				if !reflect.DeepEqual(len(index.Set(handles[s]).Lists), len(sets[s].Lists)) {
					t.Fatalf("%+v is remembered as %+v", sets[s], index.Set(handles[s]))
				}
				index.Remove(handles[s])
				delete(sets, s)
			}
		}
		if index.Len() != len(sets) {
			t.Fatalf("step %d: %d subscribers, want %d", step, index.Len(), len(sets))
		}
	}
	if followed == 0 || followed*10 > hits {
		t.Errorf("%d windows were followed, and %d subscribers found", followed, hits)
	}
	for s := range maps.Clone(sets) {
		index.Remove(handles[s])
	}
	if left := fmt.Sprint(index.found.entered, len(index.lists), index.subs.len(), index.groups.len(),
		index.fields.all.len(), index.uses.all.len(), index.searches.len(), index.windows.len(),
		index.members.words, index.bytes); left != "0 0 0 0 0 0 0 0 0 0" {
		t.Errorf("something is left behind: %s", left)
	}
}

func testModel(t *testing.T) *model.Model {
	t.Helper()
	m, err := model.Read(map[string][]byte{"m.yaml": []byte(`
locales: {en: {}, nb: {}}
types:
  pier:
    fields:
      title: {kind: text}
      slug: {kind: slug}
      lead: {kind: text}
      n: {kind: integer}
      above: {kind: reference, types: [route]}
      refs: {kind: reference, types: [route], several: true, inverse: piers}
  route: {fields: {title: {kind: text}, lead: {kind: text}}}
`)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestWindowsExactly lets the entries of a short list change, one after another or some
// in one commit, and holds what is called affected against what a window shows before
// and after. To suppose a commit finds the same, and changes nothing.
func TestWindowsExactly(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 7))
	m := testModel(t)
	f, err := filter.Parse("lead = 'x'", m, m.Type("pier"))
	if err != nil {
		t.Fatal(err)
	}
	type entry = content.Fields
	random := func() entry {
		e := entry{"lead": []string{"x", "x", "y"}[r.IntN(3)]}
		if r.IntN(6) > 0 {
			e["n"] = float64(r.IntN(8))
		}
		return e
	}
	ids := []string{"a", "b", "c", "d", "e", "f", "g"}
	needless, affected, kept := 0, 0, 0
	for range 8000 {
		l := List{
			Type:   "pier",
			Locale: "en",
			Filter: f,
			Sort:   []Sort{{By: "n", Kind: model.Integer, Descending: r.IntN(2) == 0}},
			Count:  r.IntN(5) == 0,
			Window: Window{
				Limit:      1 + r.IntN(3),
				Beyond:     r.IntN(5),
				FromEnd:    r.IntN(3) == 0,
				StatesSize: r.IntN(2) == 0,
				Cursors:    Cursors(r.IntN(3)),
			},
		}
		all := map[string]entry{}
		for _, id := range ids {
			if r.IntN(4) > 0 {
				all[id] = random()
			}
		}
		skip := 0
		switch r.IntN(4) {
		case 0:
			l.Window.After = sortKeyIn(l.Sort, random(), "m")
			l.Window.FromEnd = false
		case 1:
			l.Window.Before = sortKeyIn(l.Sort, random(), "m")
			l.Window.FromEnd = true
		case 2:
			skip, l.Window.FromEnd = 1+r.IntN(3), false
		}
		unknown := r.IntN(4) == 0 // who is skipped
		// read makes the window of how things are, and says what it shows.
		read := func() string {
			w := &l.Window
			var in, past []SortKey
			total := 0
			for id, e := range all {
				if p := sortKeyIn(l.Sort, e, id); e["lead"] == "x" {
					total++
					if (w.After == "" || p > w.After) && (w.Before == "" || p < w.Before) {
						in = append(in, p)
					}
				}
			}
			slices.Sort(in)
			ahead, shown := in[:min(skip, len(in))], in[min(skip, len(in)):]
			n := len(shown)
			if w.Ends = n <= w.Limit+2; w.FromEnd {
				past, shown = shown[:max(0, n-w.Limit)], shown[max(0, n-w.Limit):]
				w.Rows = slices.Concat(past[max(0, len(past)-2):], shown)
			} else {
				shown, past = shown[:min(n, w.Limit)], shown[min(n, w.Limit):]
				w.Rows = slices.Concat(shown, past[:min(len(past), 2)])
			}
			if w.Offset, w.Skipped = 0, skip > 0 && unknown; skip > 0 && !unknown {
				w.Offset, w.Rows = skip, slices.Concat(ahead, w.Rows)
			}
			var out strings.Builder
			for i, p := range shown {
				out.WriteString(p.id() + " ")
				if w.Cursors.of(i, len(shown)) {
					fmt.Fprintf(&out, "%q ", p)
				}
			}
			if l.Count {
				fmt.Fprint(&out, total)
			}
			if w.StatesSize {
				fmt.Fprint(&out, len(past) > 0)
			}
			return out.String()
		}
		shows := read()
		x := NewIndex[string]()
		x.Add("s", &Set{Edition: "published", Lists: []List{l}})
		for step := range 12 {
			var commit []*Delta
			for _, i := range r.Perm(len(ids))[:1+r.IntN(4)/3*r.IntN(4)] {
				id := ids[i]
				was, had := all[id]
				c := &Delta{Change: content.Change{
					Kind:     content.ContentChange,
					Sequence: int64(step*10 + len(commit)),
					Commit:   int64(step),
					Edition:  "published",
					Entry:    id,
					Type:     "pier",
					Fields:   map[string][]string{"en": {"lead", "n"}},
					Before:   map[string]content.Fields{},
					After:    map[string]content.Fields{},
				}}
				if had {
					c.Before["en"] = was
				}
				if delete(all, id); !had || r.IntN(3) > 0 {
					all[id] = random()
					c.After["en"] = all[id]
				}
				commit = append(commit, c)
			}
			set := &Set{Edition: "published", Lists: []List{l}}
			now := read()
			supposed := len(x.Simulate(commit...)) + len(x.Simulate(commit...))
			hit, _ := x.Match(commit...)
			if len(hit) == 0 && now != shows ||
				step == 0 && now != shows && !slices.ContainsFunc(commit, set.Affected) {
				t.Fatalf("%+v\nshowed %s, then %s, and is not affected by %+v", l.Window, shows, now, commit)
			}
			if supposed != 2*len(hit) {
				t.Fatalf("of %d found %d were supposed, twice: %+v", len(hit), supposed, commit)
			}
			if len(hit) == 0 {
				kept++
				continue
			}
			affected++
			if now == shows {
				needless++
			}
			break
		}
	}
	t.Logf("%d kept, %d affected, of these %d although nothing else is shown", kept, affected, needless)
	if needless*40 > affected {
		t.Error("too many are affected that show the same")
	}
}

func TestModelChangeAffectsItsUsers(t *testing.T) {
	x := NewIndex[string]()
	for name, u := range map[string]Use{
		"titles": {Type: "pier", Locale: "en", Fields: []string{"title"}},
		"leads":  {Type: "pier", Locale: "nb", Fields: []string{"lead"}}, "routes": {Type: "route", Locale: "en"},
		"anything": {Locale: "en"},
	} {
		x.Add(name, &Set{Edition: "published", Uses: []Use{u}})
	}
	for want, touched := range map[string]map[string][]string{
		"anything titles":              {"*": {"pier.title"}, "nb": {"pier.title"}},
		"leads":                        {"nb": {"pier"}},
		"anything":                     {"*": {"fare"}},
		"anything leads routes titles": nil,
		"anything routes titles":       {"en": {"*"}},
	} {
		got := x.Using(&Delta{Change: content.Change{Kind: content.ModelChange, Fields: touched}})
		if slices.Sort(got); strings.Join(got, " ") != want {
			t.Errorf("%v touches %v, not %s", touched, got, want)
		}
	}
}

func BenchmarkMatch(b *testing.B) {
	index := NewIndex[int]()
	for i := range 100_000 {
		set := &Set{Edition: "published"}
		for j := range 12 {
			set.Entries = append(
				set.Entries, Entry{ID: fmt.Sprint(i%10_000*12 + j), Locale: "en", Fields: []string{"title"}},
			)
		}
		index.Add(i, set)
	}
	c := changed("77", "pier", []string{"title"}, "x", "x")
	b.ReportAllocs()
	for b.Loop() {
		if got, _ := index.Match(c); len(got) != 10 {
			b.Fatal("not ten")
		}
	}
}

func TestBackReferencesAndPaths(t *testing.T) {
	change := func(before, after content.Fields, differing ...string) *Delta {
		c := &Delta{Change: content.Change{
			Kind:    content.ContentChange,
			Edition: "published",
			Entry:   "n1",
			Type:    "notice",
			Fields:  map[string][]string{"en": differing},
			Before:  map[string]content.Fields{},
			After:   map[string]content.Fields{},
		}}
		if before != nil {
			c.Before["en"] = before
		}
		if after != nil {
			c.After["en"] = after
		}
		return c
	}
	refs := func(ids ...any) content.Fields { return content.Fields{"routes": ids, "title": "T"} }
	back := &Set{
		Edition: "published",
		Lists: []List{
			{Type: "notice", Locale: "en", Field: "routes", Target: "r1", Sort: byTitle, Window: Window{Limit: 3}},
		},
	}
	single := &Set{
		Edition: "published",
		Lists:   []List{{Type: "notice", Locale: "en", Field: "above", Target: "r1", Window: Window{Limit: 3}}},
	}
	path := &Set{Edition: "published", Lookups: []Lookup{{Locale: "en", Path: "/a"}}}
	at := func(p string) content.Fields { return content.Fields{"about.path": p} }
	for name, c := range map[string]struct {
		set  *Set
		c    *Delta
		want bool
	}{
		"one that refers comes":              {back, change(nil, refs("r1"), "routes", "title"), true},
		"one that refers goes":               {back, change(refs("r2", "r1"), nil, "routes", "title"), true},
		"one that refers elsewhere comes":    {back, change(nil, refs("r2"), "routes", "title"), false},
		"one begins to refer":                {back, change(refs("r2"), refs("r2", "r1"), "routes"), true},
		"another that sorts otherwise":       {back, change(refs("r2"), refs("r2"), "title"), false},
		"a single reference":                 {single, change(nil, content.Fields{"above": "r1"}, "above"), true},
		"an entry comes to live at the path": {path, change(nil, at("/a"), "about.path"), true},
		"an entry moves away from the path":  {path, change(at("/a"), at("/b"), "about.path"), true},
		"an entry at the path changes":       {path, change(at("/a"), at("/a"), "title"), false},
		"an entry moves elsewhere":           {path, change(at("/c"), at("/d"), "about.path"), false},
	} {
		if got := c.set.Affected(c.c); got != c.want {
			t.Errorf("%s: affected is %t", name, got)
		}
		x := NewIndex[string]()
		h := x.Add("s", c.set)
		if got, _ := x.Match(c.c); (len(got) == 1) != c.want {
			t.Errorf("%s: the index finds it is %v", name, got)
		}
		x.Remove(h)
		if got, _ := x.Match(c.c); len(got) != 0 || x.Len() != 0 || len(x.lists)+x.found.entered != 0 {
			t.Errorf("%s: something is left after its removal", name)
		}
	}
}

// TestTwoChangesFlipOneCondition has two entries come that both make a condition of
// a third true: neither alone does, as things are after both.
func TestTwoChangesFlipOneCondition(t *testing.T) {
	m := testModel(t)
	f, err := filter.Parse("piers.lead = 'x'", m, m.Type("route"))
	if err != nil {
		t.Fatal(err)
	}
	l := List{
		Type:   "route",
		Locale: "en",
		Filter: f,
		Sort:   byTitle,
		Count:  true,
		Window: Window{Limit: 1, Rows: []SortKey{sortKeyIn(byTitle, content.Fields{"title": "A"}, "r0")}},
	}
	atom := l.Filter.Split().Atoms[0].String()
	yes := map[string]int8{atom: int8(filter.True)}
	for _, together := range []bool{true, false} {
		c := &Delta{
			Change: content.Change{
				Kind:     content.ContentChange,
				Sequence: 2,
				Edition:  "published",
				Entry:    "p1",
				Type:     "pier",
				Fields:   map[string][]string{"en": {"about.own", "lead", "refs"}},
				After:    map[string]content.Fields{"en": {"lead": "x", "refs": []any{"r1"}}},
			}, OthersChanged: together,
			Referrers: map[string]map[string][]Referrer{
				"en": {"route.piers": {{
					ID: "r1", Values: content.Fields{"title": "Z"}, PredicateValues: yes,
					Others: yes,
				}}},
			},
		}
		if got := (&Set{Edition: "published", Lists: []List{l}}).Affected(c); got != together {
			t.Errorf("with another change beside it %t: affected is %t", together, got)
		}
	}
}

// TestExpiryUsesNetEffectOfCommit has one entry come and another go in one commit: their number
// stays, and so does whoever shows nothing but that.
func TestExpiryUsesNetEffectOfCommit(t *testing.T) {
	l := List{Type: "pier", Locale: "en", Sort: byTitle, Count: true}
	x := NewIndex[string]()
	x.Add("counted", &Set{Edition: "published", Lists: []List{l}})
	comes, goes := changed(
		"a", "pier", []string{"about.own", "slug"}, "-", "x",
	), changed(
		"b", "pier", []string{"about.own", "slug"}, "y", "-",
	)
	for _, c := range []struct {
		commit []*Delta
		want   int
	}{
		{[]*Delta{comes, goes}, 0},
		{[]*Delta{goes, comes}, 0},
		{[]*Delta{comes}, 1},
		{[]*Delta{goes}, 1},
		{nil, 0},
	} {
		if got := x.Simulate(c.commit...); len(got) != c.want {
			t.Errorf("%d changes at once: %v is found", len(c.commit), got)
		}
	}
	// One after the other they do matter.
	first, _ := x.Match(comes)
	second, _ := x.Match(goes)
	if len(first) != 1 || len(second) != 1 {
		t.Errorf("one after the other: %v, %v", first, second)
	}
}
