package query

import (
	"encoding/json"
	"slices"
	"sort"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/memo"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
)

// By says how a root finds its entries.
type By string

// The ways to find entries.
const (
	ByList   By = "list"
	BySlug   By = "slug"
	ByID     By = "id"
	ByPath   By = "path"   // where it lives, or lived
	ByBack   By = "back"   // entries whose field refers to another entry
	BySingle By = "single" // a singleton's only entry
	ByPaths  By = "paths"  // where entries live, not the entries themselves
)

// The limits of a query.
const (
	DefaultLimit    = 20
	MaxLimit        = 200
	MaxOffset       = 10_000
	MaxSkippedKnown = 100 // skipped entries that a result knows of
	MaxPaths        = 10_000
	MaxDepth        = 8   // levels of linked entries
	MaxPicks        = 500 // picks in the whole query
	pastWindow      = 3
	pastCounted     = 30 // see Past
)

// Query is one read: one or several roots answered from one state of the
// content.
type Query struct {
	Edition string `json:"edition"`
	Roots   []Root `json:"roots"`
	// Memo is there once the query is prepared.
	Memo memo.Memo `json:"-"`
}

// Root is one list or one entry.
type Root struct {
	As     string `json:"as,omitempty"` // its name in the answer, where there are several
	By     By     `json:"by"`
	Type   string `json:"type,omitempty"` // empty only for ByID and ByPath
	Value  string `json:"value,omitempty"`
	Locale string `json:"locale,omitempty"` // empty only for ByPath: whichever has the path; and for ByBack
	// Revision is the one to read, for ByID; 0 for the newest.
	Revision int `json:"revision,omitempty"`
	// Locales are all that there are, for ByPath.
	Locales []string `json:"locales,omitempty"`
	// Refused are, by type, the grants that the reader lacks for entries that a Root
	// without a type may find.
	Refused map[string]string `json:"refused,omitempty"`
	// Field is the one that refers, for ByBack.
	Field string `json:"field,omitempty"`
	// Translated leaves out of a list what is filled in from a fallback.
	Translated bool `json:"translated,omitempty"`
	// The rest concerns lists alone.
	Filter  *filter.Filter `json:"filter,omitempty"`
	Sort    []Sort         `json:"sort,omitempty"`
	Indexed bool           `json:"-"` // an index has the order
	Limit   int            `json:"limit,omitempty"`
	// Offset skips the first entries; not with After or Before.
	Offset int `json:"offset,omitempty"`
	// Types whose paths are listed, for ByPaths.
	Types []string `json:"types,omitempty"`
	// PathFields are those of a PathRow that are shown, for ByPaths; none for all.
	PathFields []string  `json:"pathFields,omitempty"`
	After      *Position `json:"after,omitempty"`
	// Before asks for the last entries before a place; not both.
	Before *Position `json:"before,omitempty"`
	// Last asks for the list's end: the last entries, before Before if given.
	Last      bool      `json:"last,omitempty"`
	Count     bool      `json:"count,omitempty"`
	Selection Selection `json:"selection"`
	// Shows is what the answer shows of a list besides its entries.
	Shows Shows  `json:"-"`
	mark  string // of its list, once the query is prepared
}

// Shows says what an answer shows of a list besides its entries.
type Shows struct {
	// Around: the cursors before and behind the window.
	Around bool
	// More: whether there is more.
	More bool
	// Cursors of its entries.
	Cursors invalidation.Cursors
}

// Sort is one part of an order.
type Sort = invalidation.Sort

// Selection is what is asked of an entry.
type Selection struct {
	Picks []SelectedField
	// All says that it is whatever fields the one type that it is of has.
	All bool
}

// MarshalJSON writes what is asked for: not which fields these are, if it is all.
func (s Selection) MarshalJSON() ([]byte, error) {
	if s.All {
		return []byte(`"all"`), nil
	}
	return json.Marshal(s.Picks)
}

// SelectedKind says what a pick takes.
type SelectedKind string

