package model

import (
	"fmt"
	"slices"
	"strings"
)

// FileType is the name of the built-in type of files. Its entries describe the bytes that are
// kept; fields of the kind File refer to them.
const FileType = "file"

// FileField is the field of FileType that reads get as fields of the kind File are got.
const FileField = "file"

// FocusFields are the members of a focal region: the place of its left upper corner and its size,
// as fractions of the picture.
var FocusFields = []string{"x", "y", "width", "height"}

// FileFacts are the fields of FileType that the bytes tell. Nobody writes them: they follow the hash.
var FileFacts = []string{"mediaType", "bytes", "width", "height", "frames", "color", "placeholder"}

// Fits lists how a picture is fitted into a width and a height.
var Fits = []string{"cover", "contain", "inside"}

// PictureFormats lists the formats that pictures are made in; auto leaves it to what the reader takes.
var PictureFormats = []string{"auto", "webp", "avif", "jpeg", "png"}

// MaxPicture bounds the width and the height of a picture that is asked for, in pixels.
const MaxPicture = 8192

// Rendition is a form in which a picture is shown, by name: as in card: {width: 600, height: 400}.
type Rendition struct {
	Name string `json:"name" yaml:"-"`
	// Width and Height in pixels; 0: as the other gives.
	Width  int `json:"width,omitempty" yaml:"width"`
	Height int `json:"height,omitempty" yaml:"height"`
	// Fit is one of Fits; default cover.
	Fit string `json:"fit,omitempty" yaml:"fit"`
	// Format is one of PictureFormats; default auto.
	Format string `json:"format,omitempty" yaml:"format"`
	// Quality from 1 to 100; 0: as is usual for the format.
	Quality int `json:"quality,omitempty" yaml:"quality"`
}

// Check says what is wrong with the rendition, nil if nothing is.
func (r Rendition) Check() error {
	switch {
	case r.Width == 0 && r.Height == 0:
		return fmt.Errorf("a width or a height is wanted, in pixels")
	case r.Width < 0 || r.Height < 0 || r.Width > MaxPicture || r.Height > MaxPicture:
		return fmt.Errorf("width and height are 1 to %d pixels", MaxPicture)
	case r.Fit != "" && !slices.Contains(Fits, r.Fit):
		return fmt.Errorf("fit is one of %s, not %q", strings.Join(Fits, ", "), r.Fit)
	case r.Format != "" && !slices.Contains(PictureFormats, r.Format):
		return fmt.Errorf("format is one of %s, not %q", strings.Join(PictureFormats, ", "), r.Format)
	case r.Quality < 0 || r.Quality > 100:
		return fmt.Errorf("quality is 1 to 100, not %d", r.Quality)
	}
	return nil
}

// Rendition returns the rendition of that name that the field declares.
func (f *Field) Rendition(name string) (Rendition, bool) {
	i := slices.IndexFunc(f.Renditions, func(r Rendition) bool { return r.Name == name })
	if i < 0 {
		return Rendition{}, false
	}
	return f.Renditions[i], true
}

// IsBuiltIn tells whether the type comes with every model.
func (t *Type) IsBuiltIn() bool { return t.Name == FileType }

// HasFiles tells whether the field holds files, or something within it does.
func (f *Field) HasFiles() bool {
	return f.Kind == File || slices.ContainsFunc(f.Inner, func(t *Type) bool {
		return slices.ContainsFunc(t.Fields, (*Field).HasFiles)
	})
}

// HasFiles tells whether fields of any type of the model's own hold files.
func (m *Model) HasFiles() bool {
	return slices.ContainsFunc(m.Types, func(t *Type) bool {
		return !t.IsBuiltIn() && slices.ContainsFunc(t.Fields, (*Field).HasFiles)
	})
}

// TakesMedia tells whether the field allows files of the media type.
func (f *Field) TakesMedia(mediaType string) bool {
	return len(f.Types) == 0 || slices.ContainsFunc(f.Types, func(pattern string) bool {
		group, all := strings.CutSuffix(pattern, "/*")
		return pattern == mediaType || all && strings.HasPrefix(mediaType, group+"/")
	})
}

