package depend

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"ubiquon/internal/core/content"
)

// changed makes a change of entry e of type t in locale en: what differs, and
// the slug before and after ("-" for no document).
func changed(e, t string, fields []string, before, after string) *content.Change {
	c := &content.Change{Kind: content.ContentChange, Edition: "published", Entry: e, Type: t, Fields: map[string][]string{"en": fields},
		Before: map[string]content.Fields{}, After: map[string]content.Fields{}}
	if before != "-" {
		c.Before["en"] = content.Fields{"slug": before}
	}
	if after != "-" {
		c.After["en"] = content.Fields{"slug": after}
	}
	return c
}

func TestAffected(t *testing.T) {
	entry := &Set{Edition: "published", Entries: []Entry{{ID: "a", Locale: "en", Fields: []string{"about.path", "title"}}}}
	absent := &Set{Edition: "published", Entries: []Entry{{ID: "a", Locale: "en"}}}
	lookup := &Set{Edition: "published", Lookups: []Lookup{{Type: "pier", Locale: "en", Slug: "mella"}}}
	list := &Set{Edition: "published", Lists: []List{{Type: "pier", Locale: "en", Sort: []string{"title"}}}}
	other := func(c *content.Change, f func(*content.Change)) *content.Change { f(c); return c }
	for name, c := range map[string]struct {
		set  *Set
		c    *content.Change
		want bool
	}{
		"a field that was read":             {entry, changed("a", "pier", []string{"title"}, "x", "x"), true},
		"a field that was not read":         {entry, changed("a", "pier", []string{"lead"}, "x", "x"), false},
		"what is said about it, read":       {entry, changed("a", "pier", []string{"about.path"}, "x", "x"), true},
		"what is said about it, not read":   {entry, changed("a", "pier", []string{"about.updated"}, "x", "x"), false},
		"another entry":                     {entry, changed("b", "pier", []string{"title"}, "x", "x"), false},
		"the entry goes":                    {entry, changed("a", "pier", []string{"lead"}, "x", "-"), true},
		"another edition":                   {entry, other(changed("a", "pier", []string{"title"}, "x", "x"), func(c *content.Change) { c.Edition = "preview" }), false},
		"another locale":                    {entry, other(changed("a", "pier", nil, "x", "x"), func(c *content.Change) { c.Fields = map[string][]string{"nb": {"title"}} }), false},
		"a model change":                    {entry, &content.Change{Kind: content.ModelChange}, true},
		"a change of access":                {entry, &content.Change{Kind: content.AccessChange}, false},
		"what was missing comes":            {absent, changed("a", "pier", []string{"title"}, "-", "x"), true},
		"what was missing changes unseen":   {absent, changed("a", "pier", []string{"title"}, "x", "x"), false},
		"the slug looked for appears":       {lookup, changed("a", "pier", []string{"slug"}, "-", "mella"), true},
		"the slug looked for is given up":   {lookup, changed("a", "pier", []string{"slug"}, "mella", "other"), true},
		"another slug":                      {lookup, changed("a", "pier", []string{"slug"}, "x", "y"), false},
		"the slug stays, the title differs": {lookup, changed("a", "pier", []string{"title"}, "mella", "mella"), false},
		"the slug in another type":          {lookup, changed("a", "route", []string{"slug"}, "-", "mella"), false},
		"an entry joins the list":           {list, changed("b", "pier", []string{"title"}, "-", "x"), true},
		"an entry leaves the list":          {list, changed("b", "pier", []string{"title"}, "x", "-"), true},
		"an entry may move in the list":     {list, changed("b", "pier", []string{"title"}, "x", "x"), true},
		"an entry of the list changes":      {list, changed("b", "pier", []string{"lead"}, "x", "x"), false},
		"an entry of another type joins":    {list, changed("b", "route", []string{"title"}, "-", "x"), false},
	} {
		if got := c.set.Affected(c.c); got != c.want {
			t.Errorf("%s: affected is %t", name, got)
		}
	}
}

