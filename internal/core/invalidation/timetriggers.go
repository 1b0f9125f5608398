package invalidation

import (
	"slices"
	"time"
)

// TimeTriggers are the times at which entries cross a condition on the present time, such
// as `until > now()`, in ascending order. Only crossings that can change the list are
// included.
type TimeTriggers struct {
	List []TimeTrigger
	// Until is the time up to which all triggers are known. The zero value means that all
	// of them are.
	Until time.Time
}

// TimeTrigger is the time at which one entry crosses the condition. A trigger without an
// entry expires the list, whatever it shows.
type TimeTrigger struct {
	At    time.Time
	Entry string
}

// Add merges triggers that were found separately.
func (m *TimeTriggers) Add(more TimeTriggers) {
	m.List = append(m.List, more.List...)
	if m.Until.IsZero() || !more.Until.IsZero() && more.Until.Before(m.Until) {
		m.Until = more.Until
	}
	m.order()
}

// order sorts the triggers and drops those later than Until.
func (m *TimeTriggers) order() {
	slices.SortStableFunc(m.List, func(a, b TimeTrigger) int { return a.At.Compare(b.At) })
	m.List = slices.DeleteFunc(
		m.List, func(one TimeTrigger) bool { return !m.Until.IsZero() && one.At.After(m.Until) },
	)
}

// first returns the earliest trigger, or Until where none is known; zero means never.
func (m *TimeTriggers) first() time.Time {
	if len(m.List) > 0 {
		return m.List[0].At
	}
	return m.Until
}

// move sets an entry's trigger; the zero time removes it.
func (m *TimeTriggers) move(entry string, to time.Time) {
	m.List = slices.DeleteFunc(m.List, func(one TimeTrigger) bool { return one.Entry == entry })
	if !to.IsZero() {
		m.List = append(m.List, TimeTrigger{to, entry})
		m.order()
	}
}
