package mapping

import (
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/jsonpath"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
	"ubiquon/internal/core/strictyaml"
)

// Paths lists all JSONPath expressions of the field.
func (from Field) Paths() []string {
	out := append([]string{from.Path, from.Alt, from.Kind}, from.Join...)
	for _, fields := range from.Kinds {
		for _, f := range fields {
			out = append(out, f.Paths()...)
		}
	}
	for _, f := range from.Fields {
		out = append(out, f.Paths()...)
	}
	return out
}

// block brings one block over.
func (from Field) block(p jsonpath.Set, f *model.Field, about Around, in any) (any, error) {
	kind, err := p.Text(from.Kind, in)
	if err != nil {
		return nil, err
	}
	t := f.InnerType(kind)
	if t == nil || from.Kinds[kind] == nil {
		return nil, fmt.Errorf("a block is of the kind %q, which the mapping does not know", kind)
	}
	out, err := group(p, t, about, from.Kinds[kind], in)
	if err != nil {
		return nil, fmt.Errorf("%s.%w", kind, err)
	}
	out[model.BlockName] = kind
	return out, nil
}

// group brings the fields of a block or a record over.
func group(p jsonpath.Set, t *model.Type, about Around, fields map[string]Field, in any) (map[string]any, error) {
	out := map[string]any{}
	for name, inner := range fields {
		v, err := inner.Value(p, t.Field(name), about, in)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if v != nil {
			out[name] = v
		}
	}
	return out, nil
}

// find returns what the origin has for the field.
func (from Field) find(p jsonpath.Set, in any) ([]any, error) {
	switch from.Form {
	case "value":
		return []any{from.Constant}, nil
	case "join":
		var parts []string
		for _, path := range from.Join {
			text, err := p.Text(path, in)
			if err != nil {
				return nil, err
			}
			if text != "" {
				parts = append(parts, text)
			}
		}
		return []any{strings.Join(parts, from.With)}, nil
	}
	if from.Path == "$" {
		return []any{in}, nil
	}
	found, err := p.All(from.Path, in)
	if len(found) == 1 {
		if inner, ok := found[0].([]any); ok {
			found = inner
		}
	}
	return found, err
}

// Value brings the value of a field over; nil for none.
func (from Field) Value(p jsonpath.Set, f *model.Field, about Around, in any) (any, error) {
	found, err := from.find(p, in)
	if err != nil {
		return nil, err
	}
	var values []any
	for _, v := range found {
		if v == nil || v == "" {
			continue
		}
		if v, err = from.one(p, f, about, in, v); err != nil {
			return nil, err
		}
		if v != nil {
			values = append(values, v)
		}
	}
	switch {
	case len(values) == 0:
		return from.Default, nil
	case f.IsList():
		return values, nil
	}
	return values[0], nil
}

// one brings one of the values over.
func (from Field) one(p jsonpath.Set, f *model.Field, about Around, in, v any) (any, error) {
	if from.Values != nil {
		here, known := from.Values[jsonpath.Text(v)]
		if !known {
			var all []string
			for name := range from.Values {
				all = append(all, name)
			}
			return nil, fmt.Errorf("%q is none of the values that the mapping knows%s", jsonpath.Text(v),
				strictyaml.DidYouMean(jsonpath.Text(v), all))
		}
		return here, nil
	}
	switch from.Form {
	case "ref":
		return from.reference(f, about, jsonpath.Text(v)), nil
	case "each":
		return from.block(p, f, about, v)
	case "record":
		return group(p, f.InnerType(""), about, from.Fields, v)
	case "date":
		return from.date(f, jsonpath.Text(v))
	case "html":
		text, lost, err := prose.FromHTML(fmt.Sprint(v), about.Base)
		if err != nil {
			return nil, err
		}
		about.Lost.note(f.Name, lost)
		if f.Kind != model.Prose {
			return prose.Render(text, nil).Forms(func(string) prose.Target { return prose.Target{} })["plain"], nil
		}
		return text, nil
	case "markdown":
		if text, is := v.(string); is {
			about.Lost.note(f.Name, prose.Lost(text, f.Marks))
			return about.relink(f, text), nil
		}
	case "file":
		return from.file(p, about, in, v)
	}
	return v, nil
}

