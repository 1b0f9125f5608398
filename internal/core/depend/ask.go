package depend

import (
	"slices"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
)

// Ask is what must be known of an entry, in a locale, to say whether a change of it
// matters: what conditions on entries that it leads to come to.
type Ask struct {
	Locale string
	Atoms  []filter.Expr
	Texts  []string
	// Type and Way, if there is a way, ask the same of the entries of a type that lead
	// here on it; Key names that.
	Type string
	Way  []filter.Step
	Key  string
}

func (a *Ask) about(l *listGroup) {
	for i := range l.split.Atoms {
		if atom := &l.split.Atoms[i]; len(a.Texts) < maxAsked && !slices.Contains(a.Texts, atom.String()) {
			a.Atoms, a.Texts = append(a.Atoms, atom.Pred()), append(a.Texts, atom.String())
		}
	}
}

// maxAsked bounds how many conditions are asked for one change, maxWays on how many
// ways.
const (
	maxAsked = 100
	maxWays  = 20
)

// Asks returns what the lists that a change may matter to want to know.
func (x *Index[S]) Asks(c *content.Change) []Ask {
	if !alters(c) {
		return nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []Ask
	for locale := range c.Fields {
		t := x.types[space{c.Edition, locale, c.Type}]
		s, _ := stepOf(c, locale)
		if t == nil {
			continue
		}
		a := Ask{Locale: locale}
		t.each(&s, func(l *listGroup) {
			if l.split != nil && l.member(s.after) {
				a.about(l)
			}
		})
		if a.Atoms != nil {
			out = append(out, a)
		}
		from := len(out)
		for _, l := range t.watching {
			for _, way := range l.turned(&s) {
				key := wayKey(l.Type, way)
				i := slices.IndexFunc(out[from:], func(o Ask) bool { return o.Key == key })
				if i < 0 {
					if len(out)-from == maxWays {
						break
					}
					i, out = len(out)-from, append(out, Ask{Locale: locale, Type: l.Type, Way: way, Key: key})
				}
				out[from+i].about(l)
			}
		}
	}
	return out
}
