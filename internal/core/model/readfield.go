package model

import (
	"encoding/json"
	"maps"
	"slices"
	"sort"

	"ubiquon/internal/core/strictyaml"
)

// fields reads the fields of a type, a record or a block, whose place is marked
// under the key.
func (r *reader) fields(file, key string, in strictyaml.Ordered[fieldForm]) []*Field {
	var out []*Field
	for _, fi := range in {
		at := key + "." + fi.Name
		r.mark(at, file, fi.Line, fi.Column)
		v := fi.Value
		f := &Field{
			Name:        fi.Name,
			Kind:        Kind(v.Kind),
			Label:       v.Label,
			Help:        v.Help,
			Was:         v.Was,
			Deprecated:  v.Deprecated,
			Deprecation: Deprecation{v.Since, v.Sunset},
			Required:    v.Required,
			Indexed:     v.Indexed,
			Unique:      v.Unique,
			Translated:  v.Translated,
			Several:     v.Several,
			Min:         v.Min,
			Max:         v.Max,
			Pattern:     v.Pattern,
			Types:       v.Types,
			Inverse:     v.Inverse,
			MadeFrom:    v.MadeFrom,
			Marks:       v.Marks,
			MaxBytes:    v.MaxBytes,
			MinWidth:    v.MinWidth,
		}
		for _, one := range v.Renditions {
			one.Value.Name = one.Name
			f.Renditions = append(f.Renditions, one.Value)
		}
		if v.Default != nil {
			f.Default = asJSON(v.Default)
		}
		if v.Schema != nil {
			f.Schema, _ = json.Marshal(asJSON(v.Schema)) // it was JSON just before
		}
		for _, o := range v.Options {
			label := o.Value.all
			if label == "" && len(o.Value.byName) == 0 {
				label = o.Name
			}
			for _, tag := range slices.Sorted(maps.Keys(o.Value.byName)) {
				if label == "" {
					label = o.Value.byName[tag]
				}
			}
			f.Options = append(f.Options, Option{Value: o.Name, Label: label, Labels: o.Value.byName})
		}
		if len(v.Fields) > 0 {
			f.Inner = []*Type{{Fields: r.fields(file, at, v.Fields)}}
		}
		for _, b := range v.Blocks {
			inner := at + "." + b.Name
			r.mark(inner, file, b.Line, b.Column)
			label := b.Value.Label
			if label == "" {
				label = b.Name
			}
			f.Inner = append(
				f.Inner,
				&Type{Name: b.Name, Label: label, Help: b.Value.Help, Fields: r.fields(file, inner, b.Value.Fields)},
			)
		}
		out = append(out, f)
	}
	return out
}

func (r *reader) whole() {
	m := r.m
	if len(m.Locales) == 0 {
		m.Locales = []Locale{{Tag: "en"}}
	}
	for _, t := range m.Types {
		if t.IsBuiltIn() {
			r.add("type "+t.Name, "the type %s is built in; take it out, or give yours another name", t.Name)
			return
		}
	}
	sort.Slice(m.Types, func(i, j int) bool { return m.Types[i].Name < m.Types[j].Name })
	for _, t := range m.Types {
		if err := t.index(); err != nil {
			r.add("type "+t.Name, "type %s: %s", t.Name, err)
			return
		}
	}
	if err := m.index(); err != nil {
		r.found = append(r.found, strictyaml.Mistake{Text: err.Error()})
		return
	}
	r.locales()
	plurals := map[string]string{}
	for _, t := range m.Types {
		r.typ(t)
		if other := plurals[t.Plural]; other != "" {
			r.add("type "+t.Name, "types %s and %s have the same plural %q", other, t.Name, t.Plural)
		}
		plurals[t.Plural] = t.Name
	}
	for _, t := range m.Types {
		r.backs(t)
	}
	r.checkShapes()
}

// group checks the fields of a type, a record or a block.
func (r *reader) group(t *Type, key, name string, depth int) {
	seen := map[string]bool{}
	for _, f := range t.Fields {
		r.field(t, f, key+"."+f.Name, name+"."+f.Name, depth)
		if seen[f.Name] {
			r.add(key+"."+f.Name, "field %s.%s is declared twice", name, f.Name)
		}
		seen[f.Name] = true
	}
}

func (r *reader) field(t *Type, f *Field, key, name string, depth int) {
	if !fieldName.MatchString(f.Name) {
		r.add(key, "field name %q: use letters and digits, a small letter first", f.Name)
	}
	if depth == 0 && slices.Contains(TakenFieldNames, f.Name) {
		r.add(key, "field %s: the name is taken by the entry itself; choose another", name)
	}
	if depth > 0 && f.Name == BlockName {
		r.add(key, "field %s: the name says of which kind a block is; choose another", name)
	}
	if !slices.Contains(Kinds, f.Kind) {
		known := make([]string, len(Kinds))
		for i, k := range Kinds {
			known[i] = string(k)
		}
		r.add(key, "field %s has the unknown kind %q%s", name, f.Kind, strictyaml.DidYouMean(string(f.Kind), known))
		return
	}
	r.belongs(f, key, name)
	r.references(f, key, name, depth)
	r.media(f, key, name)
	r.slug(t, f, key, name, depth)
	r.deprecation(key, "field "+name, f.Deprecated, f.Deprecation)
	r.lookedUp(f, key, name, depth)
	if f.Min != nil && f.Max != nil && *f.Min > *f.Max {
		r.add(key, "field %s has min %v above max %v", name, *f.Min, *f.Max)
	}
	r.options(f, key, name)
	if depth >= MaxNesting && f.Inner != nil {
		r.add(key, "field %s: records and blocks may be nested %d deep", name, MaxNesting)
		return
	}
	r.inner(f, key, name, depth)
}

