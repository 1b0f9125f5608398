// Package rule decides which rules a change triggers, and says why the others do not.
package rule

import (
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/strictyaml"
)

// Rule is: on these events, when they concern these types, do these steps.
type Rule struct {
	Name        string   `yaml:"name" json:"name"`
	Description string   `yaml:"description" json:"description,omitempty"`
	Off         bool     `yaml:"off" json:"off,omitempty"`
	On          []string `yaml:"on" json:"on"`
	// Types that the rule is for; none means every type.
	Types []string `yaml:"types" json:"types,omitempty"`
	Do    []Step   `yaml:"do" json:"do"`
}

// Step is one thing a rule does.
type Step struct {
	Rebuild *Rebuild `yaml:"rebuild" json:"rebuild,omitempty"`
}

// Rebuild asks for a build of a site. Now skips the wait for more changes.
type Rebuild struct {
	Site string `yaml:"site" json:"site"`
	Now  bool   `yaml:"now" json:"now,omitempty"`
}

// File is the form of rules.yaml.
type File struct {
	Rules []Rule `yaml:"rules"`
}

// Check says everything that is wrong with the rules; types and sites are the
// names that exist. Warnings are worth a line in the log.
func Check(rules []Rule, types, sites []string) (warnings []string, err error) {
	var wrong []string
	add := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	seen := map[string]bool{}
	for i, r := range rules {
		if r.Name == "" {
			add("rule %d has no name", i+1)
		}
		if seen[r.Name] {
			add("two rules are named %q", r.Name)
		}
		seen[r.Name] = true
		if len(r.On) == 0 {
			add("rule %q has no events; add on: [published]", r.Name)
		}
		for _, on := range r.On {
			if on == event.Ping || !slices.Contains(event.Kinds, on) {
				add(
					"rule %q is on %q, which is none of saved, published, unpublished, deleted%s", r.Name, on,
					strictyaml.DidYouMean(on, event.Kinds),
				)
			}
		}
		for _, t := range r.Types {
			if !slices.Contains(types, t) {
				add("rule %q names the unknown type %q%s", r.Name, t, strictyaml.DidYouMean(t, types))
			}
		}
		if len(r.Types) == 0 {
			warnings = append(warnings, fmt.Sprintf("rule %q names no type, so it is for every change", r.Name))
		}
		if len(r.Do) == 0 {
			add("rule %q does nothing; add do: [{rebuild: {site: …}}]", r.Name)
		}
		for _, s := range r.Do {
			if s.Rebuild == nil {
				add("rule %q has a step that is no rebuild", r.Name)
			} else if !slices.Contains(sites, s.Rebuild.Site) {
				add("rule %q rebuilds the unknown site %q%s", r.Name, s.Rebuild.Site,
					strictyaml.DidYouMean(s.Rebuild.Site, sites))
			}
		}
	}
	if len(wrong) > 0 {
		return warnings, fmt.Errorf("rules: %s", strings.Join(wrong, "\nrules: "))
	}
	return warnings, nil
}

// Fires tells whether the change sets off the rule; if not, why not.
func (r *Rule) Fires(c *content.Change) (bool, string) {
	if r.Off {
		return false, "the rule is off"
	}
	if c.Kind != content.ContentChange {
		return false, "no content changed"
	}
	what := c.What
	if what == content.Moved && c.Edition == content.Published {
		what = event.Published // it shows otherwise, as if it were published again
	}
	if (c.Edition == content.Preview) != (what == event.Saved) {
		return false, "the change concerns the other edition"
	}
	if !slices.Contains(r.On, what) {
		return false, fmt.Sprintf("it is on %s, this was %s", strings.Join(r.On, ", "), what)
	}
	if len(r.Types) > 0 && !slices.Contains(r.Types, c.Type) {
		return false, fmt.Sprintf("it is for %s, this is a %s", strings.Join(r.Types, ", "), c.Type)
	}
	return true, ""
}
