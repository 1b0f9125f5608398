package model

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/text/language"

	"ubiquon/internal/core/strictyaml"
)

// Reserved are the names that no plural may have, since they are addresses of
// their own under every edition.
var Reserved = []string{"entries", "at", "paths", "files", "schema", "openapi.json", "changes", "graphql"}

// TakenFieldNames are the names that no field may have: they name the entry
// itself, what is said about it, or one of its own times in a sort.
var TakenFieldNames = []string{"id", "about", "published", "updated", "firstPublished"}

// MaxNesting is how deep records and blocks may stand in each other.
const MaxNesting = 4

// Read makes one model out of YAML files, given by name. Its error is a
// strictyaml.Mistakes that lists everything wrong in all files.
func Read(files map[string][]byte) (*Model, error) {
	r := reader{m: &Model{}, at: map[string]strictyaml.Mistake{}}
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		var form fileForm
		if err := strictyaml.Decode(name, files[name], &form); err != nil {
			r.found = append(r.found, err.(strictyaml.Mistakes)...)
			continue
		}
		r.file(name, form)
	}
	if len(r.found) == 0 {
		r.whole()
	}
	if len(r.found) > 0 {
		return nil, r.found
	}
	return r.m, nil
}

// FromJSON reads a model as Model itself is written by encoding/json, the form
// in which it is stored.
func FromJSON(src []byte) (*Model, error) {
	m := &Model{}
	if err := json.Unmarshal(src, m); err != nil {
		return nil, fmt.Errorf("stored model: %w", err)
	}
	return m, m.index()
}

type reader struct {
	m     *Model
	found strictyaml.Mistakes
	at    map[string]strictyaml.Mistake // where a type, field or locale stands
}

func (r *reader) mark(key, file string, line, column int) {
	r.at[key] = strictyaml.Mistake{File: file, Line: line, Column: column}
}

func (r *reader) add(key, format string, args ...any) {
	m := r.at[key]
	m.Text = fmt.Sprintf(format, args...)
	r.found = append(r.found, m)
}

var (
	typeName  = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	fieldName = regexp.MustCompile(`^[a-z][A-Za-z0-9]*$`)
)

// once marks the place of a name and tells whether it is the first of its kind.
func (r *reader) once(key, file string, line, column int, what string) bool {
	_, twice := r.at[key]
	r.mark(key, file, line, column)
	if twice {
		r.add(key, "%s is declared twice", what)
	}
	return !twice
}

func (r *reader) file(name string, form fileForm) {
	for _, l := range form.Locales {
		key := "locale " + l.Name
		if !r.once(key, name, l.Line, l.Column, key) {
			continue
		}
		if _, err := language.Parse(l.Name); err != nil {
			r.add(key, "%q is no BCP 47 language tag; write it as in en, nb or pt-BR", l.Name)
		}
		r.m.Locales = append(
			r.m.Locales,
			Locale{Tag: l.Name, Name: l.Value.Name, Fallback: l.Value.Fallback, Retired: l.Value.Retired},
		)
	}
	for _, item := range form.Types {
		key := "type " + item.Name
		if !r.once(key, name, item.Line, item.Column, key) {
			continue
		}
		f := item.Value
		t := &Type{
			Name:        item.Name,
			Plural:      f.Plural,
			Label:       f.Label,
			Help:        f.Help,
			Was:         f.Was,
			Deprecated:  f.Deprecated,
			Farewell:    Farewell{f.Since, f.Sunset},
			Path:        f.Path.all,
			Paths:       f.Path.byName,
			Home:        f.Home,
			Title:       f.Title,
			Singleton:   f.Singleton,
			Approval:    f.Approval,
			Submissions: f.Submissions,
			Freshness:   f.Freshness,
		}
		if t.Label == "" {
			t.Label = t.Name
		}
		if t.Plural == "" {
			t.Plural = t.Name
			if !t.Singleton {
				t.Plural += "s"
			}
		}
		t.Fields = r.fields(name, key, f.Fields)
		r.m.Types = append(r.m.Types, t)
	}
}

