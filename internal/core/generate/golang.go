package generate

import (
	"fmt"
	"go/format"
	"strings"

	"ubiquon/internal/core/model"
)

// Go writes a package of types, as entries are delivered without fields. Pointers
// are nil where there is no value.
func Go(m *model.Model, pkg string) ([]byte, error) {
	w := golang{
		names: given{
			"About":  true,
			"Prose":  true,
			"File":   true,
			"Money":  true,
			"Point":  true,
			"Linked": true,
			"Locale": true,
			"List":   true,
		},
		types: map[string]string{},
	}
	for _, t := range m.Types {
		w.types[t.Name] = w.names.name(pascal(t.Name), "Entry")
	}
	fmt.Fprintf(
		&w.out,
		"// %s\n\n// Package %[2]s has the types of the content.\npackage %[2]s\n\nimport "+
			"(\n\t\"encoding/json\"\n\t\"time\"\n)\n\n// Locale is one that content is delivered in.\ntype Locale "+
			"string\n\n// The locales, the default first.\nconst (\n",
		notice, pkg,
	)
	for _, tag := range m.Tags() {
		fmt.Fprintf(&w.out, "\t%s Locale = %q\n", w.names.name("Locale"+pascal(tag), "Locale"), tag)
	}
	w.out.WriteString(")\n" + goFixed)
	for _, t := range m.Types {
		lines := w.fields(t, w.types[t.Name])
		w.comment(w.types[t.Name]+" is "+t.Label+".", t.Help, t.Deprecated)
		fmt.Fprintf(
			&w.out, "type %s struct {\n\tID string `json:\"id\"`\n\tAbout About `json:\"about\"`\n%s}\n",
			w.types[t.Name], lines,
		)
	}
	return format.Source([]byte(w.out.String()))
}

const goFixed = `
// About is what is said about an entry.
type About struct {
	Type           string     ` + "`json:\"type\"`" + `
	Locale         Locale     ` + "`json:\"locale\"`" + `
	FilledIn       []string   ` + "`json:\"filledIn\"`" + `
	Revision       int        ` + "`json:\"revision\"`" + `
	FirstPublished *time.Time ` + "`json:\"firstPublished\"`" + `
	Published      *time.Time ` + "`json:\"published\"`" + `
	Updated        time.Time  ` + "`json:\"updated\"`" + `
	Path           *string    ` + "`json:\"path\"`" + `
	Locales        []Locale   ` + "`json:\"locales\"`" + `
	Hidden         []string   ` + "`json:\"hidden,omitempty\"`" + `
}

// Prose is formatted text, in the forms that were asked for.
type Prose struct {
	HTML       string          ` + "`json:\"html,omitempty\"`" + `
	Inline     string          ` + "`json:\"inline,omitempty\"`" + `
	Tree       json.RawMessage ` + "`json:\"tree,omitempty\"`" + `
	CommonMark string          ` + "`json:\"commonmark,omitempty\"`" + `
	Plain      string          ` + "`json:\"plain,omitempty\"`" + `
}

// File is a file with its description.
type File struct {
	URL       string  ` + "`json:\"url\"`" + `
	Alt       *string ` + "`json:\"alt\"`" + `
	Width     *int    ` + "`json:\"width\"`" + `
	Height    *int    ` + "`json:\"height\"`" + `
	MediaType *string ` + "`json:\"mediaType\"`" + `
	Bytes     *int64  ` + "`json:\"bytes\"`" + `
}

// Money is an amount in minor units of a currency (ISO 4217).
type Money struct {
	Amount   int64  ` + "`json:\"amount\"`" + `
	Currency string ` + "`json:\"currency\"`" + `
}

// Point is a GeoJSON Point: longitude, then latitude.
type Point struct {
	Type        string     ` + "`json:\"type\"`" + `
	Coordinates [2]float64 ` + "`json:\"coordinates\"`" + `
}

// Linked is an entry that another refers to.
type Linked struct {
	ID   string ` + "`json:\"id\"`" + `
	Slug string ` + "`json:\"slug,omitempty\"`" + `
}

// List is one window of a list.
type List[T any] struct {
	Items  []T ` + "`json:\"items\"`" + `
	Window struct {
		Limit int     ` + "`json:\"limit\"`" + `
		Next  *string ` + "`json:\"next\"`" + `
		Prev  *string ` + "`json:\"prev\"`" + `
		Total *int    ` + "`json:\"total,omitempty\"`" + `
	} ` + "`json:\"window\"`" + `
}
`

