package invalidation

import (
	"slices"
	"time"
)

// due is when a subscription ends by itself, and why.
type due struct {
	at    time.Time
	lists []dueOf
	// asOf is the sequence that it knows the triggers of.
	asOf int64
}

type dueOf struct {
	list *listGroup
	TimeTriggers
}

// due finds the lists, which are in the index already, by which the set ends.
func (x *Index[S]) due(set *Set) *due {
	out := &due{at: set.Deadline}
	for i := range set.Lists {
		l := &set.Lists[i]
		if !l.TimeTriggers.first().IsZero() {
			own := TimeTriggers{slices.Clone(l.TimeTriggers.List), l.TimeTriggers.Until}
			out.lists, out.asOf = append(
				out.lists, dueOf{x.lists[l.key(set.Edition)], own},
			), max(
				out.asOf, l.Window.AsOf,
			)
		}
	}
	if out.lists == nil {
		out.lists = []dueOf{{nil, TimeTriggers{Until: set.Deadline}}}
	}
	return out
}

// move lets an entry pass the present at another time in a list.
func (d *due) move(l *listGroup, entry string, to time.Time) {
	i := slices.IndexFunc(d.lists, func(o dueOf) bool { return o.list == l })
	if i < 0 {
		i, d.lists = len(d.lists), append(d.lists, dueOf{list: l})
	}
	d.lists[i].move(entry, to)
	d.at = time.Time{}
	for i := range d.lists {
		if first := d.lists[i].first(); !first.IsZero() && (d.at.IsZero() || first.Before(d.at)) {
			d.at = first
		}
	}
}

// DeadlineChange is a subscriber whose deadline a change has moved; zero: it has none any more.
type DeadlineChange[S any] struct {
	Subscriber S
	Deadline   time.Time
}

// move lets those who show a window of a list end when the entry passes the present,
// zero for never, if that is the first thing to happen.
func (m *matching[S]) move(w *windowGroup, s *documentDelta, to time.Time) {
	for _, h := range m.x.members.of(m.x.groups.at(w.id).subs) {
		one, d := m.x.subs.at(h), m.x.dues[h]
		if one.gone || d == nil && to.IsZero() || d != nil && (s.sequence <= d.asOf || !d.at.After(s.now)) {
			continue // it has nothing to do with it, knows of it, or is over already
		}
		if d == nil {
			d = &due{}
			m.x.dues[h] = d
		}
		was := d.at
		if d.move(w.list, s.id, to); !d.at.Equal(was) {
			m.moved = append(m.moved, DeadlineChange[S]{one.s, d.at})
		}
		if d.at.IsZero() {
			delete(m.x.dues, h)
		}
	}
}