// references checks what a reference leads to.
func (r *reader) references(f *Field, key, name string, depth int) {
	if f.Kind == Reference {
		if len(f.Types) == 0 {
			r.add(key, "field %s is a reference without types; add types: [name, …]", name)
		}
		for _, other := range f.Types {
			if r.m.Type(other) == nil {
				r.add(
					key, "field %s refers to the unknown type %q%s", name, other,
					strictyaml.DidYouMean(other, r.m.TypeNames()),
				)
			}
		}
	}
	if f.Inverse != "" && depth > 0 {
		r.add(
			key, "field %s: an inverse is for a type's own fields, not for those within a %s", name,
			"record or block",
		)
	}
}

// slug checks that entries are found by one slug, and what it is made from.
func (r *reader) slug(t *Type, f *Field, key, name string, depth int) {
	if f.MadeFrom != "" {
		if from := t.Field(f.MadeFrom); f.Kind != Slug || from == nil || from.Kind != Text {
			r.add(
				key, "field %s is madeFrom %q: only a slug is made, and only from a text field of the same type",
				name, f.MadeFrom,
			)
		}
	}
	switch {
	case f.Kind != Slug:
	case depth > 0:
		r.add(key, "field %s: entries are found by their own slug; use a text within a record or block", name)
	case f.Several:
		r.add(key, "field %s: a slug cannot have several values", name)
	case t.SlugField() != f:
		r.add(
			key, "field %s: type %s has the slug %s already, and entries are found by one", name, t.Name,
			t.SlugField().Name,
		)
	}
}

// lookedUp checks what is indexed or unique.
func (r *reader) lookedUp(f *Field, key, name string, depth int) {
	if f.Indexed && (depth > 0 || !f.Filterable()) {
		r.add(key, "field %s cannot be indexed: no list is filtered or sorted by it", name+"."+f.Name)
	}
	if f.Indexed && f.Kind == Text && !f.Several && (f.Max == nil || *f.Max > 600) {
		r.add(
			key, "field %s is indexed; bound its length with max: 600 or less, longer texts do not fit into an index",
			name+"."+f.Name,
		)
	}
	if f.Unique &&
		(depth > 0 || f.Several || !slices.Contains([]Kind{Slug, Text, Integer, Decimal, Date, DateTime}, f.Kind)) {
		r.add(key, "field %s: only a single slug, text, number, date or time of a type's own can be unique", name)
	}
}

// options checks the labels of a choice.
func (r *reader) options(f *Field, key, name string) {
	for _, o := range f.Options {
		for tag := range o.Labels {
			if _, ok := r.m.AnyLocale(tag); !ok {
				r.add(
					key, "option %s of field %s has a label for the locale %q, which is not declared%s", o.Value,
					name, tag, strictyaml.DidYouMean(tag, r.m.Tags()),
				)
			}
		}
	}
}

// inner checks the fields within a record or blocks.
func (r *reader) inner(f *Field, key, name string, depth int) {
	for _, inner := range f.Inner {
		at, label := key, name
		if f.Kind == Blocks {
			at, label = key+"."+inner.Name, name+"."+inner.Name
			if !typeName.MatchString(inner.Name) {
				r.add(at, "block %s: use a-z, 0-9 and single hyphens, a letter first", label)
			}
		}
		if f.Translated && inner.HasTranslations() {
			r.add(at, "field %s is translated as a whole, so nothing within it can be translated too", name)
		}
		r.group(inner, at, label, depth+1)
	}
}

// belongs checks that each setting is on a field of a kind that has it.
func (r *reader) belongs(f *Field, key, name string) {
	for _, s := range []struct {
		given bool
		what  string
		kinds []Kind
	}{
		{len(f.Options) > 0, "options", []Kind{Choice}},
		{len(f.Types) > 0, "types", []Kind{Reference, File}},
		{f.MaxBytes != 0, "maxBytes", []Kind{File}},
		{f.MinWidth != 0, "minWidth", []Kind{File}},
		{len(f.Renditions) > 0, "renditions", []Kind{File}},
		{f.Inverse != "", "an inverse", []Kind{Reference}},
		{f.Pattern != "", "a pattern", []Kind{Text}},
		{len(f.Marks) > 0, "marks", []Kind{Prose}},
		{f.Schema != nil, "a schema", []Kind{JSON}},
		{f.Inner != nil, "fields or blocks", []Kind{Record, Blocks}},
		{f.Several && f.Kind == Blocks, "several, which blocks are anyhow", nil},
	} {
		if s.given && !slices.Contains(s.kinds, f.Kind) {
			r.add(key, "field %s has %s, but is of the kind %s", name, s.what, f.Kind)
		}
	}
	if f.Kind == Choice && len(f.Options) == 0 {
		r.add(key, "field %s is a choice without options; add options: {value: Label, …}", name)
	}
	if f.Kind == Record && (len(f.Inner) != 1 || f.Inner[0].Name != "") {
		r.add(key, "field %s is a record without fields; add fields: {name: {kind: text}, …}", name)
	}
	if f.Kind == Blocks && (len(f.Inner) == 0 || f.Inner[0].Name == "") {
		r.add(key, "field %s has no kinds of block; add blocks: {name: {fields: {…}}, …}", name)
	}
	for _, mark := range f.Marks {
		if !slices.Contains(Marks, mark) {
			r.add(key, "field %s has the unknown mark %q%s", name, mark, strictyaml.DidYouMean(mark, Marks))
		}
	}
}
