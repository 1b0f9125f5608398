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
}

// Entry is one document that was read, or that a reference led to in vain.
type Entry struct {
	ID     string `json:"id"`
	Locale string `json:"locale"`
	// Fields that were read, sorted; what is said about an entry as about.NAME.
	// None: only whether the document is there.
	Fields []string `json:"fields,omitempty"`
}

// Lookup is one search for the entry that has a slug, found or not.
type Lookup struct {
	Type   string `json:"type"`
	Locale string `json:"locale"`
	Slug   string `json:"slug"`
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
		slices.ContainsFunc(s.Lists, func(l List) bool { return l.affected(c) })
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

// Size is about how many bytes the set and its postings in an Index take.
func (s *Set) Size() int {
	n := 64
	for i := range s.Entries {
		n += 136 + len(s.Entries[i].ID)
	}
	for i := range s.Lookups {
		n += 160 + len(s.Lookups[i].Slug)
	}
	return n + 160*len(s.Lists)
}
