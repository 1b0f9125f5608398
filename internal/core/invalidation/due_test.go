package invalidation

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
)

var eight = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)

// after is so many seconds after eight.
func after(seconds int) time.Time { return eight.Add(time.Duration(seconds) * time.Second) }

func notices(t *testing.T) *model.Model {
	t.Helper()
	m, err := model.Read(map[string][]byte{"m.yaml": []byte(`
locales: {en: {}}
types:
  notice: {fields: {title: {kind: text}, until: {kind: datetime}, urgent: {kind: boolean}, routes: {kind: reference, types: [route], several: true, inverse: notices}}}
  route:  {fields: {title: {kind: text}, number: {kind: integer}}}
`)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func parse(t *testing.T, m *model.Model, typ, text string) *filter.Filter {
	t.Helper()
	f, err := filter.Parse(text, m, m.Type(typ))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// passes makes the change of a notice that passes the present at other triggers; -1 is
// never, and -2 is no notice.
func passes(sequence int64, entry string, was, is int) *Delta {
	c := &Delta{Change: content.Change{
		Kind:     content.ContentChange,
		Sequence: sequence,
		Commit:   sequence,
		At:       eight,
		Edition:  "published",
		Entry:    entry,
		Type:     "notice",
		Fields:   map[string][]string{"en": {"until"}},
		Before:   map[string]content.Fields{},
		After:    map[string]content.Fields{},
	}}
	for at, side := range map[int]map[string]content.Fields{was: c.Before, is: c.After} {
		if at == -2 {
			continue
		}
		side["en"] = content.Fields{"title": "M " + entry, "about.own": true}
		if at >= 0 {
			side["en"]["until"] = after(at).Format(time.RFC3339)
		}
	}
	if was == is {
		c.After = c.Before
	}
	return c
}

// TestDeadlinesFollowWhoSetsThem has a list that shows its first entry, and whose
// deadline is set by others behind it: when these change, it moves.
func TestDeadlinesFollowWhoSetsThem(t *testing.T) {
	m := notices(t)
	order := []Sort{{By: "title", Kind: model.Text}}
	title := "A first"
	l := List{
		Type:         "notice",
		Locale:       "en",
		Filter:       parse(t, m, "notice", "until > now() OR urgent = TRUE"),
		Sort:         order,
		Window:       Window{Limit: 1, Beyond: 3, AsOf: 5, Rows: []SortKey{NewSortKey(order, []*string{&title}, "first")}},
		TimeTriggers: TimeTriggers{List: []TimeTrigger{{after(10), "a"}, {after(20), "b"}}, Until: after(100)},
	}
	x := NewIndex[string]()
	h := x.Add("it", &Set{Edition: "published", Lists: []List{l}, Deadline: after(10)})
	for _, c := range []struct {
		what   string
		change *Delta
		want   int // seconds after eight; -1 for none, 0 for unmoved
	}{
		{"a change that was read already", passes(5, "a", 10, 40), 0},
		{"the first gets a later moment", passes(6, "a", 10, 40), 20},
		{"one comes that is earlier", passes(7, "c", -2, 5), 5},
		{"it goes", passes(8, "c", 5, -2), 20},
		{"the second has none any more", passes(9, "b", 20, -1), 40},
		{"one that is passed", passes(10, "d", -2, -1), 0},
		{"the last is later than what is known", passes(11, "a", 40, 300), 100},
	} {
		if got := x.Simulate(c.change); len(got) != 0 {
			t.Errorf("%s: it is affected", c.what)
		}
		hit, moved := x.Match(c.change)
		if len(hit) != 0 {
			t.Errorf("%s: it is affected", c.what)
		}
		want := 0
		if c.want != 0 {
			want = 1
		}
		if len(moved) != want {
			t.Errorf("%s: moved %v", c.what, moved)
		} else if want == 1 && (moved[0].Subscriber != "it" || !moved[0].Deadline.Equal(after(c.want))) {
			t.Errorf("%s: it ends at %v, want %v", c.what, moved[0].Deadline, after(c.want))
		}
	}
	if got := x.Set(h).Deadline; !got.Equal(after(100)) {
		t.Errorf("in the end it ends at %v", got)
	}
	// A list of which all triggers are known may come to have none.
	l.TimeTriggers = TimeTriggers{List: []TimeTrigger{{after(10), "a"}}}
	y := NewIndex[string]()
	h = y.Add("it", &Set{Edition: "published", Lists: []List{l}, Deadline: after(10)})
	if _, moved := y.Match(passes(6, "a", 10, -1)); len(moved) != 1 || !moved[0].Deadline.IsZero() ||
		len(y.dues) != 0 {
		t.Errorf("moved %v, dues %v", moved, y.dues)
	}
	if _, moved := y.Match(passes(7, "b", -2, 30)); len(moved) != 1 || !moved[0].Deadline.Equal(after(30)) {
		t.Errorf("one comes: %v", moved)
	}
	if y.Remove(h); y.Len() != 0 || len(y.dues) != 0 || y.Bytes() > 4*firstChains {
		t.Errorf("something is left: %d, %v, %d bytes", y.Len(), y.dues, y.Bytes())
	}
}

// TestEarlierTimeTriggerMatters asks of one change by itself.
func TestEarlierTimeTriggerMatters(t *testing.T) {
	m := notices(t)
	list := List{
		Type:   "notice",
		Locale: "en",
		Filter: parse(t, m, "notice", "until > now() OR urgent = TRUE"),
		Sort:   byTitle,
		Window: Window{Limit: 3},
	}
	for what, c := range map[string]struct {
		change *Delta
		want   bool
	}{
		"before the deadline":    {passes(6, "a", 40, 5), true},
		"after it":               {passes(6, "a", 40, 15), false},
		"never":                  {passes(6, "a", -1, -1), false},
		"what passed long since": {passes(6, "a", -2, -1), false},
	} {
		set := &Set{Edition: "published", Lists: []List{list}, Deadline: after(10)}
		set.Lists[0].Window.Limit = 0
		if got := set.Affected(c.change); got != c.want {
			t.Errorf("%s: affected is %t", what, got)
		}
	}
}

// TestPredicateProbes names what has to be known of entries before a change of one is
// matched.
func TestPredicateProbes(t *testing.T) {
	m := notices(t)
	x := NewIndex[string]()
	number := parse(t, m, "notice", "routes.number > 3")
	x.Add(
		"dotted",
		&Set{
			Edition: "published",
			Lists:   []List{{Type: "notice", Locale: "en", Filter: number, Sort: byTitle, Window: Window{Limit: 1}}},
		},
	)
	x.Add(
		"plain",
		&Set{
			Edition: "published",
			Lists: []List{
				{
					Type:   "notice",
					Locale: "en",
					Filter: parse(t, m, "notice", "urgent = TRUE"),
					Sort:   byTitle,
					Window: Window{Limit: 1},
				},
			},
		},
	)
	route := func(was, is float64) *Delta {
		return &Delta{Change: content.Change{
			Kind:    content.ContentChange,
			Edition: "published",
			Entry:   "r1",
			Type:    "route",
			At:      eight,
			Fields:  map[string][]string{"en": {"number"}},
			Before: map[string]content.Fields{
				"en": {"number": was},
			},
			After: map[string]content.Fields{"en": {"number": is}},
		}}
	}
	atom := number.Split().Atoms[0].String()
	for what, c := range map[string]struct {
		change *Delta
		want   string
	}{
		"a notice comes":            {passes(6, "a", -2, -1), "en: " + atom},
		"a notice goes":             {passes(6, "a", -1, -2), ""},
		"a number turns the filter": {route(3, 4), "en by notice.routes: " + atom},
		"a number does not":         {route(4, 5), ""},
		"a change of access":        {&Delta{Change: content.Change{Kind: content.AccessChange}}, ""},
		"something of another locale": {&Delta{Change: content.Change{
			Kind: content.ContentChange, Edition: "published",
			Type: "notice", Fields: map[string][]string{"nb": {"title"}},
		}}, ""},
	} {
		var got []string
		for _, a := range x.Probes(c.change) {
			text := a.Locale
			if a.Key != "" {
				text += " by " + a.Key
			}
			got = append(got, text+": "+strings.Join(a.Texts, ", "))
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: asks %q, want %q", what, got, c.want)
		}
	}
	// Without the answer everybody may be affected; with it, who is.
	turned := route(3, 4)
	if got, _ := x.Match(turned); !slices.Equal(got, []string{"dotted"}) {
		t.Errorf("without an answer: %v", got)
	}
	turned.Referrers = map[string]map[string][]Referrer{"en": {"notice.routes": nil}}
	if got, _ := x.Match(turned); len(got) != 0 {
		t.Errorf("no notice leads there, and yet: %v", got)
	}
}

// TestCachedResponsesAreRestored adds sets and finds in the index what they were, and how
// people are told of windows.
func TestCachedResponsesAreRestored(t *testing.T) {
	x := NewIndex[int]()
	title := "A"
	set := &Set{
		Edition: "preview",
		Entries: []Entry{{ID: "a", Locale: "en", Fields: []string{"title"}}, {ID: "b", Locale: "nb"}},
		Lookups: []Lookup{
			{Type: "pier", Locale: "en", Slug: "mella"}, {Locale: "nb", Path: "/ruter/ring", Found: true},
		},
		Lists: []List{
			{
				Type:   "pier",
				Locale: "en",
				Sort:   byTitle,
				Window: Window{
					Limit:      2,
					Offset:     1,
					Rows:       []SortKey{NewSortKey(byTitle, []*string{&title}, "a")},
					StatesSize: true,
				},
			},
		},
		Uses: []Use{{Type: "pier", Locale: "en", Fields: []string{"title"}}},
	}
	h := x.Add(1, set)
	if got := x.Set(h); !reflect.DeepEqual(got.Entries, set.Entries) || !reflect.DeepEqual(got.Uses, set.Uses) ||
		got.Edition != "preview" ||
		len(got.Lists) != 1 ||
		!reflect.DeepEqual(got.Lists[0].Window, set.Lists[0].Window) {
		t.Errorf("it is held as %+v", got)
	}
	found := x.Set(h).Lookups
	slices.SortFunc(found, func(a, b Lookup) int { return strings.Compare(a.Locale, b.Locale) })
	if !reflect.DeepEqual(found, set.Lookups) {
		t.Errorf("lookups are held as %+v", found)
	}
	if !reflect.DeepEqual(x.Reading("preview", "a", "en"), []int{1}) || x.Reading("published", "a", "en") != nil ||
		!reflect.DeepEqual(x.Uses(h), set.Uses) {
		t.Error("who reads an entry, and by which types")
	}
	src, err := json.Marshal(set.Lists[0].Window)
	if want := `{"offset":1,"limit":2,"tells":true,"rows":0}`; err != nil || string(src) != want {
		t.Errorf("a window is told as %s, %v", src, err)
	}
	var back Window
	if err := json.Unmarshal([]byte(`{"offset":1,"limit":2,"rows":2}`), &back); err != nil ||
		len(back.shown(back.Rows)) != 2 ||
		back.Limit != 2 {
		t.Errorf("it comes back as %+v, %v", back, err)
	}
	one := x.Bytes()
	other := x.Add(2, set)
	if two := x.Bytes(); two-one > one/2 {
		t.Errorf("one takes %d bytes, and two of the same %d", one, two)
	}
	x.Remove(h)
	x.Remove(h) // twice is once
	x.Remove(0)
	if x.Remove(other); x.Len() != 0 || len(x.Set(h).Entries) != 0 || x.Uses(h) != nil || set.Size() < 100 {
		t.Errorf("%d are left", x.Len())
	}
}

// TestEntryReferringToItself has a notice go from a route, where it made another one a
// member of a list, to one where somebody else makes it a member. On its way to itself
// it is not counted a second time, so that the other's leaving would not show.
func TestEntryReferringToItself(t *testing.T) {
	m := notices(t)
	order := []Sort{{By: "title", Kind: model.Text}}
	l := List{
		Type:   "notice",
		Locale: "en",
		Filter: parse(t, m, "notice", "routes.notices.urgent = TRUE"),
		Sort:   order,
		Count:  true,
		Window: Window{Beyond: 30, Ends: true},
	}
	place := func(id, title string) SortKey { return NewSortKey(order, []*string{&title}, id) }
	l.Window.Rows = []SortKey{place("n1", "Fog"), place("n2", "Ice"), place("n3", "Swell")}
	atom := l.Filter.Split().Atoms[0].String()
	values := func(title, route string, urgent bool) content.Fields {
		return content.Fields{"title": title, "routes": []any{route}, "urgent": urgent, "about.own": true}
	}
	is := func(member bool) map[string]int8 {
		if member {
			return map[string]int8{atom: int8(filter.True)}
		}
		return map[string]int8{atom: int8(filter.False)}
	}
	for what, c := range map[string]struct {
		after  content.Fields
		self   bool // n1 is a member after the change
		others bool // n2 is
		want   []string
	}{
		"it takes another's reason away, and has one itself": {
			values("Zander", "r2", false), true, false,
			[]string{"counted"},
		},
		"it has no reason itself any more": {
			values("Fog", "r2", false), false, true,
			[]string{"counted"},
		},
		"nobody's reason is another": {values("Zander", "r2", true), true, true, nil},
	} {
		x := NewIndex[string]()
		x.Add("counted", &Set{Edition: "published", Lists: []List{l}})
		change := &Delta{
			Change: content.Change{
				Kind:     content.ContentChange,
				Sequence: 9,
				Commit:   9,
				At:       eight,
				Edition:  "published",
				Entry:    "n1",
				Type:     "notice",
				Fields:   map[string][]string{"en": {"routes", "title", "urgent"}},
				Before: map[string]content.Fields{
					"en": values("Fog", "r1", true),
				},
				After: map[string]content.Fields{"en": c.after},
			},
			PredicateValues: map[string]map[string]int8{"en": is(c.self)},
			Referrers: map[string]map[string][]Referrer{"en": {"notice.routes.notices": {
				{
					ID:              "n1",
					Values:          c.after,
					PredicateValues: is(c.self),
				},
				{ID: "n2", Values: values("Ice", "r1", false), PredicateValues: is(c.others)},
				{ID: "n3", Values: values("Swell", "r2", true), PredicateValues: is(true)},
			}}},
		}
		if got, _ := x.Match(change); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v is found", what, got)
		}
	}
}

// TestReadBetweenChangesOfABatch has an answer read after the first of some changes that
// are told of together: the first makes a notice a member of a list, the second takes that
// back. What is told of conditions is as of the second; the answer, which shows the
// notice, must end by it.
func TestReadBetweenChangesOfABatch(t *testing.T) {
	m := notices(t)
	order := []Sort{{By: "title", Kind: model.Text}}
	title := "Fog"
	l := List{
		Type:   "notice",
		Locale: "en",
		Filter: parse(t, m, "notice", "routes.number > 3"),
		Sort:   order,
		Window: Window{
			Limit:  5,
			Beyond: 3,
			Ends:   true,
			AsOf:   10,
			Rows:   []SortKey{NewSortKey(order, []*string{&title}, "n1")},
		},
	}
	atom := l.Filter.Split().Atoms[0].String()
	not := map[string]int8{atom: int8(filter.False)}
	number := func(sequence int64, was, is float64) *Delta {
		return &Delta{
			Change: content.Change{
				Kind:     content.ContentChange,
				Sequence: sequence,
				Commit:   sequence,
				At:       eight,
				Edition:  "published",
				Entry:    "r1",
				Type:     "route",
				Fields:   map[string][]string{"en": {"number"}},
				Before: map[string]content.Fields{
					"en": {"number": was},
				},
				After: map[string]content.Fields{"en": {"number": is}},
			}, ReadAt: 11, OthersChanged: true,
			Referrers: map[string]map[string][]Referrer{
				"en": {
					"notice.routes": {
						{
							ID:              "n1",
							Values:          content.Fields{"title": "Fog", "routes": []any{"r1"}},
							PredicateValues: not,
							Others:          not,
						},
					},
				},
			},
		}
	}
	x := NewIndex[string]()
	x.Add("it", &Set{Edition: "published", Lists: []List{l}})
	x.Match(number(10, 1, 5)) // it knows of that
	if got, _ := x.Match(number(11, 5, 1)); !slices.Equal(got, []string{"it"}) {
		t.Errorf("the second finds %v", got)
	}
}
