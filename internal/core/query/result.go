package query

import (
	"time"

	"ubiquon/internal/core/invalidation"
)

// Result is the answer to a Query.
type Result struct {
	// MostBytes bounds what is read for the answer, and the answer itself; more is
	// ErrTooLarge.
	MostBytes int
	// Sequence is the number of the newest change that the answer knows of.
	Sequence     int64
	ModelVersion int
	// Good is how long the answer holds if nothing changes; 0: as long as that. It ends
	// at the Deadline, by the database's clock.
	Good     time.Duration
	Deadline time.Time
	// Now is what the database's clock said, for answers that depend on the time.
	Now time.Time
	// TimeTriggers are the times at which entries cross a condition on the present time, by list.
	TimeTriggers map[*Root]invalidation.TimeTriggers
	Roots        []RootResult
}

// RootResult is the answer to one Root. A root that found nothing has no rows.
type RootResult struct {
	Rows []*Row
	// More says that the list goes on in the direction in which it was read:
	// behind the last row, or, with Before or Last, before the first.
	More bool
	// Past are entries that make it so, the nearest first, with their sort values.
	Lookahead []*Row
	Total     int // only if counted
	// Ahead are the entries that were skipped, with their sort values, if the root's
	// Offset is at most MaxAhead.
	Skipped []*Row
	// Locale that was found, for a Root without one.
	Locale string
	// MovedTo is where the entry lives now that was looked for at a former path, MovedType
	// its type, and MovedLocale the locale.
	MovedTo, MovedType, MovedLocale string
	// Paths, for ByPaths, and those behind them that make More so.
	Paths     []PathRow
	PastPaths []PathRow
	// Formerly are the entries that lived at the path, the last one first, as far
	// as MovedTo depends on them.
	Formerly []Former
}

// PathRow is where an entry lives in a locale.
type PathRow struct {
	Entry   string `json:"entry"`
	Type    string `json:"type"`
	Locale  string `json:"locale"`
	Path    string `json:"path"`
	Updated string `json:"updated"` // RFC 3339
}

// Former is an entry that lived at a path before, in a locale.
type Former struct{ Entry, Locale string }

// Row is one entry of a result.
type Row struct {
	ID, Type string
	// Cells holds, for each pick, what each column that it asked for came to (see
	// Columns): JSON, or the bare text; nil stands for no value.
	Cells [][][]byte
	// Keys are the values that the row's list is sorted by, as texts; nil stands
	// for no value.
	Keys [][]byte
	// Asked holds, for each link pick, the ids that it leads to, in order.
	Asked [][]string
	// Linked holds the entries found for them, in the same order; for an inner pick
	// the record or the blocks, whose Type is their kind.
	Linked [][]*Row
	// Lists holds, for each back pick, the entries that refer to this one.
	Lists []*RootResult
}

// Position is a place in a sorted list: the sort values, as texts, and the id of
// an entry; nil stands for no value.
type Position struct {
	Values []*string `json:"values"`
	ID     string    `json:"id"`
}

// Past is how many entries past a window are looked for: that there are some is told,
// which they are matters when one goes. Of a list that is counted, by what other entries
// are, there are more: whether an entry was in it cannot be told from that entry alone.
func (r *Root) Past() int {
	if r.Count && r.Filter != nil && r.Filter.AsksOthers() {
		return pastCounted
	}
	return pastWindow
}

// Backwards tells whether the list is read from its end.
func (r *Root) Backwards() bool { return r.Before != nil || r.Last }

// PageCursors returns the cursors of what comes before and behind the rows found; ""
// for nothing. Before a page that was reached by a cursor there is at least what
// the cursor was made of, and likewise behind.
func (r *Root) PageCursors(found *RootResult) (prev, next string) {
	n := len(found.Rows)
	if n == 0 {
		return "", ""
	}
	if r.After != nil || r.Offset > 0 || r.Backwards() && found.More {
		prev = r.Cursor(found.Rows[0].Position())
	}
	if r.Before != nil || !r.Backwards() && found.More {
		next = r.Cursor(found.Rows[n-1].Position())
	}
	return prev, next
}

// Position is the row's place in its list.
func (r *Row) Position() Position {
	at := Position{ID: r.ID, Values: make([]*string, len(r.Keys))}
	for i, k := range r.Keys {
		if k != nil {
			text := string(k)
			at.Values[i] = &text
		}
	}
	return at
}
