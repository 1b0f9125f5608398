package model

import (
	"encoding/json"
	"slices"
	"sort"
)

// Everything stands, in Touches, for all locales or all types.
const Everything = "*"

// AllFields stands for which fields a type has, in which order, and of which form.
const AllFields = "*"

// Touches says in which parts documents that are read may differ between the
// models: by locale, or Everything for all locales, the types, by their old names,
// or single fields of them as TYPE.FIELD, or Everything for all types. What is not
// said is delivered as it was to whoever reads it by its old name.
func (c *Conversion) Touches() map[string][]string {
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
	add(Everything, c.Reshapes()...)
	for tag := range out {
		sort.Strings(out[tag])
		out[tag] = slices.Compact(out[tag])
	}
	return out
}

// Reshapes names, as TYPE.AllFields, the types of which an answer that shows all
// fields may show others, or the same otherwise, even if no document differs.
func (c *Conversion) Reshapes() (out []string) {
	for _, old := range c.from.Types {
		now := c.Type(old.Name)
		if now == nil || !slices.EqualFunc(old.Fields, now.Fields, func(a, b *Field) bool { return a.Name == b.Name && a.delivered() == b.delivered() }) {
			out = append(out, old.Name+"."+AllFields)
		}
	}
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

// HasProse tells whether the field holds prose, at whatever depth.
func (f *Field) HasProse() bool {
	return f.Kind == Prose || slices.ContainsFunc(f.Inner, func(t *Type) bool { return slices.ContainsFunc(t.Fields, (*Field).HasProse) })
}
