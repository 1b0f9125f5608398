package graphql

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"github.com/vektah/gqlparser/v2"
	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
)

// Schema is the GraphQL side of one model. It may be used by many at once.
type Schema struct {
	// SDL is the schema in the schema definition language.
	SDL    string
	model  *model.Model
	parsed *ast.Schema
	roots  map[string]root         // by field of Query
	types  map[string]string       // GraphQL name by type
	inner  map[*model.Type]string  // GraphQL name of a record or kind of block
	enums  map[*model.Field]string // GraphQL name of a choice's options
	// fileTypes are the types of files that have renditions.
	fileTypes map[*model.Field]string
	files     *picture.Addresses
	shapes    []shaped
	// shapesOf are the shapes that entries of a type can be had in.
	shapesOf map[*model.Type][]shaped
	// shapeNames are the object types within shapes, by where they are: Teaser, Teaser.image.
	shapeNames map[string]string
	names      map[string]bool        // that are given
	byName     map[string]*model.Type // type by GraphQL name
	limits     limits.Limits
}

type rootKind int

const (
	rootEntry rootKind = iota
	rootList
	rootSingle
	rootNode
	rootAny
)

type root struct {
	kind rootKind
	typ  *model.Type
}

const fixedTypes = `"A whole number of up to 53 bits."
scalar Integer

"A day, as in 2026-11-23 (RFC 3339)."
scalar Date

"A moment in UTC, as in 2026-11-23T08:30:00Z (RFC 3339)."
scalar DateTime

"Anything that can be found by its id."
interface Node {
  id: ID!
}

"What becomes of entries that are not written in the locale itself."
enum Translated {
  "They are in the list if they are written in one of its fallbacks."
  FALLBACK
  "They are left out."
  ONLY
}

"What an entry is found by: exactly one of these."
input EntryBy @oneOf {
  id: ID
  "Where it lives on the site, as in /notices/fog."
  path: String
}

"A window's place in its list."
type PageInfo {
  hasNextPage: Boolean!
  hasPreviousPage: Boolean!
  startCursor: String
  endCursor: String
}

"What is said about an entry."
type About {
  type: String!
  locale: String!
  "Fields whose value comes from a fallback locale."
  filledIn: [String!]!
  revision: Integer!
  firstPublished: DateTime
  published: DateTime
  updated: DateTime!
  "The entry's path on the site, if it has a page of its own."
  path: String
  "The locales that the entry itself is written in."
  locales: [String!]!
}

"Text with markup, in the form that is asked for. All forms are safe to show."
type Prose {
  html: String!
  "HTML without the paragraph around it."
  inline: String!
  "Typed nodes, for components."
  tree: JSON!
  commonmark: String!
  plain: String!
}

"Any JSON value."
scalar JSON

"A place on the globe: a GeoJSON Point (RFC 7946)."
type Point {
  type: String!
  "Longitude, then latitude, in degrees."
  coordinates: [Float!]!
}

"A sum of money."
type Money {
  "In minor units, such as cents."
  amount: Integer!
  "ISO 4217."
  currency: String!
}

"A file with its description."
type File {
` + fileMembers + `}

"A picture made of a file."
type FileRendition {
` + renditionMembers + `}

"One format of a picture in several widths, for a source element of HTML."
type FileSource {
  "The media type."
  type: String!
  "Addresses, each with its width."
  srcset: String!
}

"What a picture is about, as fractions of its width and height: no crop leaves it out."
type FocalRegion {
  x: Float!
  y: Float!
  width: Float!
  height: Float!
}

"How a picture is fitted into a width and a height."
enum PictureFit {
  "It fills both, and is cut around its focal region."
  COVER
  "The whole of it, as large as fits, enlarged if need be."
  CONTAIN
  "The whole of it, as large as fits, never enlarged."
  INSIDE
}

"The format of a picture that is made."
enum PictureFormat {
  "What its reader takes best."
  AUTO
  WEBP
  AVIF
  JPEG
  PNG
}
`

var fixedNames = []string{
	"Query", "Integer", "Date", "DateTime", "Node", "PageInfo", "About", "Prose", "Money", "File", "JSON", "Point",
	"FileRendition", "FileSource", "FocalRegion", "PictureFit", "PictureFormat",
	"Translated", "String", "Boolean", "Int", "Float", "ID", "TextFilter", "TextListFilter", "NumberFilter",
	"BooleanFilter", "DateFilter", "DateTimeFilter", "ValueFilter",
}

