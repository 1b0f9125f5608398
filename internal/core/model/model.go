package model

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

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
	Decimal   Kind = "decimal"   // up to 15 digits, so that every reader gets it exactly
	Money     Kind = "money"     // {"amount": minor units, "currency": ISO 4217}
	Boolean   Kind = "boolean"   //
	Date      Kind = "date"      // RFC 3339 full-date
	DateTime  Kind = "datetime"  // RFC 3339, kept in UTC
	Choice    Kind = "choice"    // one of the declared options
	Reference Kind = "reference" // the id of another entry
	File      Kind = "file"      // {"url", "alt", "width", "height", "mediaType", "bytes"}
	Location  Kind = "location"  // a GeoJSON Point (RFC 7946): longitude, then latitude
	JSON      Kind = "json"      // anything that the field's JSON Schema allows
	Record    Kind = "record"    // an embedded set of fields
	Blocks    Kind = "blocks"    // a list of blocks, each of a declared kind
)

// Kinds lists every kind in the order in which the documentation has them.
var Kinds = []Kind{
	Text, Prose, Slug, Integer, Decimal, Money, Boolean, Date, DateTime, Choice, Reference, File, Location, JSON,
	Record, Blocks,
}

// BlockName is the member of a block that says of which kind it is. No field of
// a block may have that name.
const BlockName = "block"

// Model is one environment's whole description of content. A Model is not
// changed after Read or FromJSON has returned it, so it may be shared.
type Model struct {
	// Locales in the order of declaration; the first is the default.
	Locales []Locale `json:"locales"`
	// Types sorted by name.
	Types []*Type `json:"types"`

	byName, byPlural map[string]*Type
	chains           map[string][]string
	backs            map[string][]Back
}

// Locale is one language (BCP 47 tag) that content may be written in.
type Locale struct {
	Tag  string `json:"tag"`
	Name string `json:"name,omitempty"`
	// Fallback names the locales to look in, in order, for what this one lacks.
	Fallback []string `json:"fallback,omitempty"`
	// Retired locales are not delivered and not edited; what was written in them
	// is kept.
	Retired bool `json:"retired,omitempty"`
}

// Type describes one kind of content. A record, and each kind of block, is a
// Type of which only Name, Label, Help and Fields count.
type Type struct {
	Name   string `json:"name"`
	Plural string `json:"plural"`
	Label  string `json:"label"`
	Help   string `json:"help,omitempty"`
	// Was is the name that the type had before: applying the model renames it.
	Was string `json:"was,omitempty"`
	// Deprecated says why the type should not be used any more.
	Deprecated string `json:"deprecated,omitempty"`
	Farewell
	// Path is the template of the site path, such as /notices/{slug} or
	// {parent.path}/{slug}; empty when entries of the type have no page of their
	// own. Paths has the locales that differ.
	Path  string            `json:"path,omitempty"`
	Paths map[string]string `json:"paths,omitempty"`
	// Home is the slug of the entry that lives at "/" instead.
	Home string `json:"home,omitempty"`
	// Title names the field that people know an entry by.
	Title string `json:"title,omitempty"`
	// Singleton is true for a type that has exactly one entry.
	Singleton bool `json:"singleton,omitempty"`
	// Approval is true when a revision must be approved before it is published.
	Approval bool `json:"approval,omitempty"`
	// Submissions says what may be handed in from outside; nil: nothing.
	Submissions *Submissions `json:"submissions,omitempty"`
	Fields      []*Field     `json:"fields"`
	Freshness   Freshness    `json:"freshness"`

	byName map[string]*Field
}

// Farewell are the days on which something was deprecated, and on which it will be
// gone: RFC 3339 dates.
type Farewell struct {
	DeprecatedSince string `json:"deprecatedSince,omitempty"`
	Sunset          string `json:"sunset,omitempty"`
}

