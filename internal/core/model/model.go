package model

import (
	"slices"
	"strings"

	"ubiquon/internal/core/strictyaml"
)

// Kind says what a field holds.
type Kind string

// The kinds of field.
const (
	Text      Kind = "text"      // one line or a few, without markup
	Prose     Kind = "prose"     // CommonMark
	Slug      Kind = "slug"      // part of an address: a-z, 0-9 and hyphens
	Integer   Kind = "integer"   // up to 53 bits, so that every reader gets it exactly
	Money     Kind = "money"     // {"amount": minor units, "currency": ISO 4217}
	Boolean   Kind = "boolean"   //
	Date      Kind = "date"      // RFC 3339 full-date
	DateTime  Kind = "datetime"  // RFC 3339, kept in UTC
	Choice    Kind = "choice"    // one of the declared options
	Reference Kind = "reference" // the id of another entry
	File      Kind = "file"      // {"url", "alt", "width", "height", "mediaType", "bytes"}
)

// Kinds lists every kind in the order in which the documentation has them.
var Kinds = []Kind{Text, Prose, Slug, Integer, Money, Boolean, Date, DateTime, Choice, Reference, File}

// Model is one environment's whole description of content. A Model is not
// changed after Read or FromJSON has returned it, so it may be shared.
type Model struct {
	// Locales in the order of declaration; the first is the default.
	Locales []Locale `json:"locales"`
	// Types sorted by name.
	Types []*Type `json:"types"`

	byName, byPlural map[string]*Type
	chains           map[string][]string
}

// Locale is one language (BCP 47 tag) that content may be written in.
type Locale struct {
	Tag  string `json:"tag"`
	Name string `json:"name,omitempty"`
	// Fallback names the locales to look in, in order, for what this one lacks.
	Fallback []string `json:"fallback,omitempty"`
}

// Type describes one kind of content.
type Type struct {
	Name   string `json:"name"`
	Plural string `json:"plural"`
	Label  string `json:"label"`
	// Path is the template of the site path, such as /notices/{slug}; empty
	// when entries of the type have no page of their own.
	Path string `json:"path,omitempty"`
	// Title names the field that people know an entry by.
	Title string `json:"title,omitempty"`
	// Singleton is true for a type that has exactly one entry.
	Singleton bool      `json:"singleton,omitempty"`
	Fields    []*Field  `json:"fields"`
	Freshness Freshness `json:"freshness"`

	byName map[string]*Field
}

// Freshness says how long answers that show the type may be kept by others.
type Freshness struct {
	Private              strictyaml.Duration `json:"private" yaml:"private"`                           // browsers; default 0
	Shared               strictyaml.Duration `json:"shared" yaml:"shared"`                             // shared caches; default 0
	StaleWhileRevalidate strictyaml.Duration `json:"staleWhileRevalidate" yaml:"staleWhileRevalidate"` // RFC 5861
	StaleIfError         strictyaml.Duration `json:"staleIfError" yaml:"staleIfError"`                 // RFC 5861
}

// Field describes one field of a type.
type Field struct {
	Name       string   `json:"name"`
	Kind       Kind     `json:"kind"`
	Label      string   `json:"label,omitempty"`
	Help       string   `json:"help,omitempty"`
	Required   bool     `json:"required,omitempty"`
	Unique     bool     `json:"unique,omitempty"` // slug; slugs are, per locale, said or not
	Translated bool     `json:"translated,omitempty"`
	Several    bool     `json:"several,omitempty"`
	Min        *int64   `json:"min,omitempty"`      // text: characters; integer: value; several: how many
	Max        *int64   `json:"max,omitempty"`      // likewise
	Options    []Option `json:"options,omitempty"`  // choice
	Types      []string `json:"types,omitempty"`    // reference: the allowed types; never empty
	Inverse    string   `json:"inverse,omitempty"`  // reference: the name of the way back
	MadeFrom   string   `json:"madeFrom,omitempty"` // slug: the field it is made from
}

// Option is one value of a choice and what people call it.
type Option struct {
	Value string `json:"value"`
	Label string `json:"label"`
}

// Type returns the type of that name, or nil.
func (m *Model) Type(name string) *Type { return m.byName[name] }

// ByPlural returns the type whose entries are listed under that name, or nil.
func (m *Model) ByPlural(plural string) *Type { return m.byPlural[plural] }

// Locale returns the locale of that tag.
func (m *Model) Locale(tag string) (Locale, bool) {
	for _, l := range m.Locales {
		if strings.EqualFold(l.Tag, tag) {
			return l, true
		}
	}
	return Locale{}, false
}

// Default returns the tag of the default locale.
func (m *Model) Default() string { return m.Locales[0].Tag }

// Tags returns the tags of all locales, the default first.
func (m *Model) Tags() []string {
	tags := make([]string, len(m.Locales))
	for i, l := range m.Locales {
		tags[i] = l.Tag
	}
	return tags
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

// HasTranslations tells whether any field has a value per locale.
func (t *Type) HasTranslations() bool {
	return slices.ContainsFunc(t.Fields, func(f *Field) bool { return f.Translated })
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

// Sortable tells whether lists can be sorted by the field.
func (f *Field) Sortable() bool {
	switch f.Kind {
	case Prose, Reference, File:
		return false
	}
	return !f.Several
}

func (m *Model) index() {
	m.byName, m.byPlural = map[string]*Type{}, map[string]*Type{}
	for _, t := range m.Types {
		m.byName[t.Name] = t
		if !t.Singleton {
			m.byPlural[t.Plural] = t
		}
		t.byName = map[string]*Field{}
		for _, f := range t.Fields {
			t.byName[f.Name] = f
		}
	}
	m.chains = map[string][]string{}
	for _, l := range m.Locales {
		var walk func(tag string)
		var chain []string
		walk = func(tag string) {
			if slices.Contains(chain, tag) {
				return
			}
			chain = append(chain, tag)
			next, _ := m.Locale(tag)
			for _, f := range next.Fallback {
				walk(f)
			}
		}
		walk(l.Tag)
		m.chains[l.Tag] = chain
	}
}