// What a pick may take.
const (
	PickID    SelectedKind = "id"
	PickType  SelectedKind = "type"  // the type's name, through Names if given
	PickAbout SelectedKind = "about" // an object of Parts
	PickValue SelectedKind = "value" // a field's value as stored, through Names if given
	PickParts SelectedKind = "parts" // a field that is an object, or a list of them: some Parts of it
	PickFile  SelectedKind = "file"  // a file, or a list of them: some Parts of it
	PickLink  SelectedKind = "link"  // the entries that a reference leads to
	PickInner SelectedKind = "inner" // the record or blocks within a field
	PickBack  SelectedKind = "back"  // the entries that refer to this one
	PickNull  SelectedKind = "null"  // nothing: what would stand there is not for the reader
	PickGroup SelectedKind = "group" // an object of the Members picks that follow
)

// SelectedField is one thing asked of an entry.
type SelectedField struct {
	As    string       `json:"as"`
	Kind  SelectedKind `json:"kind"`
	Field string       `json:"field,omitempty"`
	// On lists the types that the pick is for; none means every type.
	On      []string `json:"on,omitempty"`
	Several bool     `json:"several,omitempty"`
	// Text says that the value is a single text: the store fetches it bare.
	Text  bool   `json:"text,omitempty"`
	Parts []Part `json:"parts,omitempty"`
	// Flat gives the only one of Parts itself, instead of an object.
	Flat bool `json:"flat,omitempty"`
	// Rendition is the form that the pictures of a PickFile are asked for in.
	Rendition *model.Rendition `json:"rendition,omitempty"`
	// Files makes their addresses.
	Files *picture.Addresses `json:"-"`
	// Names replaces values by other words, such as an enum's.
	Names map[string]string `json:"names,omitempty"`
	// Label replaces a choice's values by what they are called; by locale in Labels, where
	// only the result tells the locale.
	Label  Labels            `json:"label,omitempty"`
	Labels map[string]Labels `json:"-"`
	// Both gives value and label.
	Both bool `json:"both,omitempty"`
	// Types are those that a link may lead to.
	Types []string `json:"types,omitempty"`
	// Members is how many of the picks that follow are within the object, for PickGroup.
	Members int `json:"members,omitempty"`
	// Denied is the grant that is missing for what would stand there, for PickNull.
	Denied string `json:"denied,omitempty"`
	// Link is what is asked of linked entries, of a record, or of blocks, whose
	// kinds stand for types in it.
	Link *Selection `json:"link,omitempty"`
	// List is the list of entries that refer to this one, and Shape its form.
	List  *Root      `json:"list,omitempty"`
	Shape []ListPart `json:"shape,omitempty"`
}

// Labels are what the values of a choice are called. Who asks for labels asks for the
// same whatever they are.
type Labels map[string]string

// MarshalJSON says that labels are asked for.
func (Labels) MarshalJSON() ([]byte, error) { return []byte("true"), nil }

// words are what values are replaced by; nil if they stay as they are.
func (p *SelectedField) words() map[string]string {
	if p.Label != nil {
		return p.Label
	}
	return p.Names
}

// below is the selection of what hangs below the pick, nil if nothing does.
func (p *SelectedField) below() *Selection {
	if p.List != nil {
		return &p.List.Selection
	}
	return p.Link
}

// Part is one member of an object. Constant, where given, is its value. Text is
// as in Pick.
type Part struct {
	As       string `json:"as"`
	Name     string `json:"name"`
	Constant string `json:"constant,omitempty"`
	// Texts, likewise, is its value as a list.
	Texts []string `json:"texts,omitempty"`
	Text  bool     `json:"text,omitempty"`
	// Rendition, of a PickFile, is one that the field declares, and Inner what is asked of it, or
	// of a srcset.
	Rendition *model.Rendition `json:"rendition,omitempty"`
	Inner     []Part           `json:"inner,omitempty"`
}

// isFixed tells whether the value is known already.
func (p *Part) isFixed() bool { return p.Constant != "" || p.Texts != nil }

// textParts are the members, of whatever object, that are single texts.
var textParts = []string{
	"html", "inline", "commonmark", "plain", "url", "alt", "mediaType", "currency",
	"type", "locale", "firstPublished", "published", "updated", "path",
}

// PartOf returns the part of that name.
func PartOf(as, name string) Part {
	return Part{As: as, Name: name, Text: slices.Contains(textParts, name)}
}

// ListPart is one member of a list's form as GraphQL has it: nodes, edges,
// pageInfo or totalCount, with the members within.
type ListPart struct {
	As   string `json:"as"`
	Name string `json:"name"`
	// First and End are the picks that nodes, or an edge's node, show.
	First int        `json:"first,omitempty"`
	End   int        `json:"end,omitempty"`
	Inner []ListPart `json:"inner,omitempty"`
}

