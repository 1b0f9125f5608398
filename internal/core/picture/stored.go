package picture

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// Stored is a file as it is kept in documents: one of the library, which has a Hash, or one that
// lies elsewhere, which has a URL.
type Stored struct {
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

// Facts are what addresses of the file are made of.
func (f *Stored) Facts() Facts {
	out := Facts{
		Hash: f.Hash, Name: f.Name, MediaType: f.MediaType, Width: f.Width, Height: f.Height, Draft: f.Draft,
	}
	if len(f.Focus) > len("null") {
		var focus map[string]float64
		_ = json.Unmarshal(f.Focus, &focus) // stored by us
		for i, name := range model.FocusFields {
			out.Focus[i] = focus[name]
		}
	}
	return out
}

// Said is what is said of the file under a name, as JSON; nil for nothing.
func (f *Stored) Said(name string) json.RawMessage {
	switch name {
	case "id":
		return f.ID
	case "alt":
		return f.Alt
	case "caption":
		return f.Caption
	case "credit":
		return f.Credit
	case "color":
		return f.Color
	case "frames":
		return f.Frames
	case "placeholder":
		return f.Placeholder
	}
	return nil
}

// MediaTypeOf is the media type of the file, or of a picture that is made of it so; "" where the
// reader decides.
func (f *Stored) MediaTypeOf(r *model.Rendition, made bool) string {
	if !made {
		return f.MediaType
	}
	if r.Format == "jpeg" {
		return "image/jpeg"
	}
	return Formats[r.Format]
}

// Reads names the members of Stored that a part of a file, in a form that is asked for, is made of.
func Reads(part string, r *model.Rendition) []string {
	if r == nil && part != "url" && part != "srcset" && part != "image" {
		return []string{part}
	}
	out := []string{"hash", "name", "mediaType", "width", "height", "draft", "url"}
	if r != nil && r.Width > 0 && r.Height > 0 && cmp.Or(r.Fit, "cover") == "cover" {
		out = append(out, "focus")
	}
	return append(out, part)
}

// arguments are what may be asked of a picture.
var arguments = []string{"width", "height", "fit", "format", "quality"}

// ReadArguments reads the arguments of a picture, by name. wrong says what is wrong with them, ""
// if nothing is, and hint what would do.
func ReadArguments(args map[string]string) (r model.Rendition, wrong, hint string) {
	numbers := map[string]*int{"width": &r.Width, "height": &r.Height, "quality": &r.Quality}
	words := map[string]*string{"fit": &r.Fit, "format": &r.Format}
	for _, name := range slices.Sorted(maps.Keys(args)) {
		value := args[name]
		if into := numbers[name]; into != nil {
			n, err := strconv.Atoi(value)
			if err != nil {
				return r, fmt.Sprintf("%s is no number: %q", name, value), "give a whole number"
			}
			*into = n
		} else if into := words[name]; into != nil {
			*into = value
		} else {
			hint := strings.TrimPrefix(strictyaml.DidYouMean(name, arguments), "; ")
			return r, fmt.Sprintf("there is no argument %q", name), hint
		}
	}
	if err := r.Check(); err != nil {
		return r, err.Error(), "write it as in [width=600,height=400,fit=cover]"
	}
	return r, "", ""
}
