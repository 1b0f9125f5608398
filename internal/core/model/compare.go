package model

import (
	"encoding/json"
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

// lossless are the kinds of which every value has a form in the other kind.
var lossless = map[Kind][]Kind{
	Text: {
		Prose, JSON,
	}, Prose: {Text, JSON}, Slug: {Text, JSON}, Integer: {Decimal, Text, JSON}, Decimal: {Text, JSON},
	Boolean: {Text, JSON},
	Date: {
		Text, DateTime, JSON,
	}, DateTime: {Text, JSON}, Choice: {Text, JSON}, Money: {JSON}, Location: {JSON}, Record: {JSON},
	Reference: {JSON}, File: {JSON},
}

func (c *comparison) field(was, f *Field, typ, where, in string) {
	at := Difference{Type: typ, Field: in, Where: where + "." + f.Name, What: "changed"}
	add := func(severity Severity, text string, args ...any) {
		d := at
		d.Severity, d.Text = severity, fmt.Sprintf(text, args...)
		c.add(d)
	}
	if was.Name != f.Name {
		d := at
		d.What, d.Severity, d.Text = "renamed", BreaksReads, "it was "+was.Name+"; values are kept, queries that "+
			"name it change"
		c.add(d)
	}
	if was.Kind != f.Kind {
		if slices.Contains(lossless[was.Kind], f.Kind) {
			add(Safe, "a %s becomes a %s; values are converted", was.Kind, f.Kind)
		} else {
			add(Loses, "a %s becomes a %s; values that have no such form go", was.Kind, f.Kind)
		}
	}
	if was.Translated && !f.Translated {
		add(Loses, "no longer translated; of several locales the first that has a value is kept")
	} else if !was.Translated && f.Translated {
		add(Safe, "translated from now on; values stay as those of %s", c.to.Default())
	}
	if was.IsList() && !f.IsList() {
		add(Loses, "a single value; of several the first is kept")
	} else if !was.IsList() && f.IsList() {
		add(Safe, "several values from now on")
	}
	if was.Kind == f.Kind {
		for _, o := range was.Options {
			if _, ok := f.Option(o.Value); !ok {
				add(Loses, "the option %s goes, and the values that are it", o.Value)
			}
		}
		if !sameJSON(was.Options, f.Options) &&
			!slices.ContainsFunc(was.Options, func(o Option) bool { _, ok := f.Option(o.Value); return !ok }) {
			add(Safe, "options are added or called otherwise")
		}
	}
	if f.Required && !was.Required && f.Default == nil {
		add(
			NeedsDefault,
			"required from now on; entries without a value lack it until they are saved with one, unless there is "+
				"a default",
		)
	} else if f.Required != was.Required {
		add(Safe, "required: %t", f.Required)
	}
	if f.Unique && !was.Unique && f.Kind != Slug {
		add(Safe, "unique from now on; the model is refused while two entries have the same value")
	}
	if tightened(was, f) {
		add(
			Safe,
			"min, max, pattern, schema or allowed types are another; stored values are checked when they are "+
				"saved next",
		)
	}
	if was.Indexed != f.Indexed {
		add(Safe, "an index is made for it, or given up; writers and readers go on meanwhile")
	}
	if was.Inverse != f.Inverse {
		add(BreaksReads, "the way back is called %q, not %q", f.Inverse, was.Inverse)
	}
	if !sameJSON(was.Default, f.Default) {
		src, _ := json.Marshal(f.Default) // came out of JSON
		add(Safe, "the default is %s", src)
	}
	if was.Label != f.Label || was.Help != f.Help || was.Deprecated != f.Deprecated || was.Deprecation != f.Deprecation {
		add(Safe, "label, help or deprecation is another")
	}
	if was.Kind == f.Kind && f.Inner != nil {
		c.inner(was, f, typ, where+"."+f.Name, in)
	}
}

func (c *comparison) inner(was, f *Field, typ, where, in string) {
	for _, old := range was.Inner {
		at := where
		if old.Name != "" {
			at += "." + old.Name
		}
		if now := f.InnerType(old.Name); now != nil {
			c.fields(old, now, typ, at, in)
		} else {
			c.add(Difference{Type: typ, Field: in, Where: at, What: "removed", Severity: Loses,
				Text: "the kind of block and all blocks of it go"})
		}
	}
	for _, now := range f.Inner {
		if was.InnerType(now.Name) == nil {
			c.add(
				Difference{
					Type:     typ,
					Field:    in,
					Where:    where + "." + now.Name,
					What:     "added",
					Severity: Safe,
					Text:     "a new kind of block",
				},
			)
		}
	}
}

func tightened(was, f *Field) bool {
	return !sameJSON(
		[]any{was.Min, was.Max, was.Pattern, was.Types, was.Marks}, []any{f.Min, f.Max, f.Pattern, f.Types, f.Marks},
	) ||
		string(was.Schema) != string(f.Schema)
}

func sameJSON(a, b any) bool {
	x, _ := json.Marshal(a) // plain records
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}
