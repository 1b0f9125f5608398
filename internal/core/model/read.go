package model

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"golang.org/x/text/language"

	"ubiquon/internal/core/strictyaml"
)

// Reserved are the names that no plural may have, since they are addresses of
// their own under every edition.
var Reserved = []string{"entries", "at", "paths", "files", "schema", "openapi.json", "changes", "graphql"}

// TakenFieldNames are the names that no field may have: they name the entry
// itself, what is said about it, or one of its own times in a sort.
var TakenFieldNames = []string{"id", "about", "published", "updated", "firstPublished"}

type fileForm struct {
	Locales strictyaml.Ordered[localeForm] `yaml:"locales"`
	Types   strictyaml.Ordered[typeForm]   `yaml:"types"`
}

type localeForm struct {
	Name     string   `yaml:"name"`
	Fallback []string `yaml:"fallback"`
}

type typeForm struct {
	Plural    string                        `yaml:"plural"`
	Label     string                        `yaml:"label"`
	Path      string                        `yaml:"path"`
	Title     string                        `yaml:"title"`
	Singleton bool                          `yaml:"singleton"`
	Fields    strictyaml.Ordered[fieldForm] `yaml:"fields"`
	Freshness Freshness                     `yaml:"freshness"`
}

type fieldForm struct {
	Kind       string                     `yaml:"kind"`
	Label      string                     `yaml:"label"`
	Help       string                     `yaml:"help"`
	Required   bool                       `yaml:"required"`
	Unique     bool                       `yaml:"unique"`
	Translated bool                       `yaml:"translated"`
	Several    bool                       `yaml:"several"`
	Min        *int64                     `yaml:"min"`
	Max        *int64                     `yaml:"max"`
	Options    strictyaml.Ordered[string] `yaml:"options"`
	Types      []string                   `yaml:"types"`
	Inverse    string                     `yaml:"inverse"`
	MadeFrom   string                     `yaml:"madeFrom"`
}

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
	r.m.index()
	return r.m, nil
}

// FromJSON reads a model as Model itself is written by encoding/json, the form
// in which it is stored.
func FromJSON(src []byte) (*Model, error) {
	m := &Model{}
	if err := json.Unmarshal(src, m); err != nil {
		return nil, fmt.Errorf("stored model: %w", err)
	}
	m.index()
	return m, nil
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
	inBraces  = regexp.MustCompile(`\{([^}]*)\}`)
)

func (r *reader) file(name string, form fileForm) {
	for _, l := range form.Locales {
		key := "locale " + l.Name
		if _, twice := r.at[key]; twice {
			r.mark(key, name, l.Line, l.Column)
			r.add(key, "locale %s is declared twice", l.Name)
			continue
		}
		r.mark(key, name, l.Line, l.Column)
		if _, err := language.Parse(l.Name); err != nil {
			r.add(key, "%q is no BCP 47 language tag; write it as in en, nb or pt-BR", l.Name)
		}
		r.m.Locales = append(r.m.Locales, Locale{Tag: l.Name, Name: l.Value.Name, Fallback: l.Value.Fallback})
	}
	for _, item := range form.Types {
		key := "type " + item.Name
		if _, twice := r.at[key]; twice {
			r.mark(key, name, item.Line, item.Column)
			r.add(key, "type %s is declared twice", item.Name)
			continue
		}
		r.mark(key, name, item.Line, item.Column)
		f := item.Value
		t := &Type{Name: item.Name, Plural: f.Plural, Label: f.Label, Path: f.Path, Title: f.Title, Singleton: f.Singleton, Freshness: f.Freshness}
		if t.Label == "" {
			t.Label = t.Name
		}
		if t.Plural == "" {
			t.Plural = t.Name
			if !t.Singleton {
				t.Plural += "s"
			}
		}
		for _, fi := range f.Fields {
			r.mark(key+"."+fi.Name, name, fi.Line, fi.Column)
			v := fi.Value
			field := &Field{Name: fi.Name, Kind: Kind(v.Kind), Label: v.Label, Help: v.Help, Required: v.Required, Unique: v.Unique,
				Translated: v.Translated, Several: v.Several, Min: v.Min, Max: v.Max, Types: v.Types, Inverse: v.Inverse, MadeFrom: v.MadeFrom}
			for _, o := range v.Options {
				label := o.Value
				if label == "" {
					label = o.Name
				}
				field.Options = append(field.Options, Option{Value: o.Name, Label: label})
			}
			t.Fields = append(t.Fields, field)
		}
		r.m.Types = append(r.m.Types, t)
	}
}

