package graphql

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/vektah/gqlparser/v2"
	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
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
	names  map[string]bool         // that are given
	byName map[string]*model.Type  // type by GraphQL name
	limits limits.Limits
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
  url: String!
  alt: String
  width: Integer
  height: Integer
  mediaType: String
  bytes: Integer
}
`

var fixedNames = []string{
	"Query", "Integer", "Date", "DateTime", "Node", "PageInfo", "About", "Prose", "Money", "File", "JSON", "Point",
	"Translated", "String", "Boolean", "Int", "Float", "ID", "TextFilter", "TextListFilter", "NumberFilter",
	"BooleanFilter", "DateFilter", "DateTimeFilter", "ValueFilter",
}

// New writes and checks the schema of a model. Requests keep to the limits.
func New(m *model.Model, l limits.Limits) (*Schema, error) {
	s := &Schema{
		model:  m,
		limits: l.WithDefaults(),
		roots:  map[string]root{},
		types:  map[string]string{},
		byName: map[string]*model.Type{},
		inner:  map[*model.Type]string{},
		enums:  map[*model.Field]string{},
		names:  map[string]bool{},
	}
	for _, name := range fixedNames {
		s.names[name] = true
	}
	for _, t := range m.Types {
		name := s.name(pascal(t.Name), "Entry")
		s.names[name+"Connection"], s.names[name+"Edge"], s.names[name+"Filter"] = true, true, true
		s.types[t.Name], s.byName[name] = name, t
	}
	var b strings.Builder
	s.writeQuery(&b)
	for _, t := range m.Types {
		s.writeType(&b, t)
	}
	for _, t := range m.Types {
		s.writeFilter(&b, t, s.types[t.Name])
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

func (s *Schema) writeQuery(b *strings.Builder) {
	const locale = `"A locale's tag; the default locale if left out."
    locale: String`
	b.WriteString("\ntype Query {\n")
	s.roots["node"] = root{kind: rootNode}
	// With an id alone, as the Global Object Identification Specification has it.
	b.WriteString(
		"  \"The entry with this id, whatever its type; entry takes a locale, too.\"\n  node(\n    id: ID!\n  ): " +
			"Node\n",
	)
	if !slices.ContainsFunc(
		s.model.Types, func(t *model.Type) bool { return camel(t.Name) == "entry" || camel(t.Plural) == "entry" },
	) {
		s.roots["entry"] = root{kind: rootAny}
		fmt.Fprintf(
			b,
			"  \"The entry with this id, or that lives at this path, whatever its type.\"\n  entry(\n    by: "+
				"EntryBy!\n    %s\n  ): Node\n",
			locale,
		)
	}
	for _, t := range s.model.Types {
		name := s.types[t.Name]
		if t.Singleton {
			s.roots[camel(t.Name)] = root{rootSingle, t}
			fmt.Fprintf(b, "  %s\n  %s(\n    %s\n  ): %s\n", strconv.Quote(t.Label), camel(t.Name), locale, name)
			continue
		}
		if t.SlugField() != nil && camel(t.Name) != camel(t.Plural) {
			s.roots[camel(t.Name)] = root{rootEntry, t}
			fmt.Fprintf(
				b, "  %s\n  %s(\n    slug: String!\n    %s\n  ): %s\n", strconv.Quote(t.Label), camel(t.Name), locale,
				name,
			)
		}
		s.roots[camel(t.Plural)] = root{rootList, t}
		fmt.Fprintf(b, `  %s
  %s(%s
    filter: %sFilter
    "Whether entries that are only filled in from a fallback are in the list."
    translated: Translated = FALLBACK
    %s
  ): %sConnection
`, strconv.Quote("A list: "+t.Label), camel(t.Plural), windowArguments, name, locale, name)
	}
	b.WriteString("}\n")
}

const windowArguments = `
    "How many at most, from 0 to 200; 20 if neither first nor last is given."
    first: Int
    "A cursor: entries behind it."
    after: String
    "How many at most, from the end; not with first."
    last: Int
    "A cursor: entries before it."
    before: String
    "Names of fields, each with a minus before it for descending; also published, firstPublished, updated."
    sort: [String!]`

func (s *Schema) writeType(b *strings.Builder, t *model.Type) {
	name := s.types[t.Name]
	fmt.Fprintf(
		b, "\n%s\ntype %s implements Node {\n  id: ID!\n  about: About!\n",
		strconv.Quote(strings.TrimSpace(t.Label+". "+t.Help)), name,
	)
	var after strings.Builder
	s.writeFields(b, t, name, &after)
	for _, back := range s.model.Backs(t.Name) {
		fmt.Fprintf(
			b, "  %s\n  %s(%s\n    filter: %sFilter\n  ): %sConnection\n",
			strconv.Quote(back.Type.Label+": those whose "+back.Field.Name+" leads here"), back.Name, windowArguments,
			s.types[back.Type.Name], s.types[back.Type.Name],
		)
	}
	b.WriteString("}\n")
	b.WriteString(after.String())
	if !t.Singleton {
		fmt.Fprintf(
			b,
			"\ntype %[1]sConnection {\n  nodes: [%[1]s!]!\n  edges: [%[1]sEdge!]!\n  pageInfo: PageInfo!\n  "+
				"totalCount: Int!\n}\n\ntype %[1]sEdge {\n  cursor: String!\n  node: %[1]s!\n}\n",
			name,
		)
	}
}

// writeFields writes the fields of a type, a record or a kind of block.
func (s *Schema) writeFields(b *strings.Builder, t *model.Type, name string, after *strings.Builder) {
	for _, f := range t.Fields {
		if says := strings.TrimSpace(f.Label + " " + f.Help); says != "" {
			fmt.Fprintf(b, "  %s\n", strconv.Quote(says))
		}
		target := s.valueType(name, f, after)
		if f.IsList() {
			target = "[" + target + "!]"
			if f.Kind != model.Reference { // what a reader may not enter is null
				target += "!"
			}
		}
		if f.NeverNull() && !f.IsList() {
			target += "!"
		}
		deprecated := ""
		if f.Deprecated != "" {
			deprecated = " @deprecated(reason: " + strconv.Quote(f.Deprecated) + ")"
		}
		fmt.Fprintf(b, "  %s: %s%s\n", f.Name, target, deprecated)
	}
}

// writeInner writes the type of a record or a kind of block, and returns its name.
func (s *Schema) writeInner(t *model.Type, wanted string, after *strings.Builder) string {
	name := s.name(wanted, "Value")
	s.inner[t], s.names[name+"Filter"] = name, true
	var own, more strings.Builder
	s.writeFields(&own, t, name, &more)
	says := ""
	if t.Label != "" {
		says = strconv.Quote(t.Label) + "\n"
	}
	if len(t.Fields) == 0 {
		own.WriteString("  \"It has no fields.\"\n  empty: Boolean\n")
	}
	fmt.Fprintf(after, "\n%stype %s {\n%s}\n%s", says, name, own.String(), more.String())
	return name
}

// valueType names the type of one value of the field; types that exist for the
// field's sake are written behind.
func (s *Schema) valueType(of string, f *model.Field, after *strings.Builder) string {
	own := of + pascal(f.Name)
	switch f.Kind {
	case model.Prose:
		return "Prose"
	case model.File:
		return "File"
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