// Freshness says how long answers that show the type may be kept by others.
type Freshness struct {
	Private              strictyaml.Duration `json:"private" yaml:"private"`                           // browsers; default 0
	Shared               strictyaml.Duration `json:"shared" yaml:"shared"`                             // shared caches; default 0
	StaleWhileRevalidate strictyaml.Duration `json:"staleWhileRevalidate" yaml:"staleWhileRevalidate"` // RFC 5861, by shared caches that are told of changes
	StaleIfError         strictyaml.Duration `json:"staleIfError" yaml:"staleIfError"`                 // RFC 5861, by the same
	// StaleInBrowsers lets browsers show an answer for so long after it has ended, while
	// they fetch the new one (stale-while-revalidate of RFC 5861). Default: never.
	StaleInBrowsers strictyaml.Duration `json:"staleInBrowsers,omitempty" yaml:"staleInBrowsers"`
	// ServeExpired lets this service itself serve an answer that it knows to have
	// expired: for StaleWhileRevalidate while the new one is computed, and for
	// StaleIfError when that fails. Default: never.
	ServeExpired bool `json:"serveExpired,omitempty" yaml:"serveExpired"`
}

// Submissions says which drafts are taken from outside for a type.
type Submissions struct {
	// Fields that may be handed in.
	Fields []string `json:"fields" yaml:"fields"`
	// Bytes bounds the body of a request; default 16,384.
	Bytes int `json:"bytes" yaml:"bytes"`
	// PerMinute bounds what one address may hand in on each node; default 5.
	PerMinute int `json:"perMinute" yaml:"perMinute"`
	// Trap is the name of a form's field that people do not see, and so leave
	// empty.
	Trap string `json:"trap,omitempty" yaml:"trap"`
}

// Field describes one field of a type, of a record or of a block.
type Field struct {
	Name  string `json:"name"`
	Kind  Kind   `json:"kind"`
	Label string `json:"label,omitempty"`
	Help  string `json:"help,omitempty"`
	// Was is the name that the field had before.
	Was string `json:"was,omitempty"`
	// Deprecated says why the field should not be used any more.
	Deprecated string `json:"deprecated,omitempty"`
	Farewell
	Required bool `json:"required,omitempty"`
	// Indexed says that lists are filtered or sorted by the field: an index is kept
	// for it.
	Indexed bool `json:"indexed,omitempty"`
	// Unique allows each value once in a type, of a translated field once for
	// each locale. Slugs are unique, said or not.
	Unique     bool     `json:"unique,omitempty"`
	Translated bool     `json:"translated,omitempty"`
	Several    bool     `json:"several,omitempty"`
	Min        *float64 `json:"min,omitempty"`     // text: characters; numbers, money: value; several, blocks: how many
	Max        *float64 `json:"max,omitempty"`     // likewise
	Pattern    string   `json:"pattern,omitempty"` // text: an RE2 expression that the whole value matches
	// Default is what readers get where an entry has no value.
	Default  any             `json:"default,omitempty"`
	Options  []Option        `json:"options,omitempty"`  // choice
	Types    []string        `json:"types,omitempty"`    // reference: the allowed types; never empty
	Inverse  string          `json:"inverse,omitempty"`  // reference: the name of the way back
	MadeFrom string          `json:"madeFrom,omitempty"` // slug: the field it is made from
	Marks    []string        `json:"marks,omitempty"`    // prose: extra marks, of prose.Marks
	Schema   json.RawMessage `json:"schema,omitempty"`   // json: a JSON Schema (2020-12)
	// Inner holds the kinds of block of a blocks field, or, as its only element,
	// what a record is made of.
	Inner []*Type `json:"inner,omitempty"`

	pattern *regexp.Regexp
	schema  *jsonschema.Schema
}

// Option is one value of a choice and what people call it.
type Option struct {
	Value string `json:"value"`
	Label string `json:"label"`
	// Labels has the locales in which it is called otherwise.
	Labels map[string]string `json:"labels,omitempty"`
}

// LabelIn returns the option's label in the first of the locales that has one.
func (o Option) LabelIn(chain []string) string {
	for _, tag := range chain {
		if l := o.Labels[tag]; l != "" {
			return l
		}
	}
	return o.Label
}

// Back is a reference seen from the entry that it leads to.
type Back struct {
	Name string // the reference's Inverse
	Type *Type  // of the entries that refer
	// Field holds the references.
	Field *Field
}

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

// Backs returns the ways back to entries of the type, in the order of the
// types that refer to it.
func (m *Model) Backs(typ string) []Back { return m.backs[typ] }

// Back returns the way back of that name.
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

func (m *Model) index() error {
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
