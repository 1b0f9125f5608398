package content

import (
	"fmt"
	"math"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	makeslug "github.com/gosimple/slug"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// Problem is one thing that keeps an entry from being written or published.
type Problem struct {
	Entry string `json:"entry"`
	Path  string `json:"path"` // as in fields.routes[2] or fields.title.nb
	Rule  string `json:"rule"` // as in required, max, kind
	Text  string `json:"text"`
}

// Problems is every problem of one write. It is an error.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = fmt.Sprintf("entry %s, %s (%s): %s", one.Entry, one.Path, one.Rule, one.Text)
	}
	return strings.Join(lines, "\n")
}

var (
	slugForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)
	idForm   = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)
	currency = regexp.MustCompile(`^[A-Z]{3}$`)
)

// ValidID tells whether the text can be an entry's id.
func ValidID(id string) bool { return idForm.MatchString(id) }

// Normalise returns the fields as they are stored: empty values gone, times in
// UTC, slugs made where the model says so. It does not change its argument.
func Normalise(m *model.Model, t *model.Type, id string, in Fields) Fields {
	out := clone(in)
	for name, v := range out {
		f := t.Field(name)
		if f == nil {
			continue
		}
		if f.Translated {
			if per, ok := v.(map[string]any); ok {
				for tag, one := range per {
					if one = tidy(f, one); one == nil {
						delete(per, tag)
					} else {
						per[tag] = one
					}
				}
				if len(per) == 0 {
					delete(out, name)
				}
				continue
			}
		}
		if v = tidy(f, v); v == nil {
			delete(out, name)
		} else {
			out[name] = v
		}
	}
	for _, f := range t.Fields {
		if f.MadeFrom == "" {
			continue
		}
		from := out[f.MadeFrom]
		perFrom, translated := from.(map[string]any)
		if !f.Translated {
			if out[f.Name] == nil && from != nil {
				if translated {
					for _, tag := range m.Tags() {
						if perFrom[tag] != nil {
							from = perFrom[tag]
							break
						}
					}
				}
				out[f.Name] = slugOf(from, id)
			}
			continue
		}
		if !translated {
			continue
		}
		per, _ := out[f.Name].(map[string]any)
		if per == nil {
			per = map[string]any{}
		}
		for tag, one := range perFrom {
			if per[tag] == nil {
				per[tag] = slugOf(one, id)
			}
		}
		out[f.Name] = per
	}
	return out
}

func slugOf(v any, id string) string {
	s, _ := v.(string)
	if made := makeslug.Make(s); made != "" {
		return made
	}
	return id
}

func tidy(f *model.Field, v any) any {
	switch x := v.(type) {
	case string:
		if strings.TrimSpace(x) == "" {
			return nil
		}
		if f.Kind == model.DateTime {
			if at, err := time.Parse(time.RFC3339, x); err == nil {
				return at.UTC().Format(TimeForm)
			}
		}
	case []any:
		if len(x) == 0 {
			return nil
		}
		for i := range x {
			x[i] = tidy(f, x[i])
		}
	}
	return v
}

// TimeForm is how times are written everywhere: RFC 3339 in UTC with exactly
// six digits behind the second, so that text order is time order.
const TimeForm = "2006-01-02T15:04:05.000000Z07:00"

// Check says everything that is wrong with an entry's fields. A draft may lack
// required fields; complete asks for them too, as publishing does.
func Check(m *model.Model, t *model.Type, id string, fields Fields, complete bool) Problems {
	c := checker{m: m, t: t, id: id}
	names := make([]string, 0, len(fields))
	for name := range fields {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		f := t.Field(name)
		if f == nil {
			c.add("fields."+name, "unknown", "type %s has no field %q%s", t.Name, name, strictyaml.DidYouMean(name, t.FieldNames()))
			continue
		}
		c.field(f, fields[name])
	}
	if complete {
		for _, f := range t.Fields {
			if f.Required && missing(f, fields) {
				c.add("fields."+f.Name, "required", "%s must have a value before %s is published", f.Name, t.Label)
			}
		}
	}
	return c.found
}

// missing tells whether a required field has no value. A translated one must
// have one in at least one locale; what each locale lacks falls back or stays out.
func missing(f *model.Field, fields Fields) bool {
	v := fields[f.Name]
	if per, ok := v.(map[string]any); ok && f.Translated {
		return len(per) == 0
	}
	return v == nil
}

type checker struct {
	m     *model.Model
	t     *model.Type
	id    string
	found Problems
}

func (c *checker) add(path, rule, format string, args ...any) {
	c.found = append(c.found, Problem{Entry: c.id, Path: path, Rule: rule, Text: fmt.Sprintf(format, args...)})
}

func (c *checker) field(f *model.Field, v any) {
	path := "fields." + f.Name
	if v == nil {
		return
	}
	if !f.Translated {
		c.values(f, path, v)
		return
	}
	per, ok := v.(map[string]any)
	if !ok {
		c.add(path, "translated", "the field is translated; give one value per locale, as in {\"%s\": …}", c.m.Default())
		return
	}
	tags := make([]string, 0, len(per))
	for tag := range per {
		tags = append(tags, tag)
	}
	sort.Strings(tags)
	for _, tag := range tags {
		if _, ok := c.m.Locale(tag); !ok {
			c.add(path+"."+tag, "locale", "there is no locale %q%s", tag, strictyaml.DidYouMean(tag, c.m.Tags()))
			continue
		}
		if per[tag] != nil {
			c.values(f, path+"."+tag, per[tag])
		}
	}
}

