package query

import (
	"cmp"
	"encoding/json"
	"maps"
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

// renditionArguments are what stands in the square brackets behind a file.
var renditionArguments = []string{"width", "height", "fit", "format", "quality"}

// file compiles what is asked of a file; its brackets may hold names of renditions.
func (s Selecting) file(p SelectedField, f *model.Field, n node, where string) (SelectedField, error) {
	if n.args != nil {
		r, err := rendition(n, where)
		if err != nil {
			return p, err
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

// rendition reads the arguments behind a file.
func rendition(n node, where string) (model.Rendition, error) {
	var r model.Rendition
	for _, name := range slices.Sorted(maps.Keys(n.args)) {
		value := n.args[name]
		var err error
		switch name {
		case "width":
			r.Width, err = strconv.Atoi(value)
		case "height":
			r.Height, err = strconv.Atoi(value)
		case "quality":
			r.Quality, err = strconv.Atoi(value)
		case "fit":
			r.Fit = value
		case "format":
			r.Format = value
		default:
			return r, failAt(
				n.at, strings.TrimPrefix(strictyaml.DidYouMean(name, renditionArguments), "; "),
				"%s takes no argument %q", where, name,
			)
		}
		if err != nil {
			return r, failAt(n.at, "give a whole number", "%s: %s is no number: %q", where, name, value)
		}
	}
	if err := r.Check(); err != nil {
		return r, failAt(n.at, "write it as in [width=600,height=400,fit=cover]", "%s: %s", where, err)
	}
	return r, nil
}

// fileReads names the members of a file's value that a part is made of.
func fileReads(name string, r *model.Rendition) []string {
	if r == nil && name != "url" && name != "srcset" && name != "image" {
		return []string{name}
	}
	out := []string{"hash", "name", "mediaType", "width", "height", "draft", "url"}
	if r != nil && r.Width > 0 && r.Height > 0 && cmp.Or(r.Fit, "cover") == "cover" {
		out = append(out, "focus")
	}
	return append(out, name)
}

// fileMembers names all members of files' values that the pick is made of.
func (p *SelectedField) fileMembers() []string {
	var out []string
	for _, part := range p.Parts {
		out = append(out, fileReads(part.Name, cmp.Or(part.Rendition, p.Rendition))...)
	}
	return out
}

// writeFiles lays out one file or a list of them as the pick asks for it.
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

// storedFile is a file as it is kept in documents.
type storedFile struct {
	ID          json.RawMessage `json:"id"`
	URL         json.RawMessage `json:"url"`
	Alt         json.RawMessage `json:"alt"`
	Width       int             `json:"width"`
	Height      int             `json:"height"`
	MediaType   string          `json:"mediaType"`
	Bytes       json.RawMessage `json:"bytes"`
	Caption     json.RawMessage `json:"caption"`
	Credit      json.RawMessage `json:"credit"`
	Color       json.RawMessage `json:"color"`
	Focus       json.RawMessage `json:"focus"`
	Decorative  json.RawMessage `json:"decorative"`
	Name        string          `json:"name"`
	Frames      json.RawMessage `json:"frames"`
	Placeholder json.RawMessage `json:"placeholder"`
	Hash        string          `json:"hash"`
	Draft       bool            `json:"draft"`
}

func (f *storedFile) facts() picture.Facts {
	out := picture.Facts{
		Hash:      f.Hash,
		Name:      f.Name,
		MediaType: f.MediaType,
		Width:     f.Width,
		Height:    f.Height,
		Draft:     f.Draft,
	}
	if len(f.Focus) > 4 {
		var focus map[string]float64
		_ = json.Unmarshal(f.Focus, &focus) // stored by us
		for i, name := range model.FocusFields {
			out.Focus[i] = focus[name]
		}
	}
	return out
}

func writeFile(b *Buffer, p *SelectedField, src []byte) {
	var f storedFile
	_ = json.Unmarshal(src, &f) // stored by us: an object
	facts := f.facts()
	b.WriteByte('{')
	for i := range p.Parts {
		part := &p.Parts[i]
		if i > 0 {
			b.WriteByte(',')
		}
		writeName(b, part.As)
		switch {
		case part.Constant != "":
			writeString(b, part.Constant)
		case part.Rendition != nil:
			p.writePicture(b, part, &f, &facts)
		default:
			p.writeFilePart(b, part, p.Rendition, &f, &facts)
		}
	}
	b.WriteByte('}')
}

// writePicture writes a rendition by name; null where no picture can be made of the file.
func (p *SelectedField) writePicture(b *Buffer, part *Part, f *storedFile, facts *picture.Facts) {
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
	b *Buffer, part *Part, r *model.Rendition, f *storedFile, facts *picture.Facts,
) {
	isHere := f.Hash != "" && p.Files != nil
	var shown *picture.Shown
	if isHere && facts.IsPicture() && (r != nil || part.Name == "srcset") {
		var want model.Rendition
		if r != nil {
			want = *r
		}
		s := picture.Show(facts, want)
		shown = &s
	}
	raw := func(src json.RawMessage) {
		if src == nil {
			b.WriteString("null")
			return
		}
		b.Write(src)
	}
	number := func(n int) {
		if n == 0 {
			b.WriteString("null")
			return
		}
		b.WriteString(strconv.Itoa(n))
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
			raw(f.URL)
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
		writeSources(b, part.Inner, p.Files.AppendSrcset(nil, facts, *shown))
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
		if part.Name == "width" {
			number(n[0])
		} else {
			number(n[1])
		}
	case "mediaType":
		writeOrNull(b, mediaTypeOf(f.MediaType, r, made))
	case "bytes":
		if made {
			b.WriteString("null") // nobody knows before it is made
			return
		}
		raw(f.Bytes)
	case "name":
		writeOrNull(b, f.Name)
	case "decorative":
		b.WriteString(strconv.FormatBool(string(f.Decorative) == "true"))
	case "focus":
		writeFocus(b, part.Inner, f.Focus)
	case "id", "alt", "caption", "credit", "color", "frames", "placeholder":
		raw(map[string]json.RawMessage{
			"id": f.ID, "alt": f.Alt, "caption": f.Caption, "credit": f.Credit, "color": f.Color,
			"frames": f.Frames, "placeholder": f.Placeholder,
		}[part.Name])
	default:
		b.WriteString("null")
	}
}

// writeFocus writes a focal region, or those of its members that are asked for.
func writeFocus(b *Buffer, parts []Part, src json.RawMessage) {
	if parts == nil || len(src) < 5 {
		if src == nil {
			src = json.RawMessage("null")
		}
		b.Write(src)
		return
	}
	var focus map[string]json.RawMessage
	_ = json.Unmarshal(src, &focus) // stored by us
	b.WriteByte('{')
	for i, part := range parts {
		if i > 0 {
			b.WriteByte(',')
		}
		writeName(b, part.As)
		if part.Constant != "" {
			writeString(b, part.Constant)
			continue
		}
		b.Write(focus[part.Name])
	}
	b.WriteByte('}')
}

// mediaTypeOf is the media type of a picture that is made, "" where the reader decides.
func mediaTypeOf(own string, r *model.Rendition, made bool) string {
	if !made {
		return own
	}
	if r.Format == "jpeg" {
		return "image/jpeg"
	}
	return picture.Formats[r.Format]
}

func writeOrNull(b *Buffer, s string) {
	if s == "" {
		b.WriteString("null")
		return
	}
	writeString(b, s)
}

// writeSources writes the sources of a picture with the members that are asked for.
func writeSources(b *Buffer, parts []Part, src []byte) {
	var sources []picture.Source
	_ = json.Unmarshal(src, &sources) // written by us
	b.WriteByte('[')
	for i, one := range sources {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteByte('{')
		for j, part := range parts {
			if j > 0 {
				b.WriteByte(',')
			}
			writeName(b, part.As)
			writeString(b, map[string]string{"type": one.Type, "srcset": one.Srcset}[part.Name]+part.Constant)
		}
		b.WriteByte('}')
	}
	b.WriteByte(']')
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