type golang struct {
	names given
	types map[string]string
	out   strings.Builder
}

func (w *golang) comment(text, help, deprecated string) {
	w.out.WriteString("\n")
	for _, line := range []string{text, help} {
		if line = strings.Join(strings.Fields(line), " "); line != "" {
			w.out.WriteString("// " + line + "\n")
		}
	}
	if deprecated != "" {
		w.out.WriteString("//\n// Deprecated: " + strings.Join(strings.Fields(deprecated), " ") + "\n")
	}
}

func (w *golang) fields(t *model.Type, name string) string {
	var lines strings.Builder
	own := given{"ID": true, "About": true}
	for _, f := range t.Fields {
		typ := w.value(f, name)
		switch {
		case f.IsList():
			typ = "[]" + typ
		case typ != "json.RawMessage":
			typ = "*" + typ
		}
		fmt.Fprintf(&lines, "\t%s %s `json:\"%s\"`\n", own.name(pascal(f.Name), "Field"), typ, f.Name)
	}
	return lines.String()
}

func (w *golang) value(f *model.Field, of string) string {
	switch f.Kind {
	case model.Prose:
		return "Prose"
	case model.Integer:
		return "int64"
	case model.Decimal:
		return "float64"
	case model.Boolean:
		return "bool"
	case model.Money:
		return "Money"
	case model.DateTime:
		return "time.Time"
	case model.File:
		return "File"
	case model.Location:
		return "Point"
	case model.JSON:
		return "json.RawMessage"
	case model.Reference:
		return "Linked"
	case model.Choice:
		name := w.names.name(of+pascal(f.Name), "Choice")
		w.comment(name+" is a choice.", "", "")
		fmt.Fprintf(&w.out, "type %s string\n\n// The choices of %[1]s.\nconst (\n", name)
		for _, o := range f.Options {
			fmt.Fprintf(&w.out, "\t%s %s = %q\n", w.names.name(name+pascal(o.Value), "Option"), name, o.Value)
		}
		w.out.WriteString(")\n")
		return name
	case model.Record:
		name := w.names.name(of+pascal(f.Name), "Value")
		lines := w.fields(f.Inner[0], name)
		w.comment(name+" is a record.", "", "")
		fmt.Fprintf(&w.out, "type %s struct {\n%s}\n", name, lines)
		return name
	case model.Blocks:
		name := w.names.name(of+pascal(f.Name), "Block")
		var kinds, lines strings.Builder
		for _, t := range f.Inner {
			inner := w.names.name(name+pascal(t.Name), "Block")
			members := w.fields(t, inner)
			w.comment(inner+" is a block.", "", "")
			fmt.Fprintf(&w.out, "type %s struct {\n%s}\n", inner, members)
			fmt.Fprintf(
				&kinds, "\tcase %q:\n\t\tb.%[2]s = new(%[3]s)\n\t\treturn json.Unmarshal(src, b.%[2]s)\n", t.Name,
				pascal(t.Name), inner,
			)
			fmt.Fprintf(&lines, "\t%s *%s\n", pascal(t.Name), inner)
		}
		w.comment(name+" is one block; the member of its kind is set.", "", "")
		fmt.Fprintf(
			&w.out,
			"type %s struct {\n\tBlock string\n%s}\n\n// UnmarshalJSON implements json.Unmarshaler.\nfunc (b "+
				"*%[1]s) UnmarshalJSON(src []byte) error {\n\tvar kind struct{ Block string `json:\"%[3]s\"` "+
				"}\n\tif err := json.Unmarshal(src, &kind); err != nil {\n\t\treturn err\n\t}\n\tswitch b.Block = "+
				"kind.Block; b.Block {\n%[4]s\t}\n\treturn nil\n}\n",
			name, lines.String(), model.BlockName, kinds.String(),
		)
		return name
	}
	return "string"
}
