package model

import (
	"encoding/json"
	"regexp"

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
	File      Kind = "file"      // {"file": the id of a file, …}, or an outside {"url": address, …}
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
	// Shapes sorted by name.
	Shapes []Shape `json:"shapes,omitempty"`

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
	Deprecation
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

// Deprecation are the days on which something was deprecated, and on which it will be
// gone: RFC 3339 dates.
type Deprecation struct {
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
	Deprecation
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
	Default any      `json:"default,omitempty"`
	Options []Option `json:"options,omitempty"` // choice
	// Types are the allowed types of a reference, never empty; of a file the allowed media types,
	// such as image/*, all if there are none.
	Types    []string        `json:"types,omitempty"`
	Inverse  string          `json:"inverse,omitempty"`  // reference: the name of the way back
	MadeFrom string          `json:"madeFrom,omitempty"` // slug: the field it is made from
	Marks    []string        `json:"marks,omitempty"`    // prose: extra marks, of prose.Marks
	Schema   json.RawMessage `json:"schema,omitempty"`   // json: a JSON Schema (2020-12)
	// MaxBytes and MinWidth bound what a field of the kind File refers to; 0: nothing does.
	MaxBytes int64 `json:"maxBytes,omitempty"`
	MinWidth int   `json:"minWidth,omitempty"`
	// Renditions are the forms that the pictures of a field of the kind File are read in by name.
	Renditions []Rendition `json:"renditions,omitempty"`
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
