package filter

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"
)

// world is some entries that refer to each other, by id.
type world map[string]*seen

// seen is an entry, of which a filter may see all that it leads to.
type seen struct {
	world  world
	typ    string
	values map[string]any
}

func (s *seen) Value(field string) any { return s.values[field] }

func (s *seen) Enter(step Step) (out []Document) {
	for _, id := range slices.Sorted(func(yield func(string) bool) {
		for id := range s.world {
			if !yield(id) {
				return
			}
		}
	}) {
		other := s.world[id]
		from, to := s, id
		if step.Back {
			from, to = other, s.values["id"].(string)
		}
		if slices.Contains(step.Types, other.typ) && refersTo(from.values[step.Field], to) {
			out = append(out, other)
		}
	}
	return out
}

func refersTo(v any, id string) bool {
	if list, is := v.([]any); is {
		return slices.Contains(list, any(id))
	}
	return v == id
}

// own is what a change tells of an entry.
func (s *seen) own() Document {
	if s == nil {
		return nil
	}
	return Values{ID: s.values["id"].(string), Known: s.values}
}

var (
	worldNow = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	filters  = []string{
		"routes.number = 1", "NOT routes.number = 1", "routes.number > 1 AND severity = 'delay'",
		"routes.piers.name = 'Mella' OR title IS NULL", "NOT (routes.piers.stepFree = TRUE)",
		"routes.slug IS NULL", "title = slug OR routes.slug IS NULL", "routes.start.slug = " +
			"'p1'", "routes.number BETWEEN 1 AND 2 AND NOT severity = 'delay'", "title = 'Fog' OR severity IN " +
			"('delay')",
		"routes.notices.title = 'Ice'", "validUntil > now()", "validUntil <= now() OR routes.number = 2",
		"NOT validUntil > now() AND title = 'Fog'",
		"(routes.number = 1 OR routes.number = 2) AND (title = 'Fog' OR routes.piers.name LIKE 'T%')",
	}
)

func (w world) random(r *rand.Rand, id string) *seen {
	one := func(from ...any) any { return from[r.IntN(len(from))] }
	some := func(from ...any) any {
		var out []any
		for _, i := range r.Perm(len(from))[:r.IntN(len(from))] {
			out = append(out, from[i])
		}
		if out == nil {
			return nil
		}
		return out
	}
	s := &seen{world: w, values: map[string]any{"id": id}}
	switch id[0] {
	case 'p':
		s.typ = "pier"
		s.values["name"], s.values["slug"], s.values["stepFree"] = one(
			"Mella", "Tern Rock", nil,
		), one(
			id, "p1",
		), one(
			true, false, nil,
		)
	case 'r':
		s.typ = "route"
		s.values["slug"], s.values["number"], s.values["piers"], s.values["start"] = one(
			id, nil, "x",
		), one(
			1.0, 2.0, 3.0, nil,
		), some(
			"p1", "p2", "gone",
		), one(
			"p1", "r1", nil,
		)
	default:
		s.typ = "notice"
		s.values["title"], s.values["slug"], s.values["severity"] = one(
			"Fog", "Ice", nil,
		), one(
			"x", "r1",
		), one(
			"delay", "cancelled", nil,
		)
		s.values["routes"], s.values["validUntil"] = some(
			"r1", "r2", "r3",
		), one(
			nil, worldNow.Add(time.Duration(r.IntN(5)-2)*time.Minute).Format(time.RFC3339),
		)
	}
	return s
}

// TestSplitFiltersAgreeWithWhole changes entries of a small world at random. What a
// split filter says by an entry's own values and the truths of its atoms is what the
// whole says that sees everything; what it says must be referenced is; an atom that comes out otherwise because another
// entry changed was turned by that; and what Keeps says is kept, is.
func TestSplitFiltersAgreeWithWhole(t *testing.T) {
	m, r := harbour(t), rand.New(rand.NewPCG(8400, 5))
	var all []*Filter
	for _, src := range filters {
		f, err := Parse(src, m, m.Type("notice"))
		if err != nil {
			t.Fatalf("%s: %v", src, err)
		}
		all = append(all, f)
	}
	ids := []string{"p1", "p2", "r1", "r2", "r3", "n1", "n2", "n3"}
	w := world{}
	type answer struct {
		whole bool
		atoms []truth
	}
	referenced := 0
	look := func() map[string][]answer {
		out := map[string][]answer{}
		for id, n := range w {
			for _, f := range all {
				if n.typ != "notice" {
					continue
				}
				a := answer{whole: f.Match(n, worldNow)}
				split := f.Split()
				for i := range split.Atoms {
					a.atoms = append(a.atoms, evaluation{now: worldNow}.expr(split.Atoms[i].Pred(), n))
				}
				if split.Match(n.own(), worldNow, a.atoms) != a.whole {
					t.Fatalf("%s of %v: split, with atoms of %v, it is not %v", f, n.values, a.atoms, a.whole)
				}
				if step, of, found := f.Referenced(); found && a.whole {
					if referenced++; !slices.ContainsFunc(n.Enter(step), func(d Document) bool {
						return evaluation{now: worldNow}.expr(of, d) == isTrue
					}) {
						t.Fatalf("%s is true of %v, but %s leads to nothing that meets %v", f, n.values, step.Name, of)
					}
				}
				out[id] = append(out[id], a)
			}
		}
		return out
	}
	before := look()
	turned, kept := 0, 0
	for range 4000 {
		id := ids[r.IntN(len(ids))]
		was := w[id]
		if delete(w, id); was == nil || r.IntN(4) > 0 {
			w[id] = w.random(r, id)
			if was != nil && r.IntN(2) == 0 { // only some of it differs
				for field, v := range was.values {
					if r.IntN(3) > 0 {
						w[id].values[field] = v
					}
				}
			}
		}
		is := w[id]
		after := look()
		typ := map[byte]string{'p': "pier", 'r': "route", 'n': "notice"}[id[0]]
		for n, now := range after {
			for k, f := range all {
				split := f.Split()
				if n == id && was != nil {
					for i := range split.Atoms {
						// It may be that it leads back to itself: then it turns its own atoms.
						if split.Atoms[i].Keeps(was.own(), is.own()) &&
							!split.Atoms[i].ChangesBetween(typ, was.own(), is.own(), worldNow) {
							if kept++; before[n][k].atoms[i] != now[k].atoms[i] {
								t.Fatalf(
									"%s of %s was to be kept from %v to %v", &split.Atoms[i], n, was.values,
									is.values,
								)
							}
						}
					}
				}
				if n == id || before[n] == nil {
					continue
				}
				for i := range split.Atoms {
					if before[n][k].atoms[i] == now[k].atoms[i] {
						continue
					}
					if turned++; !split.Atoms[i].ChangesBetween(typ, was.own(), is.own(), worldNow) {
						t.Fatalf(
							"%s of %s came to %d from %d, and is not turned by %s, which was %v and is %v",
							&split.Atoms[i], n, now[k].atoms[i], before[n][k].atoms[i], id, was, is,
						)
					}
				}
			}
		}
		before = after
	}
	if turned < 500 || kept < 500 || referenced < 500 {
		t.Errorf("only %d turned, %d kept and %d referenced: there is too little to look at", turned, kept, referenced)
	}
}