func (c *checker) values(f *model.Field, path string, v any) {
	if !storable(v) {
		c.add(path, "utf-8", "the value is not valid UTF-8 or holds a NUL")
		return
	}
	if !f.Several {
		c.one(f, path, v)
		return
	}
	list, ok := v.([]any)
	if !ok {
		c.add(path, "several", "give a list")
		return
	}
	if f.Min != nil && int64(len(list)) < *f.Min {
		c.add(path, "min", "%d given, at least %d wanted", len(list), *f.Min)
	}
	if f.Max != nil && int64(len(list)) > *f.Max {
		c.add(path, "max", "%d given, at most %d allowed", len(list), *f.Max)
	}
	for i, one := range list {
		c.one(f, fmt.Sprintf("%s[%d]", path, i), one)
	}
}

func (c *checker) one(f *model.Field, path string, v any) {
	s, isText := v.(string)
	kind := func(want string) { c.add(path, "kind", "%s wanted, not %s", want, named(v)) }
	switch f.Kind {
	case model.Text, model.Prose:
		if !isText {
			kind("text")
			return
		}
		if f.Several {
			return // min and max count the values
		}
		if n := int64(utf8.RuneCountInString(s)); f.Max != nil && n > *f.Max {
			c.add(path, "max", "%d characters long, at most %d allowed", n, *f.Max)
		} else if f.Min != nil && n < *f.Min {
			c.add(path, "min", "%d characters long, at least %d wanted", n, *f.Min)
		}
	case model.Slug:
		if !isText || !slugForm.MatchString(s) || len(s) > 200 {
			c.add(path, "slug", "%s is no slug; use a-z, 0-9 and single hyphens", named(v))
		}
	case model.Integer:
		n, ok := v.(float64)
		if !ok || n != math.Trunc(n) || math.Abs(n) > 1<<53 {
			kind("a whole number")
			return
		}
		if f.Several {
			return
		}
		if f.Min != nil && n < float64(*f.Min) {
			c.add(path, "min", "%.0f is below %d", n, *f.Min)
		}
		if f.Max != nil && n > float64(*f.Max) {
			c.add(path, "max", "%.0f is above %d", n, *f.Max)
		}
	case model.Money:
		sum, _ := v.(map[string]any)
		amount, ok := sum["amount"].(float64)
		code, _ := sum["currency"].(string)
		if !ok || amount != math.Trunc(amount) || !currency.MatchString(code) || len(sum) != 2 {
			c.add(path, "kind", `money is written {"amount": minor units as a whole number, "currency": three capital letters}`)
		}
	case model.Boolean:
		if _, ok := v.(bool); !ok {
			kind("true or false")
		}
	case model.Date:
		if _, err := time.Parse(time.DateOnly, s); !isText || err != nil {
			kind("a date as in 2026-11-23")
		}
	case model.DateTime:
		if _, err := time.Parse(time.RFC3339, s); !isText || err != nil {
			kind("a time as in 2026-11-23T08:30:00Z")
		}
	case model.Choice:
		if _, ok := f.Option(s); !isText || !ok {
			values := make([]string, len(f.Options))
			for i, o := range f.Options {
				values[i] = o.Value
			}
			c.add(path, "options", "%s is none of the options%s", named(v), strictyaml.DidYouMean(s, values))
		}
	case model.Reference:
		if !isText || !idForm.MatchString(s) {
			kind("the id of an entry")
		}
	case model.File:
		file, ok := v.(map[string]any)
		address, _ := file["url"].(string)
		if u, err := url.Parse(address); !ok || err != nil || address == "" || (u.Scheme != "http" && u.Scheme != "https" && !strings.HasPrefix(address, "/")) {
			c.add(path, "kind", `a file is written {"url": http address, "alt": description}`)
			return
		}
		for name := range file {
			switch name {
			case "url", "alt", "width", "height", "mediaType", "bytes":
			default:
				c.add(path+"."+name, "unknown", "a file has url, alt, width, height, mediaType and bytes, not %s", name)
			}
		}
	}
}

// storable tells whether every text in the value is valid UTF-8 without NUL,
// which PostgreSQL does not keep.
func storable(v any) bool {
	switch x := v.(type) {
	case string:
		return utf8.ValidString(x) && !strings.ContainsRune(x, 0)
	case []any:
		return !slices.ContainsFunc(x, func(one any) bool { return !storable(one) })
	case map[string]any:
		for name, one := range x {
			if !storable(name) || !storable(one) {
				return false
			}
		}
	}
	return true
}

func named(v any) string {
	switch x := v.(type) {
	case string:
		if len(x) > 40 {
			x = x[:37] + "…"
		}
		return fmt.Sprintf("%q", strings.ToValidUTF8(x, "�"))
	case float64, bool:
		return fmt.Sprint(x)
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	}
	return "nothing"
}