// ReadsLists tells whether a root of the query is a list.
func (q *Query) ReadsLists() bool {
	return slices.ContainsFunc(q.Roots, func(r Root) bool { return r.By == ByList || r.By == ByPaths })
}

// ReadsBacks tells whether the query reads entries that refer to others.
func (q *Query) ReadsBacks() (reads bool) {
	for i := range q.Roots {
		q.Roots[i].Selection.walk(func(p *SelectedField) { reads = reads || p.Kind == PickBack })
	}
	return reads
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

// walk calls f for every pick of the selection and of the linked ones.
func (s *Selection) walk(f func(*SelectedField)) {
	for i := range s.Picks {
		f(&s.Picks[i])
		if l := s.Picks[i].below(); l != nil {
			l.walk(f)
		}
	}
}

// CheckSize returns an error when the query is too deep or too wide.
func (q *Query) CheckSize() error {
	picks := 0
	for i := range q.Roots {
		q.Roots[i].Selection.walk(func(*SelectedField) { picks++ })
		if d := q.Roots[i].Selection.depth(); d > MaxDepth {
			return failf(
				"fields", "ask for the inner entries in a request of their own",
				"linked entries are nested %d deep, at most %d levels are allowed", d, MaxDepth,
			)
		}
	}
	if effort := q.Effort(); effort > MaxEffort {
		return failf(
			"fields", "ask for fewer entries, or for less of each", "the effort would be %d, at most %d is allowed",
			effort, MaxEffort,
		)
	}
	if picks > MaxPicks {
		return failf(
			"fields", "ask for less at once", "%d fields are asked for, at most %d are allowed", picks, MaxPicks,
		)
	}
	return nil
}

func (s *Selection) depth() int {
	deepest := 0
	for i := range s.Picks {
		if l := s.Picks[i].below(); l != nil {
			deepest = max(deepest, 1+l.depth())
		}
	}
	return deepest
}

// reads returns the names under which a change would say that something differs that
// the selection shows of an entry of the type, or, without one, of whatever type;
// sorted.
func (s *Selection) reads(typ string) []string {
	var out []string
	for i := range s.Picks {
		p := &s.Picks[i]
		if typ != "" && !p.isOn(typ) {
			continue
		}
		switch p.Kind {
		case PickAbout:
			for _, part := range p.Parts {
				if !part.isFixed() {
					out = append(out, "about."+part.Name)
				}
			}
		case PickValue, PickLink:
			out = append(out, p.Field)
		case PickParts, PickInner, PickFile:
			out = append(out, p.partsRead()...)
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// isOn tells whether the pick is for entries of the type.
func (p *SelectedField) isOn(typ string) bool { return len(p.On) == 0 || slices.Contains(p.On, typ) }

// partsRead names the parts of its field's value that the pick takes.
func (p *SelectedField) partsRead() []string {
	if p.Several {
		return []string{p.Field}
	}
	out := []string{content.PartName(p.Field, content.AnyPart)}
	if p.Kind == PickFile {
		for _, name := range p.fileMembers() {
			out = append(out, content.PartName(p.Field, name))
		}
		return out
	}
	if p.Link != nil {
		for i := range p.Link.Picks {
			out = append(out, content.PartName(p.Field, p.Link.Picks[i].Field))
		}
		return out
	}
	for _, part := range p.Parts {
		out = append(out, content.PartName(p.Field, part.Name))
	}
	return out
}

// LookedIn lists the locales in which the entry at a path was looked for.
func (r *RootResult) LookedIn(root *Root) []string {
	if root.Locale != "" {
		return []string{root.Locale}
	}
	return root.Locales
}

// ShowsNothing tells whether no answer depends on what is in the list.
func (r *Root) ShowsNothing() bool {
	return (r.By == ByList || r.By == ByBack) && r.Limit == 0 && !r.Count
}

// Lists are the lists of the query that have a filter and show something, at
// whatever depth.
func (q *Query) Lists() []*Root {
	var out []*Root
	q.each(func(r *Root) {
		if r.Filter != nil && !r.ShowsNothing() {
			out = append(out, r)
		}
	})
	return out
}
