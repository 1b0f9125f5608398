package model

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Severity says what a difference between two models does to stored content.
type Severity string

// What a difference may do to stored content.
const (
	Safe         Severity = "safe"
	NeedsDefault Severity = "needs a default"
	// BreaksReads keeps everything that is stored, but requests that name it fail.
	BreaksReads Severity = "breaks reads"
	Loses       Severity = "loses data"
)

// Difference is one thing in which two models differ.
type Difference struct {
	// Type and Field it is about, by their old names if they have one; Field is
	// empty for the type itself, both are for a locale.
	Type  string `json:"type,omitempty"`
	Field string `json:"field,omitempty"`
	// Where is what people would look for, as in notice.severity.
	Where string `json:"where"`
	// What is added, removed, renamed or changed.
	What     string   `json:"what"`
	Severity Severity `json:"severity"`
	Text     string   `json:"text"`
}

// Compare lists the differences between two models, the worst first. It knows
// the models alone, not how many entries a difference touches.
func Compare(from, to *Model) []Difference {
	c := &comparison{conversion: Convert(from, to), from: from, to: to}
	c.locales()
	for _, old := range from.Types {
		now := c.conversion.Type(old.Name)
		if now == nil {
			c.add(
				Difference{
					Type:     old.Name,
					Where:    old.Name,
					What:     "removed",
					Severity: Loses,
					Text:     "the type and all of its entries go",
				},
			)
			continue
		}
		c.typ(old, now)
	}
	for _, t := range to.Types {
		if from.Type(t.Name) == nil && c.conversion.renamed[t.Was] != t.Name {
			c.add(
				Difference{
					Where:    t.Name,
					What:     "added",
					Severity: Safe,
					Text:     fmt.Sprintf("a new type with %d fields", len(t.Fields)),
				},
			)
		}
	}
	c.shapes()
	rank := []Severity{Loses, NeedsDefault, BreaksReads, Safe}
	slices.SortStableFunc(
		c.out, func(a, b Difference) int { return slices.Index(rank, a.Severity) - slices.Index(rank, b.Severity) },
	)
	return c.out
}

type comparison struct {
	conversion *Conversion
	from, to   *Model
	out        []Difference
}

func (c *comparison) add(d Difference) { c.out = append(c.out, d) }

