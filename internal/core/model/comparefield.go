package model

import (
	"encoding/json"
	"fmt"
	"slices"
)

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
	if !sameJSON(was.Renditions, f.Renditions) {
		add(renditionsChange(was, f), "other renditions; what is read by their names changes")
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
			c.add(Difference{
				Type: typ, Field: in, Where: at, What: "removed", Severity: Loses,
				Text: "the kind of block and all blocks of it go",
			})
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

// renditionsChange is how much it matters: a name that goes breaks what reads by it.
func renditionsChange(was, f *Field) Severity {
	for _, r := range was.Renditions {
		if _, ok := f.Rendition(r.Name); !ok {
			return BreaksReads
		}
	}
	return Safe
}

func tightened(was, f *Field) bool {
	return !sameJSON(
		[]any{was.Min, was.Max, was.Pattern, was.Types, was.Marks, was.MaxBytes, was.MinWidth},
		[]any{f.Min, f.Max, f.Pattern, f.Types, f.Marks, f.MaxBytes, f.MinWidth},
	) ||
		string(was.Schema) != string(f.Schema)
}

func sameJSON(a, b any) bool {
	x, _ := json.Marshal(a) // plain records
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}
