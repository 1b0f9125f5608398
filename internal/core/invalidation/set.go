// Package invalidation decides which responses a change affects. A response is described by a
// Set: the entries, lookups and lists that it was made of. Index finds, for a Delta, the
// subscribers whose sets it affects, without asking all of them.
//
// The package is pure: it never reads present content, only what was noted when the response was
// made and what the change carries. It may call a response affected whose bytes stay the same,
// never the other way round.
package invalidation

import (
	"slices"
	"time"

	"ubiquon/internal/core/content"
)

// Set is everything that one response was made of, in one edition.
type Set struct {
	Edition string   `json:"edition"`
	Entries []Entry  `json:"entries,omitempty"`
	Lookups []Lookup `json:"lookups,omitempty"`
	Lists   []List   `json:"lists,omitempty"`
	// Uses are the types and fields of the model that it was read by.
	Uses []Use `json:"uses,omitempty"`
	// Deadline is when the response ends by itself, by the database's clock; zero for
	// never.
	Deadline time.Time `json:"deadline,omitzero"`
}

// Entry is one document that was read, or that a reference led to in vain.
type Entry struct {
	ID     string `json:"id"`
	Locale string `json:"locale"`
	// Fields that were read, sorted; what is said about an entry as about.NAME.
	// None: only whether the document is there. Lives alone: not even that.
	Fields []string `json:"fields,omitempty"`
}

// PathExists is read, as a field of an entry, by who asks whether it lives anywhere, and where.
const PathExists = "about.path?"

// Lookup is one search for the entry that has a slug, or, of whatever type, that
// lives at a path; found or not.
type Lookup struct {
	Type   string `json:"type,omitempty"`
	Locale string `json:"locale"`
	Slug   string `json:"slug,omitempty"`
	Path   string `json:"path,omitempty"`
	// Found says that somebody lives at the path. Then it does not matter who lived
	// there before.
	Found bool `json:"found,omitempty"`
}

// Use is a type of the model, with the fields that were read of its entries in a
// locale. Without a type it is whatever comes to be there.
type Use struct {
	Type   string   `json:"type"`
	Locale string   `json:"locale"`
	Fields []string `json:"fields,omitempty"`
}

// Affected tells whether the change may alter a response made of the set.
func (s *Set) Affected(c *Delta) bool {
	if c.Kind == content.ModelChange {
		return true // it was planned by another model
	}
	if !alters(c) {
		return false
	}
	if c.Edition != s.Edition {
		return slices.ContainsFunc(s.Lookups, func(l Lookup) bool { return l.remembers(c) })
	}
	return slices.ContainsFunc(s.Entries, func(e Entry) bool { return e.affected(c) }) ||
		slices.ContainsFunc(s.Lookups, func(l Lookup) bool { return l.affected(c) }) ||
		slices.ContainsFunc(s.Lists, func(l List) bool { return l.affected(c, s.Deadline) })
}

// alters tells whether the change is one of an entry's documents.
func alters(c *Delta) bool {
	return c.Kind == content.ContentChange || c.Kind == content.RerenderChange
}

func (e Entry) affected(c *Delta) bool {
	if e.ID != c.Entry {
		return false
	}
	at, touched := documentDeltaOf(c, e.Locale)
	return touched && reads(e.Fields, &at)
}

// reads tells whether somebody who has read these fields of the entry sees a
// difference.
func reads(fields []string, s *documentDelta) bool {
	if slices.Contains(fields, PathExists) {
		if pathOf(s.before) != pathOf(s.after) {
			return true
		}
		if len(fields) == 1 {
			return false
		}
	}
	if (s.before == nil) != (s.after == nil) {
		return true
	}
	return slices.ContainsFunc(s.differing, func(name string) bool {
		_, read := slices.BinarySearch(fields, name)
		return read
	})
}

func (l Lookup) affected(c *Delta) bool {
	if l.Path != "" {
		was, is := pathOf(c.Before[l.Locale]), pathOf(c.After[l.Locale])
		return was != is && (was == l.Path || is == l.Path)
	}
	return l.Type == c.Type && slugOf(c.Before[l.Locale]) != slugOf(c.After[l.Locale]) &&
		(slugOf(c.Before[l.Locale]) == l.Slug || slugOf(c.After[l.Locale]) == l.Slug)
}

// remembers tells whether the path is one at which a published entry lived until
// now: preview, too, leads on from there to where the entry lives.
func (l Lookup) remembers(c *Delta) bool {
	was := pathOf(c.Before[l.Locale])
	return c.Edition == content.Published && !l.Found && l.Path != "" && was == l.Path &&
		was != pathOf(c.After[l.Locale])
}

func (l *List) affected(c *Delta, deadline time.Time) bool {
	s, touched := documentDeltaOf(c, l.Locale)
	if !touched {
		return false
	}
	t := newTemplate(l)
	weighed := func(s *documentDelta) bool {
		may, was, is, matters := t.effect(s, &sortKeys{})
		if !matters {
			return false
		}
		// Whatever would have to be followed affects it: but for how many there are.
		o := t.outcome(&l.Window, may, s, was, is)
		if !t.Count {
			o.more = 0
		}
		return !o.leaves(&l.Window)
	}
	if ways := t.changedReferencePaths(&s); ways != nil {
		led, known := t.referrerDeltas(&s, ways)
		if !known || slices.ContainsFunc(led, func(s documentDelta) bool { return weighed(&s) }) {
			return true
		}
	}
	if l.Type != c.Type {
		return false
	}
	if at := t.nextTimeTrigger(&s); !at.IsZero() && (deadline.IsZero() || at.Before(deadline)) {
		return true
	}
	return weighed(&s)
}

func slugOf(values content.Fields) string {
	s, _ := values["slug"].(string)
	return s
}

func pathOf(values content.Fields) string {
	s, _ := values["about.path"].(string)
	return s
}
