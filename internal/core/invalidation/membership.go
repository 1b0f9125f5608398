package invalidation

import (
	"slices"
	"sort"
	"time"

	"ubiquon/internal/core/filter"
)

// maxTries bounds how many truths of atoms are tried: beyond that anything is
// taken to be possible.
const maxTries = 81

// concerns tells whether anything differs of the entry by which the list finds and
// orders entries.
func (t *template) concerns(s *documentDelta) bool {
	return (s.before == nil) != (s.after == nil) || s.othersChanged && t.split != nil && len(t.split.Atoms) > 0 ||
		slices.ContainsFunc(t.reads, s.differs)
}

// memberships says whether the entry may have been a member and may be one now.
func (t *template) memberships(s *documentDelta) outcomeSet {
	was, is := t.member(s.before), t.member(s.after)
	if t.split == nil || !was && !is {
		return pair(was, is)
	}
	before, after := s.values(s.before), s.values(s.after)
	if len(t.split.Atoms) == 0 {
		return pair(was && t.split.Match(before, s.now, nil), is && t.split.Match(after, s.now, nil))
	}
	// Each atom has a truth before and one after, which are the same where the
	// entry's own change cannot have turned it: by setting out from elsewhere, or because
	// the way leads back to the entry. Where other entries have changed at the
	// same time, one change alone may seem to make no difference because of another.
	tries := make([]try, 0, len(t.split.Atoms))
	n := 1
	for i := range t.split.Atoms {
		a := &t.split.Atoms[i]
		truths := a.Truths()
		one := try{now: truths}
		if truth, known := s.predicateValues[a.String()]; known {
			one.now = []filter.Truth3{filter.Truth3(truth)}
		}
		if n *= len(one.now); was &&
			(s.othersChanged || s.turned != "" && a.ReferencePaths(s.turned) != nil ||
				s.turned == "" && (!is || !a.Keeps(before, after) || a.ChangesBetween(s.typ, before, after, s.now))) {
			one.before = truths
			if truth, known := s.was[a.String()]; known && !s.othersChanged {
				one.before = []filter.Truth3{truth}
			}
			n *= len(one.before)
		}
		tries = append(tries, one)
	}
	if n > maxTries {
		return pair(false, false) | pair(true, false) | pair(false, true) | pair(true, true)
	}
	var out outcomeSet
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

// changedReferencePaths returns the ways on which entries lead to this one for which the filter
// may come out otherwise now.
func (t *template) changedReferencePaths(s *documentDelta) [][]filter.Step {
	if t.split == nil {
		return nil
	}
	var out [][]filter.Step
	for i := range t.split.Atoms {
		if a := &t.split.Atoms[i]; a.ChangesBetween(s.typ, s.values(s.before), s.values(s.after), s.now) {
			out = append(out, a.ReferencePaths(s.typ)...)
		}
	}
	return out
}

// pathKey names a way from entries of a type.
func pathKey(typ string, way []filter.Step) string {
	for _, s := range way {
		typ += "." + s.Name
	}
	return typ
}

// before finds what the atoms came to, for an entry that leads to one that changed:
// what others make of it, and what the one that changed made of it.
func (t *template) before(s *documentDelta, l *Referrer, way []filter.Step) map[string]filter.Truth3 {
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

// referrerDeltas returns, as steps of their own, the entries that lead to this one on ways
// that were turned; known is false if somebody would have to look for them.
func (t *template) referrerDeltas(s *documentDelta, ways [][]filter.Step) (out []documentDelta, known bool) {
	for _, way := range ways {
		led, known := s.referrers[pathKey(t.Type, way)]
		if !known {
			return nil, false
		}
		for _, l := range led {
			if l.ID == s.id {
				continue // what its own change makes of it is told by that
			}
			out = append(
				out,
				documentDelta{
					id:              l.ID,
					typ:             t.Type,
					before:          l.Values,
					after:           l.Values,
					predicateValues: l.PredicateValues,
					turned:          s.typ,
					othersChanged:   s.othersChanged,
					was:             t.before(s, &l, way),
					now:             s.now,
					sequence:        s.sequence,
					readAt:          s.readAt,
				},
			)
		}
	}
	return out, true
}

// timeTriggerFields lists the types of the entries that turns is to be asked for.
func (t *template) timeTriggerFields() []string {
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

// nextTimeTrigger returns when the entry, as it is now, passes the present in a property
// that the filter holds against it, where that makes a difference; zero for never.
func (t *template) nextTimeTrigger(s *documentDelta) (first time.Time) {
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
			if at, err := time.Parse(time.RFC3339, v); err == nil && !at.Before(s.now) &&
				(first.IsZero() || at.Before(first)) {
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

// effect says what the entry may have been and may be to the list, and where it stood
// and stands; matters is false if no window can tell the difference.
func (t *template) effect(s *documentDelta, p *sortKeys) (may outcomeSet, was, is SortKey, matters bool) {
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