// fields reads the fields of a type, a record or a block, whose place is marked
// under the key.
func (r *reader) fields(file, key string, in strictyaml.Ordered[fieldForm]) []*Field {
	var out []*Field
	for _, fi := range in {
		at := key + "." + fi.Name
		r.mark(at, file, fi.Line, fi.Column)
		v := fi.Value
		f := &Field{
			Name:       fi.Name,
			Kind:       Kind(v.Kind),
			Label:      v.Label,
			Help:       v.Help,
			Was:        v.Was,
			Deprecated: v.Deprecated,
			Farewell:   Farewell{v.Since, v.Sunset},
			Required:   v.Required,
			Indexed:    v.Indexed,
			Unique:     v.Unique,
			Translated: v.Translated,
			Several:    v.Several,
			Min:        v.Min,
			Max:        v.Max,
			Pattern:    v.Pattern,
			Types:      v.Types,
			Inverse:    v.Inverse,
			MadeFrom:   v.MadeFrom,
			Marks:      v.Marks,
		}
		if v.Default != nil {
			f.Default = asJSON(v.Default)
		}
		if v.Schema != nil {
			f.Schema, _ = json.Marshal(asJSON(v.Schema)) // was JSON a moment ago
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
}

func (r *reader) locales() {
	m := r.m
	var all []string
	for _, l := range m.Locales {
		all = append(all, l.Tag)
	}
	if len(m.Tags()) == 0 {
		r.add("locale "+all[0], "every locale is retired; keep one")
	}
	for _, l := range m.Locales {
		for _, f := range l.Fallback {
			if !slices.Contains(all, f) {
				r.add(
					"locale "+l.Tag, "locale %s falls back to %q, which is not declared%s", l.Tag, f,
					strictyaml.DidYouMean(f, all),
				)
			} else if r.leadsTo(f, l.Tag, map[string]bool{}) {
				r.add("locale "+l.Tag, "locales %s and %s fall back to each other; leave one of the two out", l.Tag, f)
			}
		}
	}
}

// leadsTo tells whether the fallbacks of a locale come to the other.
func (r *reader) leadsTo(from, to string, seen map[string]bool) bool {
	if from == to {
		return true
	}
	if seen[from] {
		return false
	}
	seen[from] = true
	l, _ := r.m.AnyLocale(from)
	return slices.ContainsFunc(l.Fallback, func(f string) bool { return r.leadsTo(f, to, seen) })
}

func (r *reader) typ(t *Type) {
	key := "type " + t.Name
	if !typeName.MatchString(t.Name) {
		r.add(key, "type name %q: use a-z, 0-9 and single hyphens, a letter first", t.Name)
	}
	if slices.Contains(Reserved, t.Plural) || !typeName.MatchString(t.Plural) {
		r.add(
			key, "type %s cannot have the plural %q: use a-z, 0-9 and hyphens, and none of %s", t.Name, t.Plural,
			strings.Join(Reserved, ", "),
		)
	}
	if t.Title == "" {
		for _, f := range t.Fields {
			if f.Kind == Text {
				t.Title = f.Name
				break
			}
		}
	} else if t.Field(t.Title) == nil {
		r.add(key, "type %s has the title %q, which is none of its fields%s", t.Name, t.Title,
			strictyaml.DidYouMean(t.Title, t.FieldNames()))
	}
	if t.Path != "" {
		r.path(t, t.Path)
	}
	for _, tag := range slices.Sorted(maps.Keys(t.Paths)) {
		if _, ok := r.m.AnyLocale(tag); !ok {
			r.add(
				key, "type %s has a path for the locale %q, which is not declared%s", t.Name, tag,
				strictyaml.DidYouMean(tag, r.m.Tags()),
			)
		}
		r.path(t, t.Paths[tag])
	}
	if t.Home != "" && (!t.HasPath() || t.SlugField() == nil) {
		r.add(key, "type %s has a home, but no path or no slug to find it by", t.Name)
	}
	if t.Submissions != nil {
		r.submissions(t, key)
	}
	r.farewell(key, "type "+t.Name, t.Deprecated, t.Farewell)
	r.group(t, key, t.Name, 0)
}

// farewell checks what is said of something deprecated.
func (r *reader) farewell(key, what, why string, days Farewell) {
	switch {
	case why == "" && days != Farewell{}:
		r.add(
			key, "%s has deprecatedSince or sunset, but is not deprecated; say why, as in deprecated: use the slug",
			what,
		)
	case why != "" && days.DeprecatedSince == "":
		r.add(key, "%s is deprecated; say since when, as in deprecatedSince: 2026-11-23, for readers are told", what)
	}
	for _, day := range []string{days.DeprecatedSince, days.Sunset} {
		if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
			r.add(key, "%s: %q is no date; write it as in 2026-11-23", what, day)
		}
	}
}

// submissions checks what may be handed in.
func (r *reader) submissions(t *Type, key string) {
	s := t.Submissions
	if s.Bytes == 0 {
		s.Bytes = 16 << 10
	}
	if s.PerMinute == 0 {
		s.PerMinute = 5
	}
	if len(s.Fields) == 0 {
		r.add(key, "submissions of type %s take no fields; add fields: [%s]", t.Name, t.Title)
	}
	if s.Bytes < 0 || s.Bytes > 1<<20 || s.PerMinute < 0 {
		r.add(key, "submissions of type %s: bytes is 1 to 1048576, perMinute more than 0", t.Name)
	}
	for _, name := range s.Fields {
		switch f := t.Field(name); {
		case f == nil:
			r.add(
				key, "submissions of type %s take %q, which is none of its fields%s", t.Name, name,
				strictyaml.DidYouMean(name, t.FieldNames()),
			)
		case f.Unique || f.Kind == Slug:
			// The refusal would tell what others have handed in.
			r.add(key, "submissions of type %s take %q, whose values are unique; leave it out", t.Name, name)
		case f.Kind == Reference || f.Kind == Record || f.Kind == Blocks:
			r.add(key, "submissions of type %s take %q, which is a %s; leave it out", t.Name, name, f.Kind)
		}
	}
	if s.Trap != "" && t.Field(s.Trap) != nil {
		r.add(
			key, "submissions of type %s have the trap %q, which is one of its fields; give it a name of its own",
			t.Name, s.Trap,
		)
	}
}

// path checks a template of a site path.
func (r *reader) path(t *Type, template string) {
	key := "type " + t.Name
	if !strings.HasPrefix(template, "/") {
		r.add(key, "the path of type %s must begin with a slash", t.Name)
	}
	for _, hole := range inBraces.FindAllStringSubmatch(template, -1) {
		name, ofParent := strings.CutSuffix(hole[1], ".path")
		switch f := t.Field(name); {
		case f == nil:
			r.add(
				key, "the path of type %s names {%s}, which is none of its fields%s", t.Name, hole[1],
				strictyaml.DidYouMean(name, t.FieldNames()),
			)
		case ofParent && (f.Kind != Reference || f.Several):
			r.add(
				key, "the path of type %s names {%s}, but %s is no reference to a single entry", t.Name, hole[1],
				name,
			)
		case !ofParent && (f.Several || f.Kind != Slug && f.Kind != Text && f.Kind != Choice && f.Kind != Date):
			r.add(key, "the path of type %s names {%s}; use a single slug, text, choice or date", t.Name, hole[1])
		}
	}
}

// backs checks the names of the ways back to a type.
func (r *reader) backs(t *Type) {
	names := map[string]string{}
	for _, b := range r.m.Backs(t.Name) {
		key, from := "type "+b.Type.Name+"."+b.Field.Name, b.Type.Name+"."+b.Field.Name
		switch other := names[b.Name]; {
		case !fieldName.MatchString(b.Name) || slices.Contains(TakenFieldNames, b.Name):
			r.add(
				key,
				"field %s has the inverse %q: use letters and digits, a small letter first, and no name that an "+
					"entry has itself",
				from, b.Name,
			)
		case t.Field(b.Name) != nil:
			r.add(key, "field %s has the inverse %q, but type %s has a field of that name", from, b.Name, t.Name)
		case other != "":
			r.add(key, "fields %s and %s have the same inverse %q to type %s", other, from, b.Name, t.Name)
		}
		names[b.Name] = from
	}
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
	r.farewell(key, "field "+name, f.Deprecated, f.Farewell)
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
	if f.Min != nil && f.Max != nil && *f.Min > *f.Max {
		r.add(key, "field %s has min %v above max %v", name, *f.Min, *f.Max)
	}
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
	if depth >= MaxNesting && f.Inner != nil {
		r.add(key, "field %s: records and blocks may be nested %d deep", name, MaxNesting)
		return
	}
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
		{len(f.Types) > 0, "types", []Kind{Reference}},
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
