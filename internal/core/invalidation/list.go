package invalidation

import (
	"slices"
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
	// Field and Target, for a back-reference: only entries whose field refers to the target.
	Field  string `json:"field,omitempty"`
	Target string `json:"target,omitempty"`
	// Filter, and whether those that are only filled in from a fallback are left out.
	Filter     *filter.Filter `json:"filter,omitempty"`
	Translated bool           `json:"translated,omitempty"`
	// Paths says that it lists where entries live, of those that live somewhere.
	Paths bool `json:"paths,omitempty"`
	// Updated says that the response tells when each was updated.
	Updated bool   `json:"updated,omitempty"`
	Sort    []Sort `json:"sort,omitempty"`
	// Count says that the response tells how many there are in all.
	Count  bool   `json:"count,omitempty"`
	Window Window `json:"window"`
	// TimeTriggers are those of a filter on the present time.
	TimeTriggers TimeTriggers `json:"-"`
}

// outcomeSet is a set of pairs of truths: whether an entry was a member of a list,
// and whether it is one now.
type outcomeSet uint8

func pair(was, is bool) outcomeSet {
	n := 0
	if was {
		n += 2
	}
	if is {
		n++
	}
	return 1 << n
}

const never = outcomeSet(1) // neither was nor is

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
			one := held{
				ifTrue:  (&filter.Filter{Expr: h.IfTrue}).Split(),
				ifFalse: (&filter.Filter{Expr: h.IfFalse}).Split(),
			}
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
	for _, is := range []bool{l.Translated, l.Paths, l.Updated, l.Count} {
		b.WriteString(strconv.FormatBool(is)[:1])
	}
	return b.String()
}

// documentDelta is one entry's change as one locale sees it.
type documentDelta struct {
	id              string
	typ             string
	before, after   content.Fields // nil for no document
	differing       []string
	predicateValues map[string]int8
	referrers       map[string][]Referrer
	// turned is the type of an entry that changed, if that is not this one.
	turned        string
	othersChanged bool
	// was is what atoms came to before that changed.
	was      map[string]filter.Truth3
	now      time.Time
	sequence int64
	readAt   int64 // what others come to was told as of
}

func documentDeltaOf(c *Delta, locale string) (documentDelta, bool) {
	differing, touched := c.Fields[locale]
	if !touched {
		return documentDelta{}, false
	}
	s := documentDelta{
		id:              c.Entry,
		typ:             c.Type,
		before:          c.Before[locale],
		after:           c.After[locale],
		differing:       differing,
		predicateValues: c.PredicateValues[locale],
		referrers:       c.Referrers[locale],
		othersChanged:   c.OthersChanged,
		now:             c.At,
		sequence:        c.Sequence,
		readAt:          c.ReadAt,
	}
	return s, true
}

func (s *documentDelta) differs(name string) bool { return slices.Contains(s.differing, name) }

func (s *documentDelta) values(f content.Fields) filter.Document {
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

// sortKeys remembers the places of one entry in the orders of lists.
type sortKeys []struct {
	order   []Sort
	was, is SortKey
}

func (p *sortKeys) of(t *template, s *documentDelta) (was, is SortKey) {
	for _, held := range *p {
		if slices.Equal(held.order, t.Sort) {
			return held.was, held.is
		}
	}
	if s.before != nil {
		was = sortKeyIn(t.Sort, s.before, s.id)
	}
	if s.after != nil {
		is = sortKeyIn(t.Sort, s.after, s.id)
	}
	*p = append(*p, struct {
		order   []Sort
		was, is SortKey
	}{t.Sort, was, is})
	return was, is
}

// refers tells whether a reference field's value leads to the target.
func refers(value any, target string) bool {
	if list, ok := value.([]any); ok {
		return slices.Contains(list, any(target))
	}
	return value == target
}
