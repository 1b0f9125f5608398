package invalidation

import (
	"slices"

	"ubiquon/internal/core/filter"
)

// Probe is what must be known of an entry, in a locale, to say whether a change of it
// matters: what conditions on entries that it leads to come to.
type Probe struct {
	Locale string
	Atoms  []filter.Expr
	Texts  []string
	// Type and Way, if there is a way, ask the same of the entries of a type that lead
	// here on it; Key names that.
	Type string
	Path []filter.Step
	Key  string
}

func (a *Probe) about(l *listGroup) {
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

// Probes returns what the lists that a change may matter to want to know.
func (x *Index[S]) Probes(c *Delta) []Probe {
	if !alters(c) {
		return nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []Probe
	for locale := range c.Fields {
		t := x.types[space{c.Edition, locale, c.Type}]
		s, _ := documentDeltaOf(c, locale)
		if t == nil {
			continue
		}
		a := Probe{Locale: locale}
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
			for _, way := range l.changedReferencePaths(&s) {
				key := pathKey(l.Type, way)
				i := slices.IndexFunc(out[from:], func(o Probe) bool { return o.Key == key })
				if i < 0 {
					if len(out)-from == maxWays {
						break
					}
					i, out = len(out)-from, append(out, Probe{Locale: locale, Type: l.Type, Path: way, Key: key})
				}
				out[from+i].about(l)
			}
		}
	}
	return out
}

// MergeProbes unites what two indexes want to know of the same change.
func MergeProbes(all, more []Probe) []Probe {
	for _, p := range more {
		i := slices.IndexFunc(all, func(o Probe) bool { return o.Locale == p.Locale && o.Key == p.Key })
		if i < 0 {
			all = append(all, p)
			continue
		}
		for j, text := range p.Texts {
			if !slices.Contains(all[i].Texts, text) {
				all[i].Atoms, all[i].Texts = append(all[i].Atoms, p.Atoms[j]), append(all[i].Texts, text)
			}
		}
	}
	return all
}
