package model

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Type returns the type of that name, or nil.
func (m *Model) Type(name string) *Type { return m.byName[name] }

// ByPlural returns the type whose entries are listed under that name, or nil.
func (m *Model) ByPlural(plural string) *Type { return m.byPlural[plural] }

// Locale returns the locale of that tag, unless it is retired.
func (m *Model) Locale(tag string) (Locale, bool) {
	l, ok := m.AnyLocale(tag)
	return l, ok && !l.Retired
}

// AnyLocale returns the locale of that tag, retired or not.
func (m *Model) AnyLocale(tag string) (Locale, bool) {
	for _, l := range m.Locales {
		if strings.EqualFold(l.Tag, tag) {
			return l, true
		}
	}
	return Locale{}, false
}

// Default returns the tag of the default locale.
func (m *Model) Default() string { return m.Tags()[0] }

// Tags returns the tags of the locales that are not retired, the default first.
func (m *Model) Tags() []string {
	var tags []string
	for _, l := range m.Locales {
		if !l.Retired {
			tags = append(tags, l.Tag)
		}
	}
	return tags
}

// TypeNames returns the names of all types.
func (m *Model) TypeNames() []string {
	names := make([]string, len(m.Types))
	for i, t := range m.Types {
		names[i] = t.Name
	}
	return names
}

// Backs returns the back-references to entries of the type, in the order of the
// types that refer to it.
func (m *Model) Backs(typ string) []Back { return m.backs[typ] }

// Back returns the back-reference of that name.
func (m *Model) Back(typ, name string) (Back, bool) {
	for _, b := range m.backs[typ] {
		if b.Name == name {
			return b, true
		}
	}
	return Back{}, false
}

// Chain returns the locales in which a value is looked for, the asked one
// first. Fallbacks of fallbacks follow; none comes twice.
func (m *Model) Chain(tag string) []string { return m.chains[tag] }

// Field returns the field of that name, or nil.
func (t *Type) Field(name string) *Field { return t.byName[name] }

// FieldNames returns the names of all fields in their order.
func (t *Type) FieldNames() []string {
	names := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		names[i] = f.Name
	}
	return names
}

// HasTranslations tells whether any field, or any field within one, has a value
// per locale.
func (t *Type) HasTranslations() bool {
	return slices.ContainsFunc(t.Fields, func(f *Field) bool {
		return f.Translated || slices.ContainsFunc(f.Inner, (*Type).HasTranslations)
	})
}

// PathIn returns the template of the site path in a locale.
func (t *Type) PathIn(tag string) string {
	if p, ok := t.Paths[tag]; ok {
		return p
	}
	return t.Path
}

// HasPath tells whether entries of the type have a page in some locale.
func (t *Type) HasPath() bool { return t.Path != "" || len(t.Paths) > 0 }

var inBraces = regexp.MustCompile(`\{([^}]*)\}`)

// FillPath fills in a path template; value returns what a name in braces stands
// for. It returns nil when there is no template or one of them has no value.
func FillPath(template string, value func(name string) (string, bool)) *string {
	if template == "" {
		return nil
	}
	complete := true
	path := inBraces.ReplaceAllStringFunc(template, func(h string) string {
		s, ok := value(h[1 : len(h)-1])
		complete = complete && ok
		if strings.HasSuffix(h, ".path}") {
			return s // is a path already
		}
		return url.PathEscape(s)
	})
	if !complete {
		return nil
	}
	for strings.Contains(path, "//") {
		path = strings.ReplaceAll(path, "//", "/")
	}
	if len(path) > 1 {
		path = strings.TrimSuffix(path, "/")
	}
	return &path
}