// TestTimeChangesConditionsOnNow holds a filter against itself a minute later: where
// it comes out otherwise, something that it holds against now has been passed, and
// matters.
func TestTimeChangesConditionsOnNow(t *testing.T) {
	m, r := harbour(t), rand.New(rand.NewPCG(8400, 6))
	turned := 0
	for range 400 {
		w := world{}
		for _, id := range []string{"r1", "r2", "n1"} {
			w[id] = w.random(r, id)
		}
		n := w["n1"]
		for _, src := range filters {
			f, _ := Parse(src, m, m.Type("notice"))
			from := worldNow.Add(time.Duration(r.IntN(5)-3) * time.Minute)
			to := from.Add(time.Minute)
			if f.Match(n, from) == f.Match(n, to) {
				continue
			}
			turned++
			passed := slices.ContainsFunc(f.HeldAgainstNow(), func(h TimeTrigger) bool {
				matters := (&Filter{Expr: h.IfTrue}).Match(n, to) != (&Filter{Expr: h.IfFalse}).Match(n, to)
				return matters && slices.ContainsFunc(h.Names, func(name *Name) bool {
					text, _ := n.values[name.Field].(string)
					at, err := time.Parse(time.RFC3339, text)
					return err == nil && !at.Before(from) && !at.After(to)
				})
			})
			if !passed {
				t.Errorf(
					"%s of %v comes out otherwise at %v than at %v, and nothing was passed", f, n.values, to, from,
				)
			}
		}
	}
	if turned < 50 {
		t.Errorf("only %d were turned", turned)
	}
}

// TestReferencePathsLeadToTypes names the ways on which an atom reaches entries.
func TestReferencePathsLeadToTypes(t *testing.T) {
	m := harbour(t)
	f, err := Parse("routes.piers.name = 'Mella' AND routes.start.slug = 'p1' AND title = 'Fog'", m, m.Type("notice"))
	if err != nil {
		t.Fatal(err)
	}
	split := f.Split()
	if len(split.Atoms) != 2 || !f.AsksOthers() {
		t.Fatalf("%d atoms", len(split.Atoms))
	}
	names := func(ways [][]Step) (out []string) {
		for _, way := range ways {
			text := ""
			for _, s := range way {
				text += "." + s.Name
			}
			out = append(out, text)
		}
		return out
	}
	for i := range split.Atoms {
		a := &split.Atoms[i]
		end := map[bool][]string{true: {".routes.piers"}, false: {".routes.start"}}[a.Names[0].Steps[1].Name == "piers"]
		if got := names(a.ReferencePaths("pier")); !reflect.DeepEqual(got, end) {
			t.Errorf("%s leads to piers by %v", a, got)
		}
		want := []string{".routes"}
		if end[0] == ".routes.start" {
			want = append(want, ".routes.start") // a route may begin at another
		}
		if got := names(a.ReferencePaths("route")); !reflect.DeepEqual(got, want) {
			t.Errorf("%s leads to routes by %v", a, got)
		}
		if got := a.ReferencePaths("notice"); got != nil {
			t.Errorf("%s leads to notices by %v", a, names(got))
		}
		if !a.EndsWith(a.ReferencePaths("pier")[0]) || a.EndsWith(a.ReferencePaths("route")[0]) {
			t.Errorf("where %s ends", a)
		}
	}
	if plain, _ := Parse("title = 'Fog'", m, m.Type("notice")); plain.AsksOthers() {
		t.Error("a filter of its own type asks others")
	}
}
