package rule

import (
	"fmt"
	"slices"
	"strings"
)

// seenByReaders are the events in which a reader of some edition sees a difference.
var seenByReaders = []string{Saved, Published, Unpublish, Deleted, Moved}

// Warn says what is odd about a rule that is sound, given all rules of the environment.
func Warn(r *Rule, all []Rule, s *Surroundings) (warnings []string) {
	add := func(format string, args ...any) { warnings = append(warnings, fmt.Sprintf(format, args...)) }
	onEntries := slices.ContainsFunc(r.On, func(on string) bool { return slices.Contains(seenByReaders, on) })
	if onEntries && len(r.Types) == 0 && r.When == "" {
		add("rule %q names no type and has no condition, so it is for every change", r.Name)
	}
	for i := range r.Do {
		site := r.Do[i].Site()
		if site == "" || !onEntries {
			continue
		}
		if missing := s.unread(r, site); len(missing) > 0 {
			add("rule %q keeps %s fresh and is not for %s, which the site reads", r.Name, site,
				strings.Join(missing, ", "))
		}
		for j := range all {
			if o := &all[j]; o.Name != r.Name && !o.Off && !r.Off && r.Do[i].Rebuild != nil && o.overlaps(r, site) {
				add("the rules %q and %q rebuild %s on the same event", r.Name, o.Name, site)
			}
		}
	}
	if loop := loopOf(r, all, s.Vocabulary); loop != nil {
		add("the rules %s set off one another; what follows from them ends at the first one that has run already",
			strings.Join(loop, " → "))
	}
	return warnings
}

// unread are the types that a site reads and the rule is not for.
func (s *Surroundings) unread(r *Rule, site string) (missing []string) {
	if s.Vocabulary == nil || len(s.SiteReads[site]) == 0 {
		return nil
	}
	var condition *condition
	if r.When != "" {
		condition, _ = s.Vocabulary.compile(r.When, s.Vocabulary.typesOf(r))
	}
	for _, t := range s.SiteReads[site] {
		switch {
		case len(r.Types) > 0 && !slices.Contains(r.Types, t):
			missing = append(missing, t)
		case condition != nil && (condition.byType[t] == nil || !admits(condition.byType[t], t)):
			missing = append(missing, t)
		}
	}
	return missing
}

// overlaps reports whether the rule rebuilds the site on an event and type that r is for, too,
// and neither has a condition that may keep them apart.
func (o *Rule) overlaps(r *Rule, site string) bool {
	if !slices.ContainsFunc(o.Do, func(s Step) bool { return s.Rebuild != nil && s.Rebuild.Site == site }) ||
		o.When != "" || r.When != "" {
		return false
	}
	share := func(a, b []string) bool {
		return slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) })
	}
	return share(o.On, r.On) && (len(o.Types) == 0 || len(r.Types) == 0 || share(o.Types, r.Types))
}

// loopOf returns the names of rules that lead from r back to r; nil if there are none.
func loopOf(r *Rule, all []Rule, v *Vocabulary) []string {
	var walk func(at *Rule, way []string) []string
	walk = func(at *Rule, way []string) []string {
		for i := range all {
			next := &all[i]
			if next.Name == r.Name {
				next = r
			}
			if next.Off || !at.leadsTo(next, v) {
				continue
			}
			if next.Name == r.Name {
				return append(way, r.Name)
			}
			if !slices.Contains(way, next.Name) && len(way) < MaxChain {
				if loop := walk(next, append(slices.Clone(way), next.Name)); loop != nil {
					return loop
				}
			}
		}
		return nil
	}
	if r.Off {
		return nil
	}
	return walk(r, []string{r.Name})
}

// leadsTo reports whether a step of the rule can set off another one, as far as events and types
// tell.
func (r *Rule) leadsTo(next *Rule, v *Vocabulary) bool {
	for i := range r.Do {
		s := &r.Do[i]
		var event string
		var which Which
		switch {
		case s.Publish != nil:
			event, which = Published, *s.Publish
		case s.Unpublish != nil:
			event, which = Unpublish, *s.Unpublish
		default:
			continue // a schedule breaks the chain
		}
		if !slices.Contains(next.On, event) {
			continue
		}
		types := r.Types
		if which.Filter != "" && v != nil {
			if of, err := v.Select(which.Filter); err == nil {
				types = []string{of.Type}
			}
		}
		if len(types) == 0 || len(next.Types) == 0 ||
			slices.ContainsFunc(types, func(t string) bool { return slices.Contains(next.Types, t) }) {
			return true
		}
	}
	return false
}