func (r *reader) whole() {
	m := r.m
	if len(m.Locales) == 0 {
		m.Locales = []Locale{{Tag: "en"}}
	}
	sort.Slice(m.Types, func(i, j int) bool { return m.Types[i].Name < m.Types[j].Name })
	m.index()
	tags := m.Tags()
	for _, l := range m.Locales {
		for _, f := range l.Fallback {
			if !slices.Contains(tags, f) {
				r.add("locale "+l.Tag, "locale %s falls back to %q, which is not declared%s", l.Tag, f, strictyaml.DidYouMean(f, tags))
			} else if slices.Contains(m.chains[f], l.Tag) {
				r.add("locale "+l.Tag, "locales %s and %s fall back to each other; leave one of the two out", l.Tag, f)
			}
		}
	}
	plurals := map[string]string{}
	for _, t := range m.Types {
		key := "type " + t.Name
		if !typeName.MatchString(t.Name) {
			r.add(key, "type name %q: use a-z, 0-9 and single hyphens, a letter first", t.Name)
		}
		if slices.Contains(Reserved, t.Plural) || !typeName.MatchString(t.Plural) {
			r.add(key, "type %s cannot have the plural %q: use a-z, 0-9 and hyphens, and none of %s", t.Name, t.Plural, strings.Join(Reserved, ", "))
		}
		if other := plurals[t.Plural]; other != "" {
			r.add(key, "types %s and %s have the same plural %q", other, t.Name, t.Plural)
		}
		plurals[t.Plural] = t.Name
		if t.Title == "" {
			for _, f := range t.Fields {
				if f.Kind == Text {
					t.Title = f.Name
					break
				}
			}
		} else if t.Field(t.Title) == nil {
			r.add(key, "type %s has the title %q, which is none of its fields%s", t.Name, t.Title, strictyaml.DidYouMean(t.Title, t.FieldNames()))
		}
		for _, hole := range inBraces.FindAllStringSubmatch(t.Path, -1) {
			if t.Field(hole[1]) == nil {
				r.add(key, "the path of type %s names {%s}, which is none of its fields%s", t.Name, hole[1], strictyaml.DidYouMean(hole[1], t.FieldNames()))
			}
		}
		if t.Path != "" && !strings.HasPrefix(t.Path, "/") {
			r.add(key, "the path of type %s must begin with a slash", t.Name)
		}
		seen := map[string]bool{}
		for _, f := range t.Fields {
			r.field(t, f)
			if seen[f.Name] {
				r.add(key, "field %s.%s is declared twice", t.Name, f.Name)
			}
			seen[f.Name] = true
		}
	}
}

func (r *reader) field(t *Type, f *Field) {
	key := "type " + t.Name + "." + f.Name
	name := t.Name + "." + f.Name
	if !fieldName.MatchString(f.Name) {
		r.add(key, "field name %q: use letters and digits, a small letter first", f.Name)
	}
	if slices.Contains(TakenFieldNames, f.Name) {
		r.add(key, "field %s: the name is taken by the entry itself; choose another", name)
	}
	if !slices.Contains(Kinds, f.Kind) {
		known := make([]string, len(Kinds))
		for i, k := range Kinds {
			known[i] = string(k)
		}
		r.add(key, "field %s has the unknown kind %q%s", name, f.Kind, strictyaml.DidYouMean(string(f.Kind), known))
		return
	}
	if f.Kind == Choice && len(f.Options) == 0 {
		r.add(key, "field %s is a choice without options; add options: {value: Label, …}", name)
	}
	if f.Kind != Choice && len(f.Options) > 0 {
		r.add(key, "field %s has options, but is no choice", name)
	}
	if f.Kind == Reference {
		if len(f.Types) == 0 {
			r.add(key, "field %s is a reference without types; add types: [name, …]", name)
		}
		for _, other := range f.Types {
			if r.m.Type(other) == nil {
				names := make([]string, len(r.m.Types))
				for i, t := range r.m.Types {
					names[i] = t.Name
				}
				r.add(key, "field %s refers to the unknown type %q%s", name, other, strictyaml.DidYouMean(other, names))
			}
		}
	} else if len(f.Types) > 0 || f.Inverse != "" {
		r.add(key, "field %s has types or an inverse, but is no reference", name)
	}
	if f.MadeFrom != "" {
		if from := t.Field(f.MadeFrom); f.Kind != Slug || from == nil || from.Kind != Text {
			r.add(key, "field %s is madeFrom %q: only a slug is made, and only from a text field of the same type", name, f.MadeFrom)
		}
	}
	if f.Kind == Slug && f.Several {
		r.add(key, "field %s: a slug cannot have several values", name)
	}
	if f.Kind == Slug && t.SlugField() != f {
		r.add(key, "field %s: type %s has the slug %s already, and entries are found by one", name, t.Name, t.SlugField().Name)
	}
	if f.Unique && f.Kind != Slug {
		r.add(key, "field %s: only a slug can be unique", name)
	}
	if f.Min != nil && f.Max != nil && *f.Min > *f.Max {
		r.add(key, "field %s has min %d above max %d", name, *f.Min, *f.Max)
	}
}
