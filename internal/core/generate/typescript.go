package generate

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
)

// reader is the part of the TypeScript output that is the same for every model.
//
//go:embed reader.ts
var reader string

// TypeScript writes types for every type, choice, record, block and locale, and a
// typed reader on fetch without dependencies. Of what is published, fields that are required
// have a value; drafts may lack it.
func TypeScript(m *model.Model, edition string) []byte {
	w := typescript{m: m, published: edition == content.Published, names: given{}, types: map[string]string{}}
	for _, name := range []string{
		"About", "Prose", "ProseNode", "File", "Money", "Point", "Linked", "Locale",
		"Reader", "ReadError", "ProblemDocument", "Selection", "Picked", "Default", "List", "Types", "Plurals",
		"Singletons",
		"Options", "ListOptions", "Promise", "Array", "Record", "Error", "Pick", "Omit", "NonNullable", "Readonly",
		"String", "Object", "JSON", "Response", "Headers", "AtPath", "SitePath", "RequestInit", "AsyncGenerator",
		"AbortSignal", "TypeError", "Shapes", "ShapedList", "Partial",
		"Model", "AnyModel", "ReaderOptions", "Number", "Math", "Node",
		"Exclude", "Extract", "URLSearchParams",
	} {
		w.names[name] = true
	}
	for _, t := range m.Types {
		w.types[t.Name] = w.names.name(pascal(t.Name), "Entry")
	}
	fmt.Fprintf(&w.out, "// %s\n\n", notice)
	var tags []string
	for _, tag := range m.Tags() {
		tags = append(tags, quoted(tag))
	}
	fmt.Fprintf(&w.out, "export type Locale = %s;\n", strings.Join(tags, " | "))
	for _, t := range m.Types {
		w.entry(t)
	}
	w.shapes()
	w.maps()
	w.out.WriteString("\n" + reader)
	return []byte(w.out.String())
}

type typescript struct {
	m     *model.Model
	names given
	types map[string]string
	out   strings.Builder
	// published says that the types are for that edition alone.
	published bool
}

func quoted(s string) string {
	src, _ := json.Marshal(s) // a text
	return string(src)
}

func comment(indent string, parts ...string) string {
	text := strings.Join(strings.Fields(strings.Join(parts, " ")), " ")
	if text == "" {
		return ""
	}
	return indent + "/** " + strings.ReplaceAll(text, "*/", "* /") + " */\n"
}

func (w *typescript) entry(t *model.Type) {
	name := w.types[t.Name]
	lines := w.fields(t, name)
	w.out.WriteString("\n" + comment("", t.Label+".", t.Help, deprecated(t.Deprecated)))
	fmt.Fprintf(
		&w.out, "export interface %s {\n  readonly \"#type\"?: %s;\n  id: string;\n  about: About;\n%s", name,
		quoted(t.Name), lines,
	)
	var backs []string
	for _, b := range w.m.Backs(t.Name) {
		backs = append(backs, quoted(b.Name))
	}
	if backs != nil {
		fmt.Fprintf(&w.out, "  readonly \"#backs\"?: %s;\n", strings.Join(backs, " | "))
	}
	for _, b := range w.m.Backs(t.Name) {
		fmt.Fprintf(
			&w.out, "  /** Those whose %s leads here. */\n  %s: %s[];\n", b.Field.Name, b.Name, w.types[b.Type.Name],
		)
	}
	w.out.WriteString("}\n")
}

// shapes writes a type for each shape.
func (w *typescript) shapes() {
	var all []string
	for _, s := range w.m.Shapes {
		f, err := shape.FormOf(w.m, s.Name, w.published)
		if err != nil {
			continue // a model whose shapes do not compile is never in force
		}
		name := w.names.name(pascal(s.Name), "Shape")
		w.out.WriteString("\n" + comment("", "The shape "+s.Name+", of "+strings.Join(s.Of, ", ")+".", s.Help))
		fmt.Fprintf(&w.out, "export interface %s %s\n", name, members(f, ""))
		all = append(all, fmt.Sprintf("  %s: %s;\n", quoted(s.Name), name))
	}
	fmt.Fprintf(&w.out, "\n/** The shapes by their names. */\nexport interface Shapes {\n%s}\n", strings.Join(all, ""))
}

// members writes the members of an object.
func members(f shape.Form, indent string) string {
	var b strings.Builder
	b.WriteString("{\n")
	for _, m := range f.Members {
		fmt.Fprintf(&b, "%s  %s: %s;\n", indent, m.Name, formType(m.Form, indent+"  "))
	}
	return b.String() + indent + "}"
}

