package depend

import (
	"encoding/json"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
)

// List is one read of entries of a type in some order: those for which all of it
// is true, as far as the window shows.
type List struct {
	Type   string `json:"type"`
	Locale string `json:"locale"`
	// Field and Target, for a way back: only entries whose field refers to the target.
	Field  string `json:"field,omitempty"`
	Target string `json:"target,omitempty"`
	// Filter, and whether those that are only filled in from a fallback are left out.
	Filter     *filter.Filter `json:"filter,omitempty"`
	Translated bool           `json:"translated,omitempty"`
	// Paths says that it lists where entries live, of those that live somewhere.
	Paths bool   `json:"paths,omitempty"`
	Sort  []Sort `json:"sort,omitempty"`
	// Count says that the response tells how many there are in all.
	Count  bool   `json:"count,omitempty"`
	Window Window `json:"window"`
	// Moments are those of a filter that speaks of now.
	Moments Moments `json:"-"`
}

// Window is the part of a list that a response shows.
type Window struct {
	// After and Before are the places of a cursor, both excluded.
	After  Place `json:"-"`
	Before Place `json:"-"`
	// Rows are places of members without a gap, in the list's order: of those that are
	// shown, of those that were skipped before them, and of some past them.
	Rows []Place `json:"-"`
	// Offset is how many of the rows were skipped, and Limit how many could be shown.
	Offset int `json:"offset,omitempty"`
	Limit  int `json:"limit"`
	// Beyond is how many rows past what is shown are kept.
	Beyond int `json:"-"`
	// FromEnd says that the list was read from its end, or backwards from Before: the
	// last rows are shown.
	FromEnd bool `json:"fromEnd,omitempty"`
	// Skipped says that entries before the first row were skipped that nobody knows.
	Skipped bool `json:"skipped,omitempty"`
	// Ends says that there are no more in the direction in which it was read.
	Ends bool `json:"ends,omitempty"`
	// Tells says that the response tells whether there are more than are shown.
	Tells bool `json:"tells,omitempty"`
	// Cursors are the rows whose places themselves are shown.
	Cursors Cursors `json:"-"`
	// AsOf is the sequence that it was read at, if that may be ahead of the changes
	// that it is held against.
	AsOf int64 `json:"-"`

	followed bool // it is not any more what it was made as, but goes along with the list
	lost     bool // it could not be followed
}

// Cursors says of which rows a response shows the places.
type Cursors uint8

// The rows whose places may be shown.
const (
	CursorFirst Cursors = 1 << iota
	CursorLast
	CursorAll
)

// possible is a set of pairs of truths: whether an entry was a member of a list,
// and whether it is one now.
type possible uint8

func pair(was, is bool) possible {
	n := 0
	if was {
		n += 2
	}
	if is {
		n++
	}
	return 1 << n
}

const never = possible(1) // neither was nor is

// template is what lists have in common that differ in their windows.
type template struct {
	*List
	split *filter.Split
	held  []held
	// reads are the fields of its own type by which it finds and orders entries.
	reads []string
}

func newTemplate(l *List) template {
	t := template{List: l, reads: []string{"about.own", "about.locales"}}
	for _, s := range l.Sort {
		t.reads = append(t.reads, s.By)
	}
	if l.Field != "" {
		t.reads = append(t.reads, l.Field)
	}
	if l.Filter != nil {
		t.split = l.Filter.Split()
		for _, r := range l.Filter.Reads() {
			t.reads = append(t.reads, r.Fields...) // those of other types do no harm
		}
		for _, h := range l.Filter.HeldAgainstNow() {
			one := held{ifTrue: (&filter.Filter{Expr: h.IfTrue}).Split(), ifFalse: (&filter.Filter{Expr: h.IfFalse}).Split()}
			for _, n := range h.Names {
				if len(n.Steps) == 0 {
					one.fields = append(one.fields, n.Field)
				}
			}
			t.held = append(t.held, one)
		}
	}
	return t
}

