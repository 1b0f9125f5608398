package invalidation

import (
	"slices"
	"time"
)

// Moments are when entries pass the present in properties that a list holds against
// it, where that makes a difference: the first of them, in their order.
type Moments struct {
	List []Moment
	// Until is up to when all are known; zero: all are.
	Until time.Time
}

// Moment is when one entry does. Without an entry it is one that the list cannot
// follow.
type Moment struct {
	At    time.Time
	Entry string
}

// Add adds moments that were found by themselves.
func (m *Moments) Add(more Moments) {
	m.List = append(m.List, more.List...)
	if m.Until.IsZero() || !more.Until.IsZero() && more.Until.Before(m.Until) {
		m.Until = more.Until
	}
	m.order()
}

// order puts the moments in order, and leaves out those after which not all are known.
func (m *Moments) order() {
	slices.SortStableFunc(m.List, func(a, b Moment) int { return a.At.Compare(b.At) })
	m.List = slices.DeleteFunc(m.List, func(one Moment) bool { return !m.Until.IsZero() && one.At.After(m.Until) })
}

// first is the first moment, as far as is known; zero: none.
func (m *Moments) first() time.Time {
	if len(m.List) > 0 {
		return m.List[0].At
	}
	return m.Until
}

// move says that an entry passes the present at another moment, zero for never.
func (m *Moments) move(entry string, to time.Time) {
	m.List = slices.DeleteFunc(m.List, func(one Moment) bool { return one.Entry == entry })
	if !to.IsZero() {
		m.List = append(m.List, Moment{to, entry})
		m.order()
	}
}
