package graphql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/model"
)

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
	implements, as := "Node", ""
	for _, one := range s.shapesOf[t] {
		implements += " & " + one.having
		as += fmt.Sprintf("  %q\n  %s: %s!\n", "The entry in the shape "+one.shape.Name+".", one.field, one.typ)
	}
	fmt.Fprintf(
		b, "\n%s\ntype %s implements %s {\n  id: ID!\n  about: About!\n%s",
		strconv.Quote(strings.TrimSpace(t.Label+". "+t.Help)), name, implements, as,
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
		arguments := ""
		if f.Kind == model.File {
			arguments = fileArguments
		}
		fmt.Fprintf(b, "  %s%s: %s%s\n", f.Name, arguments, target, deprecated)
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