// key writes what the lists of a template have in common.
func (l *List) key(edition string) string {
	var b strings.Builder
	for _, s := range []string{edition, l.Locale, l.Type, l.Field, l.Target} {
		b.WriteString(s)
		b.WriteByte(0)
	}
	if l.Filter != nil {
		b.WriteString(l.Filter.String())
	}
	b.WriteByte(0)
	for _, s := range l.Sort {
		if s.Descending {
			b.WriteByte('-')
		}
		b.WriteString(s.By + " " + string(s.Kind) + ",")
	}
	for _, is := range []bool{l.Translated, l.Paths, l.Count} {
		b.WriteString(strconv.FormatBool(is)[:1])
	}
	return b.String()
}

// step is one entry's change as one locale sees it.
type step struct {
	id            string
	typ           string
	before, after content.Fields // nil for no document
	differing     []string
	dotted        map[string]int8
	led           map[string][]content.Led
	// turned is the type of an entry that changed, if that is not this one.
	turned string
	mixed  bool
	// was is what atoms came to before that changed.
	was      map[string]filter.Truth3
	now      time.Time
	sequence int64
}

func stepOf(c *content.Change, locale string) (step, bool) {
	differing, touched := c.Fields[locale]
	if !touched {
		return step{}, false
	}
	s := step{id: c.Entry, typ: c.Type, before: c.Before[locale], after: c.After[locale], differing: differing, dotted: c.Dotted[locale], led: c.Led[locale], mixed: c.Mixed, now: c.At, sequence: c.Sequence}
	return s, true
}

func (s *step) differs(name string) bool { return slices.Contains(s.differing, name) }

func (s *step) values(f content.Fields) filter.Document {
	if f == nil {
		return nil
	}
	return filter.Values{ID: s.id, Known: f}
}

// member tells whether all but the filter is true of the entry.
func (t *template) member(values content.Fields) bool {
	switch {
	case values == nil:
		return false
	case t.Field != "" && !refers(values[t.Field], t.Target):
		return false
	case (t.Translated || t.Paths) && values["about.own"] != true:
		return false
	case t.Paths && values["about.path"] == nil:
		return false
	}
	return true
}

// maxTries bounds how many truths of atoms are tried: beyond that anything is
// taken to be possible.
const maxTries = 81

// concerns tells whether anything differs of the entry by which the list finds and
// orders entries.
func (t *template) concerns(s *step) bool {
	return (s.before == nil) != (s.after == nil) || s.mixed && t.split != nil && len(t.split.Atoms) > 0 || slices.ContainsFunc(t.reads, s.differs)
}

// memberships says whether the entry may have been a member and may be one now.
func (t *template) memberships(s *step) possible {
	was, is := t.member(s.before), t.member(s.after)
	if t.split == nil || !was && !is {
		return pair(was, is)
	}
	before, after := s.values(s.before), s.values(s.after)
	if len(t.split.Atoms) == 0 {
		return pair(was && t.split.Match(before, s.now, nil), is && t.split.Match(after, s.now, nil))
	}
	// Each atom has a truth before and one after, which are the same where the
	// entry's own change cannot have turned it. Where other entries have changed at the
	// same time, one change alone may seem to make no difference because of another.
	tries := make([]try, 0, len(t.split.Atoms))
	n := 1
	for i := range t.split.Atoms {
		a := &t.split.Atoms[i]
		truths := a.Truths()
		one := try{now: truths}
		if truth, known := s.dotted[a.String()]; known {
			one.now = []filter.Truth3{filter.Truth3(truth)}
		}
		if n *= len(one.now); was && (s.mixed || s.turned != "" && a.Ways(s.turned) != nil || s.turned == "" && (!is || !a.Keeps(before, after))) {
			one.before = truths
			if truth, known := s.was[a.String()]; known && !s.mixed {
				one.before = []filter.Truth3{truth}
			}
			n *= len(one.before)
		}
		tries = append(tries, one)
	}
	if n > maxTries {
		return pair(false, false) | pair(true, false) | pair(false, true) | pair(true, true)
	}
	var out possible
	b, a := make([]filter.Truth3, len(tries)), make([]filter.Truth3, len(tries))
	for i := range n {
		for k, one := range tries {
			a[k] = one.now[i%len(one.now)]
			i /= len(one.now)
			if b[k] = a[k]; one.before != nil {
				b[k] = one.before[i%len(one.before)]
				i /= len(one.before)
			}
		}
		out |= pair(was && t.split.Match(before, s.now, b), is && t.split.Match(after, s.now, a))
	}
	return out
}

