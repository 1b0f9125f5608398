package query

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/model"
)

// By says how a root finds its entries.
type By string

// The ways to find entries.
const (
	ByList   By = "list"
	BySlug   By = "slug"
	ByID     By = "id"
	BySingle By = "single" // a singleton's only entry
)

// The limits of a query.
const (
	DefaultLimit = 20
	MaxLimit     = 200
	MaxDepth     = 8   // levels of linked entries
	MaxPicks     = 500 // picks in the whole query
)

// Query is one read: one or several roots answered from one state of the
// content.
type Query struct {
	Edition string `json:"edition"`
	Roots   []Root `json:"roots"`
}

// Root is one list or one entry.
type Root struct {
	As     string `json:"as,omitempty"` // its name in the answer, where there are several
	By     By     `json:"by"`
	Type   string `json:"type,omitempty"` // empty only for ByID
	Value  string `json:"value,omitempty"`
	Locale string `json:"locale"`
	// The rest concerns lists alone.
	Sort  []Sort    `json:"sort,omitempty"`
	Limit int       `json:"limit,omitempty"`
	After *Position `json:"after,omitempty"`
	// Before asks for the last entries before a place; not both.
	Before *Position `json:"before,omitempty"`
	// Last asks for the list's end: the last entries, before Before if given.
	Last      bool      `json:"last,omitempty"`
	Count     bool      `json:"count,omitempty"`
	Selection Selection `json:"selection"`
}

// Sort is one part of an order. Entries without a value come last either way;
// the id breaks ties.
type Sort struct {
	By         string     `json:"by"` // a field, or about.published, about.firstPublished, about.updated
	Kind       model.Kind `json:"kind"`
	Descending bool       `json:"descending,omitempty"`
}

// Selection is what is asked of an entry.
type Selection struct {
	Picks []Pick `json:"picks"`
}

// PickKind says what a pick takes.
type PickKind string

// What a pick may take.
const (
	PickID    PickKind = "id"
	PickType  PickKind = "type"  // the type's name, through Names if given
	PickAbout PickKind = "about" // an object of Parts
	PickValue PickKind = "value" // a field's value as stored, through Names if given
	PickParts PickKind = "parts" // a field that is an object, or a list of them: some Parts of it
	PickLink  PickKind = "link"  // the entries that a reference leads to
)

// Pick is one thing asked of an entry.
type Pick struct {
	As    string   `json:"as"`
	Kind  PickKind `json:"kind"`
	Field string   `json:"field,omitempty"`
	// On lists the types that the pick is for; none means every type.
	On      []string `json:"on,omitempty"`
	Several bool     `json:"several,omitempty"`
	// Text says that the value is a single text: the store fetches it bare.
	Text  bool   `json:"text,omitempty"`
	Parts []Part `json:"parts,omitempty"`
	// Names replaces values by other words: a choice's labels, an enum's names.
	Names map[string]string `json:"names,omitempty"`
	// Types are those that a link may lead to.
	Types []string   `json:"types,omitempty"`
	Link  *Selection `json:"link,omitempty"`
}

// Part is one member of an object. Constant, where given, is its value. Text is
// as in Pick.
type Part struct {
	As       string `json:"as"`
	Name     string `json:"name"`
	Constant string `json:"constant,omitempty"`
	Text     bool   `json:"text,omitempty"`
}

// textParts are the members, of whatever object, that are single texts.
var textParts = []string{"html", "inline", "commonmark", "plain", "url", "alt", "mediaType", "currency",
	"type", "locale", "firstPublished", "published", "updated", "path"}

// PartOf returns the part of that name.
func PartOf(as, name string) Part {
	return Part{As: as, Name: name, Text: slices.Contains(textParts, name)}
}

// IsText tells whether a field's value is a single text.
func IsText(f *model.Field) bool {
	switch f.Kind {
	case model.Text, model.Slug, model.Choice, model.Date, model.DateTime:
		return !f.Several
	}
	return false
}