// New writes and checks the schema of a model. Requests keep to the limits.
//
// files makes the addresses of files; nil: they have none.
func New(m *model.Model, l limits.Limits, files *picture.Addresses) (*Schema, error) {
	s := &Schema{
		files:  files,
		model:  m,
		limits: l.WithDefaults(),
		roots:  map[string]root{},
		types:  map[string]string{},
		byName: map[string]*model.Type{},
		inner:  map[*model.Type]string{},
		enums:  map[*model.Field]string{},

		fileTypes: map[*model.Field]string{},
		names:     map[string]bool{},
	}
	for _, name := range fixedNames {
		s.names[name] = true
	}
	for _, t := range m.Types {
		name := s.name(pascal(t.Name), "Entry")
		s.names[name+"Connection"], s.names[name+"Edge"], s.names[name+"Filter"] = true, true, true
		s.types[t.Name], s.byName[name] = name, t
	}
	s.nameShapes()
	var b strings.Builder
	s.writeQuery(&b)
	for _, t := range m.Types {
		s.writeType(&b, t)
	}
	for _, t := range m.Types {
		s.writeFilter(&b, t, s.types[t.Name])
	}
	if err := s.writeShapes(&b); err != nil {
		return nil, err
	}
	s.SDL = withUsed(fixedTypes+filterTypes, b.String())
	var err error
	s.parsed, err = gqlparser.LoadSchema(&ast.Source{Name: "schema.graphql", Input: s.SDL})
	if err != nil {
		return nil, fmt.Errorf("the model gives no valid GraphQL schema: %w", err)
	}
	return s, nil
}

var inputName = regexp.MustCompile(`\binput (\w+)`)

// withUsed puts fixed types before the others, but for inputs that nothing leads to.
func withUsed(fixed, others string) string {
	for {
		left := fixed
		for _, block := range strings.SplitAfter(fixed, "\n}\n") {
			name := inputName.FindStringSubmatch(block)
			if name == nil {
				continue
			}
			used := regexp.MustCompile(`[:\[] ?` + name[1] + `\b`)
			if !used.MatchString(strings.Replace(left, block, "", 1)) && !used.MatchString(others) {
				left = strings.Replace(left, block, "", 1)
			}
		}
		if left == fixed {
			return fixed + others
		}
		fixed = left
	}
}

// name gives a name that no other type has.
func (s *Schema) name(wanted, otherwise string) string {
	for s.names[wanted] {
		wanted += otherwise
	}
	s.names[wanted] = true
	return wanted
}

// nameOf is the name of a type, a record or a kind of block.
func (s *Schema) nameOf(t *model.Type) string {
	if name, ok := s.inner[t]; ok {
		return name
	}
	return s.types[t.Name]
}

// valueType names the type of one value of the field; types that exist for the
// field's sake are written behind.
func (s *Schema) valueType(of string, f *model.Field, after *strings.Builder) string {
	own := of + pascal(f.Name)
	switch f.Kind {
	case model.Prose:
		return "Prose"
	case model.File:
		return s.fileType(own, f, after)
	case model.Money:
		return "Money"
	case model.Integer:
		return "Integer"
	case model.Decimal:
		return "Float"
	case model.Location:
		return "Point"
	case model.JSON:
		return "JSON"
	case model.Record:
		return s.writeInner(f.Inner[0], own, after)
	case model.Blocks:
		own = s.name(own, "Union")
		names := make([]string, len(f.Inner))
		for i, t := range f.Inner {
			names[i] = s.writeInner(t, own+pascal(t.Name), after)
		}
		fmt.Fprintf(after, "\nunion %s = %s\n", own, strings.Join(names, " | "))
		return own
	case model.Boolean:
		return "Boolean"
	case model.Date:
		return "Date"
	case model.DateTime:
		return "DateTime"
	case model.Choice:
		own = s.name(own, "Choice")
		s.enums[f], s.names[own+"Filter"] = own, true
		fmt.Fprintf(after, "\nenum %s {\n", own)
		for _, o := range f.Options {
			fmt.Fprintf(after, "  %s\n  %s\n", strconv.Quote(o.Label), enumName(o.Value))
		}
		after.WriteString("}\n")
		return own
	case model.Reference:
		if len(f.Types) == 1 {
			return s.types[f.Types[0]]
		}
		names := make([]string, len(f.Types))
		for i, n := range f.Types {
			names[i] = s.types[n]
		}
		own = s.name(own, "Union")
		fmt.Fprintf(after, "\nunion %s = %s\n", own, strings.Join(names, " | "))
		return own
	}
	return "String"
}

// words splits a name at hyphens and before capitals.
func words(name string) []string {
	var out []string
	for _, part := range strings.FieldsFunc(name,
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		start := 0
		for i, r := range part {
			if i > 0 && unicode.IsUpper(r) {
				out = append(out, part[start:i])
				start = i
			}
		}
		out = append(out, part[start:])
	}
	return out
}

func pascal(name string) string {
	var b strings.Builder
	for _, w := range words(name) {
		b.WriteString(strings.ToUpper(w[:1]) + w[1:])
	}
	return b.String()
}

func camel(name string) string {
	p := pascal(name)
	return strings.ToLower(p[:1]) + p[1:]
}

func enumName(value string) string {
	name := strings.ToUpper(strings.Join(words(value), "_"))
	if name == "" || unicode.IsDigit(rune(name[0])) || name == "TRUE" || name == "FALSE" || name == "NULL" {
		name = "_" + name
	}
	return name
}
