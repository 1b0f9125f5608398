package invalidation

import (
	"encoding/json"
	"slices"
)

// Window is the part of a list that a response shows.
type Window struct {
	// After and Before are the places of a cursor, both excluded.
	After  SortKey `json:"-"`
	Before SortKey `json:"-"`
	// Rows are places of members without a gap, in the list's order: of those that are
	// shown, of those that were skipped before them, and of some past them.
	Rows []SortKey `json:"-"`
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
	StatesSize bool `json:"tells,omitempty"`
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

// outcome is what comes of a window when an entry changes.
type outcome struct {
	rows []SortKey
	ends bool
	lost bool // nobody can tell what the window shows
	// shows says that it shows something else, whatever its rows are.
	shows bool
	more  int // so many more entries are in the list
}

// outcome finds out what the window comes to, now that an entry was at one place, if a
// member, and is at another.
func (t *template) outcome(w *Window, may outcomeSet, s *documentDelta, was, is SortKey) outcome {
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
		before := func(p SortKey) bool { return len(w.Rows) == 0 || p < w.Rows[0] }
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
		out.shows = out.shows ||
			t.Paths && m.was && m.is && (s.differs("about.path") || t.Updated && s.differs("about.updated")) &&
				has(w.shown(rows), s.id)
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
func (w *Window) among(s *documentDelta, was SortKey) bool {
	if _, is := slices.BinarySearch(w.Rows, was); is {
		return true
	}
	return w.elsewhere(s) && has(w.Rows, s.id)
}

// elsewhere tells whether the entry's row may stand where it came to be later.
func (w *Window) elsewhere(s *documentDelta) bool {
	return s.turned != "" || s.othersChanged || s.sequence <= w.AsOf
}

// with returns the rows, and whether nobody is beyond them, with an entry at a place
// if it is a member, and nowhere else.
func (w *Window) with(s *documentDelta, member bool, was, is SortKey) ([]SortKey, bool) {
	member = member && w.holds(is)
	i, there := slices.BinarySearch(w.Rows, was)
	switch {
	case !there && w.elsewhere(s):
		i = slices.IndexFunc(w.Rows, func(p SortKey) bool { return p.isOf(s.id) })
	case !there:
		i = -1
	}
	if i < 0 && !member || i >= 0 && member && w.Rows[i] == is {
		return w.Rows, w.Ends
	}
	out := make([]SortKey, 0, len(w.Rows)+1)
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
func has(rows []SortKey, id string) bool {
	return slices.ContainsFunc(rows, func(p SortKey) bool { return p.isOf(id) })
}

// shown is the part of the rows that the window would show.
func (w *Window) shown(all []SortKey) []SortKey {
	if w.FromEnd {
		return all[max(0, len(all)-w.Limit):]
	}
	from := min(w.Offset, len(all))
	return all[from:min(from+w.Limit, len(all))]
}

// more tells whether the rows go on past what is shown.
func (w *Window) more(all []SortKey, ends bool) bool { return !ends || len(all) > w.Offset+w.Limit }

// enough tells whether so many rows are known that it can be told what is shown.
func (w *Window) enough(all []SortKey, ends bool) bool {
	n := w.Offset + w.Limit
	if w.StatesSize {
		n++
	}
	return ends || len(all) >= n
}

// alike tells whether a response says the same with other rows.
func (w *Window) alike(all []SortKey, ends bool) bool {
	was, is := w.shown(w.Rows), w.shown(all)
	if len(was) != len(is) || w.StatesSize && w.more(w.Rows, w.Ends) != w.more(all, ends) {
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
func (w *Window) holds(p SortKey) bool {
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
	w.Rows = make([]SortKey, w.Offset+in.Rows)
	return nil
}