// TestIndexFindsWhatAskingEverybodyFinds holds the index against the obvious
// way: to ask every set.
func TestIndexFindsWhatAskingEverybodyFinds(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 1))
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	ids := []string{"a", "b", "c", "d", "e"}
	names := []string{"lead", "slug", "title"}
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
			s.Lookups = append(s.Lookups, Lookup{Type: pick("pier", "route"), Locale: pick("en", "nb"), Slug: pick("x", "y", "z")})
		}
		for range r.IntN(2) {
			s.Lists = append(s.Lists, List{Type: pick("pier", "route"), Locale: pick("en", "nb"), Sort: []string{pick(names...)}})
		}
		return s
	}
	index := NewIndex[int]()
	sets := map[int]*Set{}
	for step := range 6000 {
		switch r.IntN(3) {
		case 0:
			sets[step] = randomSet()
			index.Add(step, sets[step])
		case 1:
			for s := range sets {
				index.Remove(s)
				index.Remove(s)
				delete(sets, s)
				break
			}
		default:
			c := &content.Change{Kind: content.ContentChange, Edition: pick("published", "preview"), Entry: pick(ids...), Type: pick("pier", "route"),
				Fields: map[string][]string{}, Before: map[string]content.Fields{}, After: map[string]content.Fields{}}
			if r.IntN(40) == 0 {
				c = &content.Change{Kind: content.ModelChange}
			}
			for _, l := range []string{"en", "nb"} {
				was, is := pick("-", "x", "y", "z"), pick("-", "x", "y", "z")
				if was == "-" && is == "-" || c.Fields == nil {
					continue
				}
				c.Fields[l] = []string{pick(names...)}
				if was != is {
					c.Fields[l] = names
				}
				if was != "-" {
					c.Before[l] = content.Fields{"slug": was}
				}
				if is != "-" {
					c.After[l] = content.Fields{"slug": is}
				}
			}
			var want []int
			for s, set := range sets {
				if set.Affected(c) {
					want = append(want, s)
				}
			}
			got := index.Match(c)
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Fatalf("step %d: the index finds %v, asking everybody %v, for %+v", step, got, want, c)
			}
		}
		if index.Len() != len(sets) {
			t.Fatalf("step %d: %d subscribers, want %d", step, index.Len(), len(sets))
		}
	}
	for s := range maps.Clone(sets) {
		index.Remove(s)
	}
	if left := fmt.Sprint(len(index.entries), len(index.lookups), len(index.lists)); left != "0 0 0" {
		t.Errorf("postings are left behind: %s", left)
	}
}

func BenchmarkMatch(b *testing.B) {
	index := NewIndex[int]()
	for i := range 100_000 {
		set := &Set{Edition: "published"}
		for j := range 12 {
			set.Entries = append(set.Entries, Entry{ID: fmt.Sprint(i%10_000*12 + j), Locale: "en", Fields: []string{"title"}})
		}
		index.Add(i, set)
	}
	c := changed("77", "pier", []string{"title"}, "x", "x")
	b.ReportAllocs()
	for b.Loop() {
		if len(index.Match(c)) != 10 {
			b.Fatal("not ten")
		}
	}
}

func TestBackReferencesAndPaths(t *testing.T) {
	change := func(before, after content.Fields, differing ...string) *content.Change {
		c := &content.Change{Kind: content.ContentChange, Edition: "published", Entry: "n1", Type: "notice", Fields: map[string][]string{"en": differing},
			Before: map[string]content.Fields{}, After: map[string]content.Fields{}}
		if before != nil {
			c.Before["en"] = before
		}
		if after != nil {
			c.After["en"] = after
		}
		return c
	}
	refs := func(ids ...any) content.Fields { return content.Fields{"routes": ids, "title": "T"} }
	back := &Set{Edition: "published", Backs: []Back{{Type: "notice", Locale: "en", Field: "routes", Target: "r1", Sort: []string{"title"}}}}
	single := &Set{Edition: "published", Backs: []Back{{Type: "notice", Locale: "en", Field: "above", Target: "r1"}}}
	path := &Set{Edition: "published", Lookups: []Lookup{{Locale: "en", Path: "/a"}}}
	at := func(p string) content.Fields { return content.Fields{"about.path": p} }
	for name, c := range map[string]struct {
		set  *Set
		c    *content.Change
		want bool
	}{
		"one that refers comes":              {back, change(nil, refs("r1"), "routes", "title"), true},
		"one that refers goes":               {back, change(refs("r2", "r1"), nil, "routes", "title"), true},
		"one that refers elsewhere comes":    {back, change(nil, refs("r2"), "routes", "title"), false},
		"one begins to refer":                {back, change(refs("r2"), refs("r2", "r1"), "routes"), true},
		"one that refers sorts otherwise":    {back, change(refs("r1"), refs("r1"), "title"), true},
		"one that refers changes otherwise":  {back, change(refs("r1"), refs("r1"), "text"), false},
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
		x.Add("s", c.set)
		if got := len(x.Match(c.c)) == 1; got != c.want {
			t.Errorf("%s: the index finds it is %t", name, got)
		}
		if x.Remove("s"); len(x.Match(c.c)) != 0 || x.Len() != 0 || len(x.backs)+len(x.paths) != 0 {
			t.Errorf("%s: something is left after its removal", name)
		}
	}
}
