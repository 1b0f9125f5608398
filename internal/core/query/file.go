package query

import (
	"cmp"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/strictyaml"
)

// PictureParts lists what reads may ask of a rendition.
var PictureParts = []string{"url", "width", "height", "srcset"}

// file compiles what is asked of a file; its brackets may hold names of renditions.
func (s Selecting) file(p SelectedField, f *model.Field, n node, where string) (SelectedField, error) {
	if n.args != nil {
		r, wrong, hint := picture.ReadArguments(n.args)
		if wrong != "" {
			return p, failAt(n.at, hint, "%s: %s", where, wrong)
		}
		p.Rendition = &r
	}
	if !n.given {
		return p, nil
	}
	known := slices.Clone(model.FileParts)
	for _, r := range f.Renditions {
		known = append(known, r.Name)
	}
	p.Parts = nil
	wanted := map[string]node{}
	for _, inner := range n.nested {
		_, named := f.Rendition(inner.name)
		if !slices.Contains(known, inner.name) || inner.args != nil || inner.given && !named {
			return p, failAt(
				inner.at,
				strings.TrimPrefix(strictyaml.DidYouMean(inner.name, known), "; "),
				"%s has no part %q",
				where,
				inner.name,
			)
		}
		wanted[inner.name] = inner
	}
	for _, name := range known {
		inner, ok := wanted[name]
		if !ok {
			continue
		}
		part := PartOf(name, name)
		if r, named := f.Rendition(name); named {
			names, err := choose(where+"."+name, inner, PictureParts, []string{"url", "width", "height"})
			if err != nil {
				return p, err
			}
			part.Rendition, part.Inner = &r, parts(names)
		}
		p.Parts = append(p.Parts, part)
	}
	return p, nil
}

// fileMembers names all members of files' values that the pick is made of.
func (p *SelectedField) fileMembers() []string {
	var out []string
	for _, part := range p.Parts {
		out = append(out, picture.Reads(part.Name, cmp.Or(part.Rendition, p.Rendition))...)
	}
	return out
}

// writeFiles writes one file or a list of them as the pick asks for it.
func writeFiles(b *Buffer, p *SelectedField, src []byte) {
	if !p.Several {
		if src == nil || string(src) == "null" {
			b.WriteString("null")
			return
		}
		writeFile(b, p, src)
		return
	}
	var all []json.RawMessage
	if src != nil {
		_ = json.Unmarshal(src, &all) // stored by us: a list of objects
	}
	b.WriteByte('[')
	for i, one := range all {
		if i > 0 {
			b.WriteByte(',')
		}
		writeFile(b, p, one)
	}
	b.WriteByte(']')
}

func writeFile(b *Buffer, p *SelectedField, src []byte) {
	var f picture.Stored
	_ = json.Unmarshal(src, &f) // stored by us: an object
	facts := f.Facts()
	if !p.Flat {
		b.WriteByte('{')
	}
	for i := range p.Parts {
		part := &p.Parts[i]
		if i > 0 {
			b.WriteByte(',')
		}
		if !p.Flat {
			writeName(b, part.As)
		}
		switch {
		case part.Constant != "":
			writeString(b, part.Constant)
		case part.Rendition != nil:
			p.writePicture(b, part, &f, &facts)
		default:
			p.writeFilePart(b, part, p.Rendition, &f, &facts)
		}
	}
	if !p.Flat {
		b.WriteByte('}')
	}
}

// writePicture writes a rendition by name; null where no picture can be made of the file.
func (p *SelectedField) writePicture(b *Buffer, part *Part, f *picture.Stored, facts *picture.Facts) {
	if f.Hash == "" || !facts.IsPicture() {
		b.WriteString("null")
		return
	}
	b.WriteByte('{')
	for i := range part.Inner {
		if i > 0 {
			b.WriteByte(',')
		}
		writeName(b, part.Inner[i].As)
		if part.Inner[i].Constant != "" {
			writeString(b, part.Inner[i].Constant)
			continue
		}
		p.writeFilePart(b, &part.Inner[i], part.Rendition, f, facts)
	}
	b.WriteByte('}')
}

// writeFilePart writes one thing that is said of a file, or of a picture made of it.
func (p *SelectedField) writeFilePart(
	b *Buffer, part *Part, r *model.Rendition, f *picture.Stored, facts *picture.Facts,
) {
	isHere := f.Hash != "" && p.Files != nil
	var shown *picture.Shown
	if isHere && facts.IsPicture() && (r != nil || part.Name == "srcset") {
		s := picture.Show(facts, r)
		shown = &s
	}
	made := r != nil && shown != nil
	switch part.Name {
	case "url":
		switch {
		case made:
			writeString(b, p.Files.Picture(facts, *shown))
		case isHere:
			writeString(b, p.Files.File(facts))
		default:
			writeRaw(b, f.URL)
		}
	case "srcset":
		if shown == nil {
			b.WriteString("null")
			return
		}
		if part.Inner == nil {
			b.Write(p.Files.AppendSrcset(b.AvailableBuffer(), facts, *shown))
			return
		}
		writePartsList(b, part.Inner, false, p.Files.AppendSrcset(nil, facts, *shown))
	case "image":
		if !isHere || !facts.IsPicture() {
			b.WriteString("null")
			return
		}
		writeString(b, p.Files.Service(f.Hash))
	case "width", "height":
		n := [2]int{f.Width, f.Height}
		if made {
			n = [2]int{shown.Width, shown.Height}
		}
		size := n[0]
		if part.Name == "height" {
			size = n[1]
		}
		if size == 0 {
			b.WriteString("null")
			return
		}
		b.WriteString(strconv.Itoa(size))
	case "mediaType":
		writeOrNull(b, f.MediaTypeOf(r, made))
	case "bytes":
		if made {
			b.WriteString("null") // nobody knows before it is made
			return
		}
		writeRaw(b, f.Bytes)
	case "name":
		writeOrNull(b, f.Name)
	case "decorative":
		b.WriteString(strconv.FormatBool(string(f.Decorative) == "true"))
	case "focus":
		var focus map[string]json.RawMessage
		if _ = json.Unmarshal(f.Focus, &focus); part.Inner == nil || focus == nil { // stored by us
			writeRaw(b, f.Focus)
			return
		}
		writePartsOf(b, part.Inner, false, focus)
	default:
		writeRaw(b, f.Said(part.Name))
	}
}

func writeRaw(b *Buffer, src json.RawMessage) {
	if src == nil {
		b.WriteString("null")
		return
	}
	b.Write(src)
}

func writeOrNull(b *Buffer, s string) {
	if s == "" {
		b.WriteString("null")
		return
	}
	writeString(b, s)
}

// ShowsDrafts tells whether the query shows addresses of files in preview, which end some day.
func (q *Query) ShowsDrafts() (shows bool) {
	if q.Edition != content.Preview {
		return false
	}
	for i := range q.Roots {
		q.Roots[i].Selection.walk(func(p *SelectedField) { shows = shows || p.Kind == PickFile })
	}
	return shows
}