// Parents returns the names of the reference fields whose entries' paths are
// part of the path of an entry of the type.
func (t *Type) Parents() []string {
	var out []string
	templates := []string{t.Path}
	for _, p := range t.Paths {
		templates = append(templates, p)
	}
	for _, p := range templates {
		for _, hole := range inBraces.FindAllStringSubmatch(p, -1) {
			if name, ok := strings.CutSuffix(hole[1], ".path"); ok && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// SlugField returns the field that finds an entry by slug, or nil.
func (t *Type) SlugField() *Field {
	for _, f := range t.Fields {
		if f.Kind == Slug {
			return f
		}
	}
	return nil
}

// Option returns the label of a choice's value.
func (f *Field) Option(value string) (label string, ok bool) {
	for _, o := range f.Options {
		if o.Value == value {
			return o.Label, true
		}
	}
	return "", false
}

// InnerType returns what a block of that kind, or with "" a record, is made of;
// nil if there is no such.
func (f *Field) InnerType(name string) *Type {
	for _, t := range f.Inner {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// Filterable tells whether a filter can compare the field's values; of the others
// it can only ask whether there are any.
func (f *Field) Filterable() bool {
	switch f.Kind {
	case Prose, File, Location, JSON, Record, Blocks:
		return false
	}
	return true
}

// Sortable tells whether lists can be sorted by the field.
func (f *Field) Sortable() bool {
	switch f.Kind {
	case Prose, Reference, File, Location, JSON, Record, Blocks:
		return false
	}
	return !f.Several
}

// Matches tells whether a text fits the field's pattern.
func (f *Field) Matches(s string) bool { return f.pattern == nil || f.pattern.MatchString(s) }

// CheckJSON checks a value, as encoding/json decodes it, against the field's
// JSON Schema. The error says where in the value what is wrong.
func (f *Field) CheckJSON(v any) error {
	if f.schema == nil {
		return nil
	}
	return schemaError(f.schema.Validate(v))
}

// NeverNull tells whether every entry that is delivered has a value: it has a default, or
// is a list. One that is required may lack it still, in a draft, or where it was saved before
// that was so.
func (f *Field) NeverNull() bool {
	return f.IsList() && f.Kind != Reference || f.Default != nil && f.Kind != Reference && f.Kind != File
}

// IsList tells whether a value of the field is a list.
func (f *Field) IsList() bool { return f.Several || f.Kind == Blocks }

// InnerOf returns what a record or a block, as stored, is made of; nil if its
// kind of block is unknown.
func (f *Field) InnerOf(value map[string]any) *Type {
	name := ""
	if f.Kind == Blocks {
		name, _ = value[BlockName].(string)
	}
	return f.InnerType(name)
}

// canonical writes JSON in one form, whoever wrote it before.
func canonical(src json.RawMessage) (json.RawMessage, error) {
	var v any
	if err := json.Unmarshal(src, &v); err != nil {
		return nil, err
	}
	return json.Marshal(v)
}

func (t *Type) index() error {
	t.byName = map[string]*Field{}
	for _, f := range t.Fields {
		t.byName[f.Name] = f
		var err error
		if f.Pattern != "" {
			if f.pattern, err = regexp.Compile(`^(?:` + f.Pattern + `)$`); err != nil {
				return fmt.Errorf("field %s has a pattern that cannot be read: %w", f.Name, err)
			}
		}
		if f.Schema != nil {
			if f.Schema, err = canonical(f.Schema); err != nil {
				return fmt.Errorf("field %s has a schema that is no JSON: %w", f.Name, err)
			}
			if f.schema, err = compileSchema(f.Schema); err != nil {
				return fmt.Errorf("field %s: %w", f.Name, err)
			}
		}
		for _, inner := range f.Inner {
			if err := inner.index(); err != nil {
				return err
			}
		}
	}
	return nil
}

// relabel has the options of choices be called, where no locale counts, as in the default
// one.
func (m *Model) relabel() {
	var all func(t *Type)
	all = func(t *Type) {
		for _, f := range t.Fields {
			for i := range f.Options {
				f.Options[i].Label = f.Options[i].LabelIn(m.Chain(m.Default()))
			}
			for _, inner := range f.Inner {
				all(inner)
			}
		}
	}
	for _, t := range m.Types {
		all(t)
	}
}

// index adds the built-in types and makes what lookups go by.
func (m *Model) index() error {
	m.withBuiltIn()
	return m.reindex()
}

func (m *Model) reindex() error {
	m.byName, m.byPlural, m.backs = map[string]*Type{}, map[string]*Type{}, map[string][]Back{}
	for _, t := range m.Types {
		m.byName[t.Name] = t
		if !t.Singleton {
			m.byPlural[t.Plural] = t
		}
		if err := t.index(); err != nil {
			return fmt.Errorf("type %s: %w", t.Name, err)
		}
	}
	for _, t := range m.Types {
		for _, f := range t.Fields {
			if f.Inverse == "" {
				continue
			}
			for _, target := range f.Types {
				m.backs[target] = append(m.backs[target], Back{Name: f.Inverse, Type: t, Field: f})
			}
		}
	}
	defer m.relabel()
	m.chains = map[string][]string{}
	for _, l := range m.Locales {
		var walk func(tag string)
		var chain []string
		seen := map[string]bool{}
		walk = func(tag string) {
			next, ok := m.AnyLocale(tag)
			if !ok || seen[tag] {
				return
			}
			seen[tag] = true
			if !next.Retired {
				chain = append(chain, tag)
			}
			for _, f := range next.Fallback {
				walk(f)
			}
		}
		walk(l.Tag)
		m.chains[l.Tag] = chain
	}
	return nil
}

// With returns a copy of the model with further types, which no entry can have: their names need
// not be those of types. Its error names a type that cannot be indexed.
func (m *Model) With(types ...*Type) (*Model, error) {
	src, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	out := &Model{}
	if err := json.Unmarshal(src, out); err != nil {
		return nil, err
	}
	out.Types = append(out.Types, types...)
	return out, out.index()
}
