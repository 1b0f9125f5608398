package model

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Everything stands, in Touches, for all locales or all types.
const Everything = "*"

// AllFields stands for which fields a type has, in which order, and of which form.
const AllFields = "*"

// AffectedFields says in which parts documents that are read may differ between the
// models: by locale, or Everything for all locales, the types, by their old names,
// or single fields of them as TYPE.FIELD, or Everything for all types. What is not
// said is delivered as it was to whoever reads it by its old name.
func (c *Conversion) AffectedFields() map[string][]string {
	if c.from.Default() != c.to.Default() {
		return map[string][]string{Everything: {Everything}}
	}
	out := map[string][]string{}
	add := func(locale string, names ...string) { out[locale] = append(out[locale], names...) }
	for _, tag := range slices.Concat(c.from.Tags(), c.to.Tags()) {
		there := slices.Contains(c.from.Tags(), tag) && slices.Contains(c.to.Tags(), tag)
		switch {
		case !there:
			add(tag, Everything)
		case !slices.Equal(c.from.Chain(tag), c.to.Chain(tag)):
			for _, t := range c.from.Types {
				if t.HasTranslations() {
					add(tag, t.Name)
				}
			}
		}
	}
	locales := !slices.Equal(c.from.Tags(), c.to.Tags())
	moves := c.MovesPaths()
	for _, old := range c.from.Types {
		now := c.Type(old.Name)
		if now == nil || now.Name != old.Name {
			add(Everything, old.Name)
			continue
		}
		if locales {
			add(Everything, old.Name+".about.locales")
		}
		if moves {
			add(Everything, old.Name+".about.path")
		}
		for _, f := range old.Fields {
			if is := now.Field(f.Name); is == nil || f.delivered() != is.delivered() || moves && f.HasProse() {
				add(Everything, old.Name+"."+f.Name)
			}
		}
		for _, f := range now.Fields {
			if old.Field(f.Name) == nil && f.Was != "" {
				add(Everything, old.Name+"."+f.Was, old.Name+"."+f.Name)
			}
		}
		if old.translations() != now.translations() {
			add(Everything, old.Name) // it may be there in more locales, or fewer
		}
	}
	for tag, names := range c.AffectedResponses() {
		add(tag, names...)
	}
	for tag := range out {
		sort.Strings(out[tag])
		out[tag] = slices.Compact(out[tag])
	}
	return out
}

// AnyLabel stands, in LabelOf, for all labels of the choices within a field.
const AnyLabel = "*"

// LabelOf names, as a part of a type, what a value of a choice is called.
func LabelOf(field, value string) string { return field + labelMark + value }

// IsLabel tells whether a part of a type is one that LabelOf names.
func IsLabel(part string) bool { return strings.Contains(part, labelMark) }

const labelMark = "=" // no name of a field has it

// AffectedResponses says, in the form of Touches, in what an answer may differ even if no
// document does: one that shows all fields of a type, as TYPE.AllFields, because these
// are others, or of another form; one that shows labels, as TYPE.LabelOf.
func (c *Conversion) AffectedResponses() map[string][]string {
	out := map[string][]string{Everything: nil}
	for _, old := range c.from.Types {
		now := c.Type(old.Name)
		if now == nil ||
			!slices.EqualFunc(
				old.Fields, now.Fields, func(a, b *Field) bool { return a.Name == b.Name && a.form() == b.form() },
			) {
			out[Everything] = append(out[Everything], old.Name+"."+AllFields)
		}
		if now == nil {
			continue
		}
		for _, f := range old.Fields {
			is := now.Field(f.Name)
			if is == nil || len(f.Options)+len(f.Inner) == 0 {
				continue
			}
			for _, tag := range c.from.Tags() {
				a, b := f.labels(c.from.Chain(tag)), is.labels(c.to.Chain(tag))
				for _, value := range differing(a, b) {
					out[tag] = append(out[tag], old.Name+"."+LabelOf(f.Name, value))
				}
			}
		}
	}
	return out
}

// labels are what the field's options are called, and those of choices within it as one.
func (f *Field) labels(chain []string) map[string]string {
	out := map[string]string{}
	for _, o := range f.Options {
		out[o.Value] = o.LabelIn(chain)
	}
	for _, t := range f.Inner {
		for _, in := range t.Fields {
			out[AnyLabel] += fmt.Sprint(t.Name, in.Name, in.labels(chain))
		}
	}
	return out
}

// differing lists the keys that two maps do not have alike, sorted.
func differing(a, b map[string]string) (out []string) {
	for key := range a {
		if is, there := b[key]; !there || is != a[key] {
			out = append(out, key)
		}
	}
	for key := range b {
		if _, there := a[key]; !there {
			out = append(out, key)
		}
	}
	sort.Strings(out)
	return out
}

// translations names the fields that have a value per locale, those within fields
// included.
func (t *Type) translations() string {
	out := ""
	for _, f := range t.Fields {
		if f.Translated {
			out += f.Name + " "
		}
		for _, inner := range f.Inner {
			if in := inner.translations(); in != "" {
				out += f.Name + "." + inner.Name + "(" + in + ") "
			}
		}
	}
	return out
}

// delivered writes down all of a field that its delivered values are made by.
func (f *Field) delivered() string {
	src, _ := json.Marshal(struct {
		Kind                Kind
		Translated, Several bool
		Default             any
		Marks, Types        []string
		Inner               []*Type
	}{f.Kind, f.Translated, f.Several, f.Default, f.Marks, f.Types, f.Inner}) // it came out of JSON
	return string(src)
}

// form writes down what a read of all fields makes of the field, whatever its values.
func (f *Field) form() string {
	out := fmt.Sprint(f.Kind, f.Several)
	if f.Kind == Reference {
		out += fmt.Sprint(f.Types)
	}
	for _, t := range f.Inner {
		for _, in := range t.Fields {
			out += fmt.Sprint(t.Name, in.Name, in.form())
		}
	}
	return out
}

// HasProse tells whether the field holds prose, at whatever depth.
func (f *Field) HasProse() bool {
	return f.Kind == Prose ||
		slices.ContainsFunc(f.Inner, func(t *Type) bool { return slices.ContainsFunc(t.Fields, (*Field).HasProse) })
}