// try is what an atom may have come to; before is nil if that is as now.
type try struct{ now, before []filter.Truth3 }

// turned returns the ways on which entries lead to this one for which the filter
// may come out otherwise now.
func (t *template) turned(s *step) [][]filter.Step {
	if t.split == nil {
		return nil
	}
	var out [][]filter.Step
	for i := range t.split.Atoms {
		if a := &t.split.Atoms[i]; a.Turns(s.typ, s.values(s.before), s.values(s.after), s.now) {
			out = append(out, a.Ways(s.typ)...)
		}
	}
	return out
}

// wayKey names a way from entries of a type.
func wayKey(typ string, way []filter.Step) string {
	for _, s := range way {
		typ += "." + s.Name
	}
	return typ
}

// before finds what the atoms came to, for an entry that leads to one that changed:
// what others make of it, and what the one that changed made of it.
func (t *template) before(s *step, l *content.Led, way []filter.Step) map[string]filter.Truth3 {
	out := map[string]filter.Truth3{}
	if len(way) != 1 {
		return out
	}
	for i := range t.split.Atoms {
		a := &t.split.Atoms[i]
		others, known := l.Others[a.String()]
		if !known || !a.EndsWith(way) {
			continue
		}
		led := s.before != nil && (!way[0].Back || refers(s.before[way[0].Field], l.ID))
		out[a.String()] = filter.Truth3(others)
		if led && a.AtEnd(s.values(s.before), s.now) == filter.True {
			out[a.String()] = filter.True
		}
	}
	return out
}

// leading returns, as steps of their own, the entries that lead to this one on ways
// that were turned; known is false if somebody would have to look for them.
func (t *template) leading(s *step, ways [][]filter.Step) (out []step, known bool) {
	for _, way := range ways {
		led, known := s.led[wayKey(t.Type, way)]
		if !known {
			return nil, false
		}
		for _, l := range led {
			out = append(out, step{id: l.ID, typ: t.Type, before: l.Values, after: l.Values, dotted: l.Dotted, turned: s.typ, mixed: s.mixed, was: t.before(s, &l, way), now: s.now, sequence: s.sequence})
		}
	}
	return out, true
}