func (from Field) file(p jsonpath.Set, about Around, in, v any) (any, error) {
	file := map[string]any{content.MirrorMark: about.File(jsonpath.Text(v))}
	if from.Direct {
		file = map[string]any{"url": v}
	}
	alt, err := p.First(from.Alt, in)
	if err != nil {
		return nil, err
	}
	if alt != nil {
		file["alt"] = alt
	}
	return file, nil
}

// reference is the id of the entry that a name stands for. One that is known by slug or path must be
// looked up: see Lookup.
func (from Field) reference(f *model.Field, about Around, name string) string {
	to := from.Type
	if to == "" {
		to = f.Types[0]
	}
	if from.By == "slug" || from.By == "path" {
		return Lookup{By: from.By, Type: to, Name: name}.mark()
	}
	of := about.Origin
	if from.Origin != "" {
		of = from.Origin
	}
	return content.MakeID(of, to, name)
}

// Lookup is a reference to an entry that the origin knows by slug or path.
type Lookup struct{ By, Type, Name string }

const lookupMark = "\x00lookup\x00"

func (l Lookup) mark() string { return lookupMark + l.By + "\x00" + l.Type + "\x00" + l.Name }

// LookupOf reads a text that stands for a lookup in an item.
func LookupOf(text string) (l Lookup, is bool) {
	rest, is := strings.CutPrefix(text, lookupMark)
	if !is {
		return l, false
	}
	parts := strings.SplitN(rest, "\x00", 3)
	return Lookup{parts[0], parts[1], parts[2]}, len(parts) == 3
}

// date brings a date or a moment over.
func (from Field) date(f *model.Field, text string) (any, error) {
	zone, err := time.LoadLocation(from.Zone)
	if err != nil {
		return nil, err
	}
	at, err := ParseTime(text, from.Layout, zone)
	switch {
	case err != nil && from.Layout != "":
		return nil, fmt.Errorf("%q is not written as in %s", text, from.Layout)
	case err != nil:
		return nil, fmt.Errorf("%q is no date that is known without a layout", text)
	case f.Kind == model.Date:
		return at.Format(time.DateOnly), nil
	}
	return at.UTC().Format(time.RFC3339Nano), nil
}

// ParseTime reads a moment in a layout, or, without one, in those that documents and feeds use.
func ParseTime(text, layout string, zone *time.Location) (time.Time, error) {
	if layout != "" {
		gone, err := strftime.Layout(layout)
		if err != nil {
			return time.Time{}, err
		}
		return time.ParseInLocation(gone, text, zone)
	}
	for _, known := range []string{
		time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02 15:04",
		time.DateOnly,
	} {
		if at, err := time.ParseInLocation(known, text, zone); err == nil {
			return at, nil
		}
	}
	if at, err := mail.ParseDate(text); err == nil {
		return at, nil
	}
	return time.Time{}, errors.New("no date")
}

// Around is what an item is brought over from: the origin, and the address that relative
// ones are relative to; what its texts lose is told there.
type Around struct {
	Origin string
	Base   *url.URL
	// File is what the address of a file becomes that stands in the item.
	File func(address string) string
	// Entry is the id of the entry that is at an address which stands in the item, "" if there is none;
	// nil: addresses lead to none.
	Entry func(address string) string
	Lost  *Lost
}

// relink makes references of the links in a text that lead to other items, and tells of pictures that lie
// beside it: what is to be delivered is mapped to a field.
func (about Around) relink(f *model.Field, text string) string {
	if about.Entry == nil || f.Kind != model.Prose {
		return text
	}
	return prose.Relink(text, f.Marks, func(address string, image bool) string {
		if u, err := url.Parse(address); err != nil || u.IsAbs() || u.Host != "" || u.Path == "" {
			return ""
		}
		if image {
			about.Lost.note(f.Name, []string{"the picture " + address + ", which only a field can show"})
			return ""
		}
		if id := about.Entry(address); id != "" {
			return "ref:" + id
		}
		return ""
	})
}

// note notes what a text loses, once.
func (l *Lost) note(field string, what []string) {
	if l == nil || len(what) == 0 {
		return
	}
	if one := field + ": " + strings.Join(what, ", "); !slices.Contains(*l, one) && len(*l) < mostLost {
		*l = append(*l, one)
	}
}

// Lost is what is told of what texts of one item lose.
type Lost []string

// mostLost bounds it.
const mostLost = 20
