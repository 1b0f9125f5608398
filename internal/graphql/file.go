package graphql

import (
	"cmp"
	"fmt"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"

	"github.com/vektah/gqlparser/v2/ast"
)

const fileMembers = `  "Its address; of a picture with a width or a height, that of the picture in this size."
  url: String!
  "What it shows, for those who do not see it."
  alt: String
  width: Integer
  height: Integer
  mediaType: String
  bytes: Integer
  caption: String
  credit: String
  "Its dominant colour, as in #2a6f7f."
  color: String
  focus: FocalRegion
  decorative: Boolean!
  name: String
  "How many frames a picture has that moves."
  frames: Integer
  "A tiny picture as a data address, to be shown before the whole one."
  placeholder: String
  "Formats and widths for a picture element of HTML; null where no pictures can be made of it."
  srcset: [FileSource!]
  "The base address in the IIIF Image API 3.0."
  image: String
  "The id of the entry in the library; null for a file that lies elsewhere."
  id: ID
`

const renditionMembers = `  url: String!
  width: Integer!
  height: Integer!
  srcset: [FileSource!]
`

// fileArguments are those of fields that hold files.
const fileArguments = `(
    "In pixels; with a height the picture is cut as fit says."
    width: Int
    height: Int
    fit: PictureFit
    format: PictureFormat
    "From 1 to 100."
    quality: Int
  )`

// fileType names the type of a file, which has the renditions that the field declares.
func (s *Schema) fileType(own string, f *model.Field, after *strings.Builder) string {
	if len(f.Renditions) == 0 {
		return "File"
	}
	own = s.name(own, "File")
	s.fileTypes[f] = own
	fmt.Fprintf(after, "\n\"A file with its description, and pictures made of it.\"\ntype %s {\n%s", own, fileMembers)
	for _, r := range f.Renditions {
		says := fmt.Sprintf("%d × %d pixels", r.Width, r.Height)
		if r.Width == 0 || r.Height == 0 {
			says = fmt.Sprintf("%d pixels on one side", max(r.Width, r.Height))
		}
		fmt.Fprintf(after, "  %q\n  %s: FileRendition\n", says+"; null where no pictures can be made of it.", r.Name)
	}
	after.WriteString("}\n")
	return own
}

// file compiles what is asked of a file.
func (c *compiler) file(p query.SelectedField, f merged, field *model.Field) query.SelectedField {
	typ := cmp.Or(c.s.fileTypes[field], "File")
	p.Kind, p.Files = query.PickFile, c.s.files
	if r := rendition(f.ArgumentMap(c.vars)); r != (model.Rendition{}) {
		if err := r.Check(); err != nil {
			c.fail(f.Field, "%s", err)
		}
		p.Rendition = &r
	}
	for _, one := range c.collect(f.inner, typ) {
		part := query.PartOf(one.Alias, one.Name)
		if r, named := field.Rendition(one.Name); named {
			part.Rendition, part.Inner = &r, c.parts(one.inner, "FileRendition")
			for i := range part.Inner {
				if part.Inner[i].Name == "srcset" {
					part.Inner[i].Inner = c.sources(one.inner, part.Inner[i].As)
				}
			}
		}
		switch one.Name {
		case "__typename":
			part.Constant = typ
		case "srcset":
			part.Inner = c.parts(one.inner, "FileSource")
		case "focus":
			part.Inner = c.parts(one.inner, "FocalRegion")
		}
		p.Parts = append(p.Parts, part)
	}
	return p
}

// sources are what is asked of a srcset of that alias within a rendition.
func (c *compiler) sources(set ast.SelectionSet, alias string) []query.Part {
	for _, one := range c.collect(set, "FileRendition") {
		if one.Alias == alias {
			return c.parts(one.inner, "FileSource")
		}
	}
	return nil
}

// rendition reads the arguments of a file.
func rendition(args map[string]any) (r model.Rendition) {
	number := func(name string) int {
		n, _ := args[name].(int64)
		if given := args[name]; given != nil && n <= 0 {
			return -1 // refused
		}
		return int(n)
	}
	word := func(name string) string {
		s, _ := args[name].(string)
		return strings.ToLower(s)
	}
	return model.Rendition{
		Width: number(
			"width",
		), Height: number("height"), Quality: number("quality"), Fit: word("fit"), Format: word("format"),
	}
}