// watches lists the types of the entries that turns is to be asked for.
func (t *template) watches() []string {
	var out []string
	if t.split == nil {
		return nil
	}
	for _, a := range t.split.Atoms {
		for _, n := range a.Names {
			for _, s := range n.Steps {
				out = append(out, s.Types...)
			}
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// crosses returns when the entry, as it is now, passes the present in a property
// that the filter holds against it, where that makes a difference; zero for never.
func (t *template) crosses(s *step) (first time.Time) {
	if len(t.held) == 0 || s.turned != "" || !t.member(s.after) {
		return first
	}
	after := s.values(s.after)
	for _, h := range t.held {
		if len(h.ifTrue.Atoms) == 0 && h.ifTrue.Match(after, s.now, nil) == h.ifFalse.Match(after, s.now, nil) {
			continue
		}
		for _, field := range h.fields {
			v, _ := s.after[field].(string)
			if at, err := time.Parse(time.RFC3339, v); err == nil && !at.Before(s.now) && (first.IsZero() || at.Before(first)) {
				first = at
			}
		}
	}
	return first
}

// held is a condition that the passing of time turns: on which fields, and the
// filter with it true and false.
type held struct {
	fields          []string
	ifTrue, ifFalse *filter.Split
}

// shownOfPaths are the fields of a listed path that a response shows.
var shownOfPaths = []string{"about.updated", "about.path"}

// weigh says what the entry may have been and may be to the list, and where it stood
// and stands; matters is false if no window can tell the difference.
func (t *template) weigh(s *step, p *places) (may possible, was, is Place, matters bool) {
	if s.turned == "" && !t.Paths && !t.concerns(s) {
		return never, "", "", false
	}
	if may = t.memberships(s); may == never {
		return never, "", "", false
	}
	was, is = p.of(t, s)
	// Where it was, and as much of a member: only what is shown of a path can differ.
	return may, was, is, was != is || may&^(never|pair(true, true)) != 0 || t.Paths
}

// places remembers the places of one entry in the orders of lists.
type places []struct {
	order   []Sort
	was, is Place
}

func (p *places) of(t *template, s *step) (was, is Place) {
	for _, held := range *p {
		if slices.Equal(held.order, t.Sort) {
			return held.was, held.is
		}
	}
	if s.before != nil {
		was = placeIn(t.Sort, s.before, s.id)
	}
	if s.after != nil {
		is = placeIn(t.Sort, s.after, s.id)
	}
	*p = append(*p, struct {
		order   []Sort
		was, is Place
	}{t.Sort, was, is})
	return was, is
}

// outcome is what comes of a window when an entry changes.
type outcome struct {
	rows []Place
	ends bool
	lost bool // nobody can tell what the window shows
	// shows says that it shows something else, whatever its rows are.
	shows bool
	more  int // so many more entries are in the list
}

// outcome finds out what the window comes to, now that an entry was at one place, if a
// member, and is at another.
func (t *template) outcome(w *Window, may possible, s *step, was, is Place) outcome {
	lost := outcome{rows: w.Rows, ends: w.Ends, lost: true}
	switch {
	case w.lost:
		return lost
	case w.among(s, was):
		may &= pair(true, false) | pair(true, true)
	case was != "" && w.holds(was):
		may &= pair(false, false) | pair(false, true)
	}
	if w.Skipped && may&^never != 0 {
		// Nobody knows who is before the first row: only that no one may come or go there.
		before := func(p Place) bool { return len(w.Rows) == 0 || p < w.Rows[0] }
		for _, m := range memberships {
			if may&pair(m.was, m.is) != 0 && (m.was && before(was)) != (m.is && before(is)) {
				return lost
			}
		}
	}
	var out outcome
	tried := 0
	for _, m := range memberships {
		if may&pair(m.was, m.is) == 0 {
			continue
		}
		more := 0
		if m.was != m.is {
			if more = -1; m.is {
				more = 1
			}
		}
		rows, ends := w.with(s, m.is, was, is)
		if tried++; tried > 1 {
			if ends != out.ends || !slices.Equal(rows, out.rows) {
				return lost // one of them is so
			}
			out.shows = out.shows || t.Count && more != out.more
		}
		out.rows, out.ends, out.more = rows, ends, more
		out.shows = out.shows || t.Paths && m.was && m.is && slices.ContainsFunc(shownOfPaths, s.differs) && has(w.shown(rows), s.id)
	}
	if tried == 0 || !w.enough(out.rows, out.ends) {
		return lost
	}
	return out
}

// leaves tells whether the outcome leaves the list as it was, as far as the window
// knows it.
func (o *outcome) leaves(w *Window) bool {
	return !o.lost && !o.shows && o.more == 0 && o.ends == w.Ends && slices.Equal(o.rows, w.Rows)
}

// memberships are what may be true of an entry: whether it was a member, and is one.
var memberships = [4]struct{ was, is bool }{{false, false}, {false, true}, {true, false}, {true, true}}

// among tells whether the entry is one of the rows. Where it was is where the row is,
// unless its place is told as of later.
func (w *Window) among(s *step, was Place) bool {
	if _, is := slices.BinarySearch(w.Rows, was); is {
		return true
	}
	return w.elsewhere(s) && has(w.Rows, s.id)
}

// elsewhere tells whether the entry's row may stand where it came to be later.
func (w *Window) elsewhere(s *step) bool {
	return s.turned != "" || s.mixed || s.sequence <= w.AsOf
}

// with returns the rows, and whether nobody is beyond them, with an entry at a place
// if it is a member, and nowhere else.
func (w *Window) with(s *step, member bool, was, is Place) ([]Place, bool) {
	member = member && w.holds(is)
	i, there := slices.BinarySearch(w.Rows, was)
	switch {
	case !there && w.elsewhere(s):
		i = slices.IndexFunc(w.Rows, func(p Place) bool { return p.isOf(s.id) })
	case !there:
		i = -1
	}
	if i < 0 && !member || i >= 0 && member && w.Rows[i] == is {
		return w.Rows, w.Ends
	}
	out := make([]Place, 0, len(w.Rows)+1)
	out = append(out, w.Rows...)
	if i >= 0 {
		out = slices.Delete(out, i, i+1)
	}
	if member {
		i, _ = slices.BinarySearch(out, is)
		out = slices.Insert(out, i, is)
	}
	if len(out) <= max(w.Offset+w.Limit+w.Beyond, len(w.Rows)) {
		return out, w.Ends
	}
	if w.FromEnd {
		return out[1:], false
	}
	return out[:len(out)-1], false
}

// has tells whether one of the rows is the entry's.
func has(rows []Place, id string) bool {
	return slices.ContainsFunc(rows, func(p Place) bool { return p.isOf(id) })
}

// shown is the part of the rows that the window would show.
func (w *Window) shown(all []Place) []Place {
	if w.FromEnd {
		return all[max(0, len(all)-w.Limit):]
	}
	from := min(w.Offset, len(all))
	return all[from:min(from+w.Limit, len(all))]
}

// more tells whether the rows go on past what is shown.
func (w *Window) more(all []Place, ends bool) bool { return !ends || len(all) > w.Offset+w.Limit }

// enough tells whether so many rows are known that it can be told what is shown.
func (w *Window) enough(all []Place, ends bool) bool {
	n := w.Offset + w.Limit
	if w.Tells {
		n++
	}
	return ends || len(all) >= n
}

// alike tells whether a response says the same with other rows.
func (w *Window) alike(all []Place, ends bool) bool {
	was, is := w.shown(w.Rows), w.shown(all)
	if len(was) != len(is) || w.Tells && w.more(w.Rows, w.Ends) != w.more(all, ends) {
		return false
	}
	for i := range was {
		if was[i] != is[i] && (w.Cursors.of(i, len(was)) || !is[i].isOf(was[i].id())) {
			return false
		}
	}
	return true
}

// holds tells whether all members up to the place are among the rows.
func (w *Window) holds(p Place) bool {
	n := len(w.Rows)
	switch {
	case w.After != "" && p <= w.After || w.Before != "" && p >= w.Before:
		return false
	case w.Skipped && (n == 0 || p < w.Rows[0]):
		return false
	case w.Ends:
		return true
	case n == 0:
		return false
	case w.FromEnd:
		return p >= w.Rows[0]
	}
	return p <= w.Rows[n-1]
}

// of tells whether the place of the ith of n rows shown is itself shown.
func (c Cursors) of(i, n int) bool {
	return c&CursorAll != 0 || c&CursorFirst != 0 && i == 0 || c&CursorLast != 0 && i == n-1
}

// MarshalJSON writes the window for people: of the rows, how many are shown.
func (w Window) MarshalJSON() ([]byte, error) {
	type plain Window
	return json.Marshal(struct {
		plain
		Rows int `json:"rows"`
	}{plain(w), len(w.shown(w.Rows))})
}

// UnmarshalJSON takes what MarshalJSON has written.
func (w *Window) UnmarshalJSON(src []byte) error {
	type plain Window
	in := struct {
		*plain
		Rows int `json:"rows"`
	}{plain: (*plain)(w)}
	if err := json.Unmarshal(src, &in); err != nil || in.Rows < 0 {
		return err
	}
	w.Rows = make([]Place, w.Offset+in.Rows)
	return nil
}

// refers tells whether a reference field's value leads to the target.
func refers(value any, target string) bool {
	if list, ok := value.([]any); ok {
		return slices.Contains(list, any(target))
	}
	return value == target
}
