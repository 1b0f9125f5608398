// Package depend knows what a response was made of and whether a change
// affects it. It is pure: it never looks at present content, only at what was
// written down when the response was made and at what a change carries.
//
// The package errs on one side only: it may call a response affected whose
// bytes stay the same, never the other way round.
package depend

import (
	"slices"

	"ubiquon/internal/core/content"
)

// Set is everything that one response was made of, in one edition. A response
// depends on the model as a whole besides: any model change affects it.
type Set struct {
	Edition string   `json:"edition"`
	Entries []Entry  `json:"entries,omitempty"`
	Lookups []Lookup `json:"lookups,omitempty"`
	Lists   []List   `json:"lists,omitempty"`
	Backs   []Back   `json:"backs,omitempty"`
}

// Entry is one document that was read, or that a reference led to in vain.
type Entry struct {
	ID     string `json:"id"`
	Locale string `json:"locale"`
	// Fields that were read, sorted; what is said about an entry as about.NAME.
	// None: only whether the document is there.
	Fields []string `json:"fields,omitempty"`
}

// Lookup is one search for the entry that has a slug, or, of whatever type, that
// lives at a path; found or not.
type Lookup struct {
	Type   string `json:"type,omitempty"`
	Locale string `json:"locale"`
	Slug   string `json:"slug,omitempty"`
	Path   string `json:"path,omitempty"`
}

// Back is one read of the entries whose field refers to a target.
type Back struct {
	Type   string `json:"type"`
	Locale string `json:"locale"`
	Field  string `json:"field"`
	Target string `json:"target"`
	// Sort names what the order was made by, as in Entry.Fields.
	Sort []string `json:"sort,omitempty"`
}

// List is one read of a type's entries in some order.
type List struct {
	Type   string `json:"type"`
	Locale string `json:"locale"`
	// Sort names what the order was made by, as in Entry.Fields.
	Sort []string `json:"sort,omitempty"`
}

// Affected tells whether the change may alter a response made of the set.
func (s *Set) Affected(c *content.Change) bool {
	if c.Kind == content.ModelChange {
		return true
	}
	if c.Kind != content.ContentChange || c.Edition != s.Edition {
		return false
	}
	return slices.ContainsFunc(s.Entries, func(e Entry) bool { return e.affected(c) }) ||
		slices.ContainsFunc(s.Lookups, func(l Lookup) bool { return l.affected(c) }) ||
		slices.ContainsFunc(s.Lists, func(l List) bool { return l.affected(c) }) ||
		slices.ContainsFunc(s.Backs, func(b Back) bool { return b.affected(c) })
}

func (e Entry) affected(c *content.Change) bool {
	differing, touched := c.Fields[e.Locale]
	if !touched || e.ID != c.Entry {
		return false
	}
	return comesOrGoes(c, e.Locale) || slices.ContainsFunc(differing, func(name string) bool {
		_, read := slices.BinarySearch(e.Fields, name)
		return read
	})
}

func (l Lookup) affected(c *content.Change) bool {
	if l.Path != "" {
		was, is := pathOf(c.Before[l.Locale]), pathOf(c.After[l.Locale])
		return was != is && (was == l.Path || is == l.Path)
	}
	return l.Type == c.Type && slugOf(c.Before[l.Locale]) != slugOf(c.After[l.Locale]) &&
		(slugOf(c.Before[l.Locale]) == l.Slug || slugOf(c.After[l.Locale]) == l.Slug)
}

func (l List) affected(c *content.Change) bool {
	if l.Type != c.Type {
		return false
	}
	if comesOrGoes(c, l.Locale) {
		return true
	}
	differing := c.Fields[l.Locale]
	return slices.ContainsFunc(l.Sort, func(name string) bool { return slices.Contains(differing, name) })
}

func (b Back) affected(c *content.Change) bool {
	if b.Type != c.Type {
		return false
	}
	was, is := refers(c.Before[b.Locale][b.Field], b.Target), refers(c.After[b.Locale][b.Field], b.Target)
	if was != is {
		return true
	}
	differing := c.Fields[b.Locale]
	return is && slices.ContainsFunc(b.Sort, func(name string) bool { return slices.Contains(differing, name) })
}

// refers tells whether a reference field's value leads to the target.
func refers(value any, target string) bool {
	if list, ok := value.([]any); ok {
		return slices.Contains(list, any(target))
	}
	return value == target
}

// comesOrGoes tells whether the document of that locale appears or disappears.
func comesOrGoes(c *content.Change, locale string) bool {
	_, was := c.Before[locale]
	_, is := c.After[locale]
	return was != is
}

func slugOf(values content.Fields) string {
	s, _ := values["slug"].(string)
	return s
}

func pathOf(values content.Fields) string {
	s, _ := values["about.path"].(string)
	return s
}

// Size is about how many bytes the set and its postings in an Index take.
func (s *Set) Size() int {
	n := 64
	for i := range s.Entries {
		n += 136 + len(s.Entries[i].ID)
	}
	for i := range s.Lookups {
		n += 160 + len(s.Lookups[i].Slug) + len(s.Lookups[i].Path)
	}
	for i := range s.Backs {
		n += 200 + len(s.Backs[i].Target)
	}
	return n + 160*len(s.Lists)
}
