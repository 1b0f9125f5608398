package graphql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/vektah/gqlparser/v2"
	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/model"
)

// Schema is the GraphQL side of one model. It may be used by many at once.
type Schema struct {
	// SDL is the schema in the schema definition language.
	SDL    string
	model  *model.Model
	parsed *ast.Schema
	roots  map[string]root        // by field of Query
	types  map[string]string      // GraphQL name by type
	byName map[string]*model.Type // type by GraphQL name
}

type rootKind int

const (
	rootEntry rootKind = iota
	rootList
	rootSingle
	rootNode
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
  commonmark: String!
  plain: String!
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

var fixedNames = []string{"Query", "Integer", "Date", "DateTime", "Node", "PageInfo", "About", "Prose", "Money", "File", "String", "Boolean", "Int", "Float", "ID"}

// New writes and checks the schema of a model.
func New(m *model.Model) (*Schema, error) {
	s := &Schema{model: m, roots: map[string]root{}, types: map[string]string{}, byName: map[string]*model.Type{}}
	for _, t := range m.Types {
		name := pascal(t.Name)
		if slices.Contains(fixedNames, name) {
			name += "Entry"
		}
		s.types[t.Name], s.byName[name] = name, t
	}
	var b strings.Builder
	b.WriteString(fixedTypes)
	s.writeQuery(&b)
	for _, t := range m.Types {
		s.writeType(&b, t)
	}
	s.SDL = b.String()
	var err error
	s.parsed, err = gqlparser.LoadSchema(&ast.Source{Name: "schema.graphql", Input: s.SDL})
	if err != nil {
		return nil, fmt.Errorf("the model gives no valid GraphQL schema: %w", err)
	}
	return s, nil
}

func (s *Schema) writeQuery(b *strings.Builder) {
	const locale = `"A locale's tag; the default locale if left out."
    locale: String`
	b.WriteString("\ntype Query {\n")
	s.roots["node"] = root{kind: rootNode}
	fmt.Fprintf(b, "  \"The entry with this id, whatever its type.\"\n  node(\n    id: ID!\n    %s\n  ): Node\n", locale)
	for _, t := range s.model.Types {
		name := s.types[t.Name]
		if t.Singleton {
			s.roots[camel(t.Name)] = root{rootSingle, t}
			fmt.Fprintf(b, "  %s\n  %s(\n    %s\n  ): %s\n", strconv.Quote(t.Label), camel(t.Name), locale, name)
			continue
		}
		if t.SlugField() != nil && camel(t.Name) != camel(t.Plural) {
			s.roots[camel(t.Name)] = root{rootEntry, t}
			fmt.Fprintf(b, "  %s\n  %s(\n    slug: String!\n    %s\n  ): %s\n", strconv.Quote(t.Label), camel(t.Name), locale, name)
		}
		s.roots[camel(t.Plural)] = root{rootList, t}
		fmt.Fprintf(b, `  %s
  %s(
    "How many at most, from 0 to 200; 20 if neither first nor last is given."
    first: Int
    "A cursor: entries behind it."
    after: String
    "How many at most, from the end; not with first."
    last: Int
    "A cursor: entries before it."
    before: String
    "Names of fields, each with a minus before it for descending; also published, firstPublished, updated."
    sort: [String!]
    %s
  ): %sConnection!
`, strconv.Quote("A list: "+t.Label), camel(t.Plural), locale, name)
	}
	b.WriteString("}\n")
}

func (s *Schema) writeType(b *strings.Builder, t *model.Type) {
	name := s.types[t.Name]
	fmt.Fprintf(b, "\n%s\ntype %s implements Node {\n  id: ID!\n  about: About!\n", strconv.Quote(t.Label), name)
	var after strings.Builder
	for _, f := range t.Fields {
		if says := strings.TrimSpace(f.Label + " " + f.Help); says != "" {
			fmt.Fprintf(b, "  %s\n", strconv.Quote(says))
		}
		target := s.valueType(t, f, &after)
		if f.Several {
			target = "[" + target + "!]!"
		}
		fmt.Fprintf(b, "  %s: %s\n", f.Name, target)
	}
	b.WriteString("}\n")
	b.WriteString(after.String())
	if !t.Singleton {
		fmt.Fprintf(b, "\ntype %[1]sConnection {\n  nodes: [%[1]s!]!\n  edges: [%[1]sEdge!]!\n  pageInfo: PageInfo!\n  totalCount: Int!\n}\n\ntype %[1]sEdge {\n  cursor: String!\n  node: %[1]s!\n}\n", name)
	}
}

// valueType names the type of one value of the field; types that exist for the
// field's sake are written behind.
func (s *Schema) valueType(t *model.Type, f *model.Field, after *strings.Builder) string {
	own := s.types[t.Name] + pascal(f.Name)
	switch f.Kind {
	case model.Prose:
		return "Prose"
	case model.File:
		return "File"
	case model.Money:
		return "Money"
	case model.Integer:
		return "Integer"
	case model.Boolean:
		return "Boolean"
	case model.Date:
		return "Date"
	case model.DateTime:
		return "DateTime"
	case model.Choice:
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
		fmt.Fprintf(after, "\nunion %s = %s\n", own, strings.Join(names, " | "))
		return own
	}
	return "String"
}

// words splits a name at hyphens and before capitals.
func words(name string) []string {
	var out []string
	for _, part := range strings.FieldsFunc(name, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
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