// fileType describes files, as every model has it.
func fileType() *Type {
	zero, one := 0.0, 1.0
	long := func(n float64) *float64 { return &n }
	var focus []*Field
	for _, name := range FocusFields {
		focus = append(focus, &Field{Name: name, Kind: Decimal, Min: &zero, Max: &one, Required: true})
	}
	return &Type{
		Name: FileType, Plural: "files", Label: "File", Title: "name",
		Help: "A file of the library: its bytes, and what is said of them.",
		Fields: []*Field{
			{Name: "name", Kind: Text, Label: "Name", Required: true, Max: long(200)},
			{
				Name: "alt", Kind: Text, Label: "Description", Translated: true, Max: long(1000),
				Help: "What a picture shows, for those who do not see it.",
			},
			{
				Name:  "decorative",
				Kind:  Boolean,
				Label: "Decorative",
				Help:  "A picture that says nothing needs no description.",
			},
			{Name: "caption", Kind: Text, Label: "Caption", Translated: true, Max: long(2000)},
			{Name: "credit", Kind: Text, Label: "Credit", Max: long(500)},
			{Name: "tags", Kind: Text, Label: "Tags", Several: true},
			{
				Name: "focus", Kind: Record, Label: "Focal region", Inner: []*Type{{Fields: focus}},
				Help: "What a picture is about: no crop leaves it out. Fractions of width and height.",
			},
			{Name: "hash", Kind: Text, Label: "SHA-256", Required: true, Max: long(64)},
			{Name: "mediaType", Kind: Text, Label: "Media type", Max: long(200)},
			{Name: "bytes", Kind: Integer, Label: "Bytes"},
			{Name: "width", Kind: Integer, Label: "Width", Help: "In pixels, as it is seen upright."},
			{Name: "height", Kind: Integer, Label: "Height", Help: "In pixels, as it is seen upright."},
			{Name: "frames", Kind: Integer, Label: "Frames", Help: "Of pictures that move."},
			{Name: "color", Kind: Text, Label: "Dominant colour", Max: long(7)},
			{
				Name:  "placeholder",
				Kind:  Text,
				Label: "Placeholder",
				Max:   long(4000),
				Help:  "A tiny picture as a data address.",
			},
			{Name: FileField, Kind: File, Label: "File", Help: "As fields that refer to the file deliver it."},
		},
	}
}

// withBuiltIn adds the types that come with every model.
func (m *Model) withBuiltIn() {
	m.Types = slices.DeleteFunc(m.Types, (*Type).IsBuiltIn)
	at, _ := slices.BinarySearchFunc(
		m.Types,
		FileType,
		func(t *Type, name string) int { return strings.Compare(t.Name, name) },
	)
	m.Types = slices.Insert(m.Types, at, fileType())
}

// OwnTypes returns the types that are not built in.
func (m *Model) OwnTypes() []*Type {
	return slices.DeleteFunc(slices.Clone(m.Types), (*Type).IsBuiltIn)
}

// media checks what a field of the kind File allows.
func (r *reader) media(f *Field, key, name string) {
	if f.Kind != File {
		return
	}
	for _, pattern := range f.Types {
		group, sub, ok := strings.Cut(pattern, "/")
		if !ok || group == "" || sub == "" || strings.Contains(group, "*") ||
			strings.Contains(sub, "*") && sub != "*" {
			r.add(
				key,
				"field %s: %q is no media type; write it as in image/*, image/png or application/pdf",
				name,
				pattern,
			)
		}
	}
	if f.MaxBytes < 0 || f.MinWidth < 0 {
		r.add(key, "field %s: maxBytes and minWidth are more than 0", name)
	}
	for _, one := range f.Renditions {
		if !fieldName.MatchString(one.Name) || slices.Contains(FileParts, one.Name) {
			r.add(
				key,
				"field %s: rendition %q: use letters and digits, a small letter first, and none of %s",
				name,
				one.Name,
				strings.Join(FileParts, ", "),
			)
		}
		if err := one.Check(); err != nil {
			r.add(key, "field %s, rendition %s: %s", name, one.Name, err)
		}
	}
}

// FileParts lists what reads may ask of a file, in the order of delivery.
var FileParts = []string{
	"url", "alt", "width", "height", "mediaType", "bytes", "caption", "credit", "color", "focus", "decorative",
	"name", "frames", "placeholder", "srcset", "image", "id",
}