func (c *comparison) locales() {
	for _, l := range c.from.Locales {
		now, ok := c.to.AnyLocale(l.Tag)
		d := Difference{Where: "locale " + l.Tag, What: "changed", Severity: Safe}
		switch {
		case !ok:
			d.What, d.Severity, d.Text = "removed", Loses, "everything written in it goes; retire it to keep that"
		case now.Retired && !l.Retired:
			d.Text = "it is not delivered and not edited any more; what was written is kept"
		case !now.Retired && l.Retired:
			d.Text = "it is delivered again"
		case !slices.Equal(l.Fallback, now.Fallback):
			d.Text = fmt.Sprintf(
				"it falls back to %s, not to %s; documents are laid out anew", orNothing(now.Fallback),
				orNothing(l.Fallback),
			)
		case l.Name != now.Name:
			d.Text = "it is called otherwise"
		default:
			continue
		}
		c.add(d)
	}
	for _, l := range c.to.Locales {
		if _, ok := c.from.AnyLocale(l.Tag); !ok {
			c.add(
				Difference{
					Where:    "locale " + l.Tag,
					What:     "added",
					Severity: Safe,
					Text:     "nothing is written in it yet; it falls back to " + orNothing(l.Fallback),
				},
			)
		}
	}
	if a, b := c.from.Default(), c.to.Default(); a != b {
		c.add(
			Difference{
				Where:    "locales",
				What:     "changed",
				Severity: Safe,
				Text:     fmt.Sprintf("the default is %s, not %s", b, a),
			},
		)
	}
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

func (c *comparison) typ(old, now *Type) {
	if old.Name != now.Name {
		c.add(
			Difference{
				Type:     old.Name,
				Where:    old.Name,
				What:     "renamed",
				Severity: BreaksReads,
				Text: "it is " + now.Name + " from now on; entries keep everything, addresses and queries " +
					"that name it change",
			},
		)
	}
	as := func(severity Severity) func(bool, string, ...any) {
		return func(differs bool, text string, args ...any) {
			if differs {
				c.add(
					Difference{
						Type:     old.Name,
						Where:    now.Name,
						What:     "changed",
						Severity: severity,
						Text:     fmt.Sprintf(text, args...),
					},
				)
			}
		}
	}
	change, breaks := as(Safe), as(BreaksReads)
	breaks(old.Plural != now.Plural, "it is listed under %s, not %s", now.Plural, old.Plural)
	change(old.Label != now.Label || old.Help != now.Help, "label or help is another")
	change(
		old.Path != now.Path || fmt.Sprint(old.Paths) != fmt.Sprint(now.Paths) || old.Home != now.Home,
		"paths are made otherwise; the former ones lead to the new",
	)
	change(old.Title != now.Title, "entries are known by %s, not by %s", now.Title, old.Title)
	change(old.Deprecated != now.Deprecated || old.Deprecation != now.Deprecation, "deprecated: %s", now.Deprecated)
	change(old.Approval != now.Approval, "approval before publishing: %t", now.Approval)
	change(!reflect.DeepEqual(old.Submissions, now.Submissions), "other submissions are taken")
	change(old.Freshness != now.Freshness, "answers may be kept for other times")
	if stale := time.Duration(max(now.Freshness.Private, now.Freshness.StaleInBrowsers)); stale > time.Duration(
		max(old.Freshness.Private, old.Freshness.StaleInBrowsers),
	) {
		change(true, "browsers may show what has changed for up to %s: nobody can tell them of changes", stale)
	}
	if old.Singleton != now.Singleton {
		d := Difference{
			Type:     old.Name,
			Where:    now.Name,
			What:     "changed",
			Severity: Safe,
			Text:     "it has many entries from now on",
		}
		if now.Singleton {
			d.Severity, d.Text = Loses, "only one entry can be read from now on"
		}
		c.add(d)
	}
	c.fields(old, now, old.Name, now.Name, "")
}

// fields compares the fields of two types, records or blocks. top is the type's
// field that they are within.
func (c *comparison) fields(old, now *Type, typ, where, top string) {
	taken := map[string]bool{}
	order := []string{}
	for _, f := range now.Fields {
		was := former(old, now, f)
		in := top
		if was == nil {
			if in == "" {
				in = f.Name
			}
			d := Difference{
				Type:     typ,
				Field:    in,
				Where:    where + "." + f.Name,
				What:     "added",
				Severity: Safe,
				Text:     "a new field of the kind " + string(f.Kind),
			}
			if f.Required && f.Default == nil && f.MadeFrom == "" {
				d.Severity, d.Text = NeedsDefault, "a required field that no entry has yet; give it a default, or "+
					"entries lack it until they are saved with one"
			}
			c.add(d)
			continue
		}
		taken[was.Name] = true
		order = append(order, was.Name)
		if in == "" {
			in = was.Name
		}
		c.field(was, f, typ, where, in)
	}
	var before []string
	for _, f := range old.Fields {
		if taken[f.Name] {
			before = append(before, f.Name)
			continue
		}
		in := top
		if in == "" {
			in = f.Name
		}
		c.add(
			Difference{
				Type:     typ,
				Field:    in,
				Where:    where + "." + f.Name,
				What:     "removed",
				Severity: Loses,
				Text:     "the field and its values go",
			},
		)
	}
	if !slices.Equal(before, order) {
		c.add(
			Difference{
				Type:     typ,
				Where:    where,
				What:     "changed",
				Severity: Safe,
				Text:     "the fields stand in another order",
			},
		)
	}
}