// Result is the answer to a Query.
type Result struct {
	// Sequence is the number of the newest change that the answer knows of.
	Sequence     int64
	ModelVersion int
	Roots        []RootResult
}

// RootResult is the answer to one Root. A root that found nothing has no rows.
type RootResult struct {
	Rows []*Row
	// More says that the list goes on in the direction in which it was read:
	// behind the last row, or, with Before or Last, before the first.
	More  bool
	Total int // only if counted
}

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
	// Linked holds the entries found for them, in the same order.
	Linked [][]*Row
}

// Position is a place in a sorted list: the sort values, as texts, and the id of
// an entry; nil stands for no value.
type Position struct {
	Values []*string `json:"values"`
	ID     string    `json:"id"`
}

// Backwards tells whether the list is read from its end.
func (r *Root) Backwards() bool { return r.Before != nil || r.Last }

// Around returns the cursors of what comes before and behind the rows found; ""
// for nothing. Before a page that was reached by a cursor there is at least what
// the cursor was made of, and likewise behind.
func (r *Root) Around(found *RootResult) (prev, next string) {
	n := len(found.Rows)
	if n == 0 {
		return "", ""
	}
	if r.After != nil || r.Backwards() && found.More {
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

// Error is a read that cannot be compiled. It names the parameter that is
// wrong and, where there is one, the mend.
type Error struct {
	Parameter, Detail, Hint string
}

func (e *Error) Error() string {
	if e.Hint != "" {
		return e.Parameter + ": " + e.Detail + "; " + e.Hint
	}
	return e.Parameter + ": " + e.Detail
}

func failf(parameter, hint, format string, args ...any) *Error {
	return &Error{Parameter: parameter, Hint: hint, Detail: fmt.Sprintf(format, args...)}
}

// Key returns the canonical form of the query: two queries have the same key
// exactly when they ask for the same bytes.
func (q *Query) Key() string {
	out, err := json.Marshal(q)
	if err != nil {
		panic("query: " + err.Error())
	}
	return string(out)
}

// Needs returns the grants that the query takes, each once, as far as they can
// be told before it is run: NeedsOf tells those of entries found by id.
func (q *Query) Needs() []access.Grant {
	var out []access.Grant
	for i := range q.Roots {
		if root := &q.Roots[i]; root.Type != "" {
			out = q.need(out, root.Type)
			out = q.needLinked(out, &root.Selection, "")
		}
	}
	return out
}

// NeedsOf returns the grants that only the result tells: those of entries that
// were found by id, and of the links that entries of their types have.
func (q *Query) NeedsOf(r *Result) []access.Grant {
	var out []access.Grant
	for i := range q.Roots {
		if q.Roots[i].Type != "" {
			continue
		}
		for _, row := range r.Roots[i].Rows {
			out = q.need(out, row.Type)
			out = q.needLinked(out, &q.Roots[i].Selection, row.Type)
		}
	}
	return out
}

func (q *Query) need(out []access.Grant, typ string) []access.Grant {
	if g := (access.Grant{Verb: access.Read, Edition: q.Edition, Type: typ}); !slices.Contains(out, g) {
		out = append(out, g)
	}
	return out
}

// needLinked adds the types that a selection's links enter; with a type, only
// the links that entries of it have.
func (q *Query) needLinked(out []access.Grant, s *Selection, typ string) []access.Grant {
	for i := range s.Picks {
		p := &s.Picks[i]
		if p.Link == nil || typ != "" && p.On != nil && !slices.Contains(p.On, typ) {
			continue
		}
		for _, t := range p.Types {
			out = q.need(out, t)
		}
		out = q.needLinked(out, p.Link, "")
	}
	return out
}

// walk calls f for every pick of the selection and of the linked ones.
func (s *Selection) walk(f func(*Pick)) {
	for i := range s.Picks {
		f(&s.Picks[i])
		if l := s.Picks[i].Link; l != nil {
			l.walk(f)
		}
	}
}

// CheckSize returns an error when the query is too deep or too wide.
func (q *Query) CheckSize() error {
	picks := 0
	for i := range q.Roots {
		q.Roots[i].Selection.walk(func(*Pick) { picks++ })
		if d := q.Roots[i].Selection.depth(); d > MaxDepth {
			return failf("fields", "ask for the inner entries in a request of their own", "linked entries are nested %d deep, at most %d levels are allowed", d, MaxDepth)
		}
	}
	if picks > MaxPicks {
		return failf("fields", "ask for less at once", "%d fields are asked for, at most %d are allowed", picks, MaxPicks)
	}
	return nil
}

func (s *Selection) depth() int {
	deepest := 0
	for i := range s.Picks {
		if l := s.Picks[i].Link; l != nil {
			deepest = max(deepest, 1+l.depth())
		}
	}
	return deepest
}

// reads returns the names under which a change would say that something the
// selection shows differs, sorted.
func (s *Selection) reads() []string {
	var out []string
	for i := range s.Picks {
		switch p := &s.Picks[i]; p.Kind {
		case PickAbout:
			for _, part := range p.Parts {
				if part.Constant == "" {
					out = append(out, "about."+part.Name)
				}
			}
		case PickValue, PickParts, PickLink:
			out = append(out, p.Field)
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// Dependencies says what the result of the query was made of.
func Dependencies(q *Query, r *Result) *depend.Set {
	set := &depend.Set{Edition: q.Edition}
	seen := map[string]bool{}
	linked := false // only then can the same document have been read twice
	var add func(locale string, s *Selection, read []string, rows []*Row)
	add = func(locale string, s *Selection, read []string, rows []*Row) {
		if len(rows) == 0 {
			return
		}
		below := make([][]string, len(s.Picks))
		for i := range s.Picks {
			if s.Picks[i].Link != nil {
				linked, below[i] = true, s.Picks[i].Link.reads()
			}
		}
		for _, row := range rows {
			set.Entries = append(set.Entries, depend.Entry{ID: row.ID, Locale: locale, Fields: read})
			for i := range s.Picks {
				if s.Picks[i].Link == nil || row.Asked[i] == nil {
					continue
				}
				add(locale, s.Picks[i].Link, below[i], row.Linked[i])
				found := 0
				for _, id := range row.Asked[i] {
					if found < len(row.Linked[i]) && row.Linked[i][found].ID == id {
						found++
					} else if key := locale + id; !seen[key] {
						seen[key] = true
						set.Entries = append(set.Entries, depend.Entry{ID: id, Locale: locale})
					}
				}
			}
		}
	}
	for i := range q.Roots {
		root, res := &q.Roots[i], &r.Roots[i]
		add(root.Locale, &root.Selection, root.Selection.reads(), res.Rows)
		switch root.By {
		case ByList, BySingle:
			list := depend.List{Type: root.Type, Locale: root.Locale}
			for _, s := range root.Sort {
				list.Sort = append(list.Sort, s.By)
			}
			set.Lists = append(set.Lists, list)
		case BySlug:
			set.Lookups = append(set.Lookups, depend.Lookup{Type: root.Type, Locale: root.Locale, Slug: root.Value})
		case ByID:
			if len(res.Rows) == 0 {
				set.Entries = append(set.Entries, depend.Entry{ID: root.Value, Locale: root.Locale})
			}
		}
	}
	if linked || len(q.Roots) > 1 {
		set.Entries = mergeEntries(set.Entries)
	}
	return set
}

// mergeEntries unites what was read of the same document in several places.
func mergeEntries(in []depend.Entry) []depend.Entry {
	at := map[[2]string]int{}
	out := in[:0:0]
	for _, e := range in {
		key := [2]string{e.ID, e.Locale}
		i, ok := at[key]
		if !ok {
			at[key] = len(out)
			out = append(out, e)
			continue
		}
		if !slices.Equal(out[i].Fields, e.Fields) {
			both := slices.Concat(out[i].Fields, e.Fields)
			sort.Strings(both)
			out[i].Fields = slices.Compact(both)
		}
	}
	return out
}