// formType writes a form as a type.
func formType(f shape.Form, indent string) string {
	typ := map[string]string{
		"text": "string", "number": "number", "integer": "number", "boolean": "boolean", "any": "unknown", "null": "null",
	}[f.Kind]
	switch {
	case f.Options != nil:
		options := make([]string, len(f.Options))
		for i, o := range f.Options {
			options[i] = quoted(o)
		}
		typ = strings.Join(options, " | ")
	case f.Kind == "object":
		typ = members(f, indent)
	}
	switch {
	case f.List && strings.Contains(typ, " "):
		return "(" + typ + ")[]"
	case f.List:
		return typ + "[]"
	case f.Nullable && typ != "unknown" && typ != "null":
		return typ + " | null"
	}
	return typ
}

func deprecated(why string) string {
	if why == "" {
		return ""
	}
	return "@deprecated " + why
}

// fields writes the members of a type, a record or a block, and before them the
// types that they need.
func (w *typescript) fields(t *model.Type, name string) string {
	var lines strings.Builder
	for _, f := range t.Fields {
		typ := w.value(f, name)
		if f.IsList() {
			if strings.Contains(typ, " ") {
				typ = "(" + typ + ")"
			}
			typ += "[]"
		} else if !f.NeverNull() && !(w.published && f.Required && !f.Translated && f.Kind != model.Reference) {
			typ += " | null"
		}
		lines.WriteString(comment("  ", f.Label, f.Help, deprecated(f.Deprecated)))
		fmt.Fprintf(&lines, "  %s: %s;\n", f.Name, typ)
	}
	return lines.String()
}

func (w *typescript) value(f *model.Field, of string) string {
	switch f.Kind {
	case model.Prose:
		return "Prose"
	case model.Integer, model.Decimal:
		return "number"
	case model.Boolean:
		return "boolean"
	case model.Money:
		return "Money"
	case model.File:
		return "File"
	case model.Location:
		return "Point"
	case model.JSON:
		return "unknown"
	case model.Reference:
		names := make([]string, len(f.Types))
		for i, t := range f.Types {
			names[i] = w.types[t]
		}
		return strings.Join(names, " | ")
	case model.Choice:
		name := w.names.name(of+pascal(f.Name), "Choice")
		var options []string
		for _, o := range f.Options {
			options = append(options, quoted(o.Value))
		}
		fmt.Fprintf(&w.out, "\nexport type %s = %s;\n", name, strings.Join(options, " | "))
		return name
	case model.Record:
		return w.inner(f.Inner[0], w.names.name(of+pascal(f.Name), "Value"), "")
	case model.Blocks:
		var kinds []string
		for _, t := range f.Inner {
			kinds = append(kinds, w.inner(t, w.names.name(of+pascal(f.Name)+pascal(t.Name), "Block"), t.Name))
		}
		return strings.Join(kinds, " | ")
	}
	return "string"
}

// inner writes the interface of a record, or of a block that says its kind.
func (w *typescript) inner(t *model.Type, name, block string) string {
	lines := w.fields(t, name)
	fmt.Fprintf(&w.out, "\nexport interface %s {\n", name)
	if block != "" {
		fmt.Fprintf(&w.out, "  %s: %s;\n", model.BlockName, quoted(block))
	}
	w.out.WriteString(lines + "}\n")
	return name
}

// maps writes which types there are, by the names that the reader is called with.
func (w *typescript) maps() {
	w.out.WriteString("\n/** Every type, by its name. */\nexport interface Types {\n")
	for _, t := range w.m.Types {
		fmt.Fprintf(&w.out, "  %s: %s;\n", quoted(t.Name), w.types[t.Name])
	}
	w.out.WriteString("}\n\n/** The types that have lists, by the names of these. */\nexport interface Plurals {\n")
	for _, t := range w.m.Types {
		if !t.Singleton {
			fmt.Fprintf(&w.out, "  %s: %s;\n", quoted(t.Plural), w.types[t.Name])
		}
	}
	w.out.WriteString("}\n\n/** The types with one entry. */\nexport interface Singletons {\n")
	for _, t := range w.m.Types {
		if t.Singleton {
			fmt.Fprintf(&w.out, "  %s: %s;\n", quoted(t.Name), w.types[t.Name])
		}
	}
	w.out.WriteString("}\n\n/** Everything that a reader knows of the model: Reader<Model>. */\n" +
		"export interface Model {\n  plurals: Plurals;\n  singletons: Singletons;\n  types: Types;\n" +
		"  shapes: Shapes;\n  locale: Locale;\n}\n")
}
