package content

import (
	"fmt"
	"maps"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	makeslug "github.com/gosimple/slug"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
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
		lines[i] = fmt.Sprintf("%s (%s): %s", one.Path, one.Rule, one.Text)
		if one.Entry != "" {
			lines[i] = "entry " + one.Entry + ", " + lines[i]
		}
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
	tidyGroup(t, out)
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

// tidyGroup tidies the values of a type, a record or a block in place.
func tidyGroup(t *model.Type, values map[string]any) {
	for name, v := range values {
		f := t.Field(name)
		if f == nil {
			continue
		}
		if per, ok := v.(map[string]any); ok && f.Translated {
			for tag, one := range per {
				if one = tidy(f, one); one == nil {
					delete(per, tag)
				} else {
					per[tag] = one
				}
			}
			if len(per) == 0 {
				delete(values, name)
			}
			continue
		}
		if v = tidy(f, v); v == nil {
			delete(values, name)
		} else {
			values[name] = v
		}
	}
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
		if strings.TrimSpace(x) == "" && f.Kind != model.JSON {
			return nil
		}
		if f.Kind == model.DateTime {
			if at, err := time.Parse(time.RFC3339, x); err == nil {
				return at.UTC().Format(TimeForm)
			}
		}
	case []any:
		if !f.IsList() {
			return v
		}
		if len(x) == 0 {
			return nil
		}
		for i := range x {
			x[i] = tidy(f, x[i])
		}
	case map[string]any:
		if f.Inner == nil {
			return v
		}
		if t := f.InnerOf(x); t != nil {
			tidyGroup(t, x)
		}
		if len(x) == 0 {
			return nil
		}
	}
	return v
}

// TimeForm is how times are written everywhere: RFC 3339 in UTC with exactly
// six digits behind the second, so that text order is time order.
const TimeForm = "2006-01-02T15:04:05.000000Z07:00"

// For says how complete an entry must be.
type For struct {
	// Publish asks for required fields too; a draft may lack them.
	Publish bool
	// Locales are those that are published: in each a required translated field
	// must have a value, or fall back to one. With nil one locale is enough.
	Locales []string
}

// Check says everything that is wrong with an entry's fields.
func Check(m *model.Model, t *model.Type, id string, fields Fields, want For) Problems {
	c := checker{m: m, t: t, id: id, want: want}
	c.group(t, "fields", fields)
	return c.found
}

type checker struct {
	m     *model.Model
	t     *model.Type
	id    string
	want  For
	found Problems
}

func (c *checker) add(path, rule, format string, args ...any) {
	c.found = append(c.found, Problem{Entry: c.id, Path: path, Rule: rule, Text: fmt.Sprintf(format, args...)})
}

// group checks the values of a type, a record or a block.
func (c *checker) group(t *model.Type, path string, values map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(values)) {
		f := t.Field(name)
		if f == nil {
			if path == "fields" {
				c.add(
					path+"."+name, "unknown", "type %s has no field %q%s", t.Name, name,
					strictyaml.DidYouMean(name, t.FieldNames()),
				)
			} else if name != model.BlockName {
				c.add(path+"."+name, "unknown", "there is no field %q here%s", name,
					strictyaml.DidYouMean(name, t.FieldNames()))
			}
			continue
		}
		c.field(f, path+"."+name, values[name])
	}
	if !c.want.Publish {
		return
	}
	for _, f := range t.Fields {
		if f.Required && f.Default == nil {
			c.required(f, path+"."+f.Name, values[f.Name])
		}
	}
}

func (c *checker) required(f *model.Field, path string, v any) {
	per, _ := v.(map[string]any)
	switch {
	case !f.Translated && v == nil, f.Translated && len(per) == 0:
		c.add(path, "required", "%s must have a value before %s is published", f.Name, c.t.Label)
	case f.Translated:
		for _, tag := range c.want.Locales {
			if !slices.ContainsFunc(c.m.Chain(tag), func(l string) bool { return per[l] != nil }) {
				c.add(
					path+"."+tag, "required",
					"%s must have a value in %s before that is published; write it, or publish the other locales alone",
					f.Name, tag,
				)
			}
		}
	}
}

func (c *checker) field(f *model.Field, path string, v any) {
	if v == nil {
		return
	}
	if !f.Translated {
		c.values(f, path, v)
		return
	}
	per, ok := v.(map[string]any)
	if !ok {
		c.add(
			path, "translated", "the field is translated; give one value per locale, as in {\"%s\": …}",
			c.m.Default(),
		)
		return
	}
	for _, tag := range slices.Sorted(maps.Keys(per)) {
		if _, ok := c.m.AnyLocale(tag); !ok {
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
	if !f.IsList() {
		c.one(f, path, v)
		return
	}
	list, ok := v.([]any)
	if !ok {
		c.add(path, "several", "give a list")
		return
	}
	if f.Min != nil && float64(len(list)) < *f.Min {
		c.add(path, "min", "%d given, at least %v wanted", len(list), *f.Min)
	}
	if f.Max != nil && float64(len(list)) > *f.Max {
		c.add(path, "max", "%d given, at most %v allowed", len(list), *f.Max)
	}
	for i, one := range list {
		c.one(f, indexed(path, i), one)
	}
}

func indexed(path string, i int) string { return path + "[" + strconv.Itoa(i) + "]" }

// between checks a number against min and max; in a list these count values.
func (c *checker) between(f *model.Field, path string, n float64) {
	if f.Several {
		return
	}
	if f.Min != nil && n < *f.Min {
		c.add(path, "min", "%v is below %v", n, *f.Min)
	}
	if f.Max != nil && n > *f.Max {
		c.add(path, "max", "%v is above %v", n, *f.Max)
	}
}

// DefaultProse bounds a prose of which the model says no max, in bytes.
const DefaultProse = 100_000

// checkProse returns the rule that a text breaks which could not be rendered in time, and
// how; "" if it breaks none.
func checkProse(f *model.Field, s string) (rule, wrong string) {
	if f.Max == nil && len(s) > DefaultProse {
		return "max", fmt.Sprintf(
			"%d bytes long, at most %d allowed; the model may set another max", len(s), DefaultProse,
		)
	}
	if err := prose.Check(s); err != nil {
		return "prose", err.Error()
	}
	return "", ""
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
		if n := float64(utf8.RuneCountInString(s)); f.Several {
			// min and max count the values
		} else if f.Max != nil && n > *f.Max {
			c.add(path, "max", "%v characters long, at most %v allowed", n, *f.Max)
		} else if f.Min != nil && n < *f.Min {
			c.add(path, "min", "%v characters long, at least %v wanted", n, *f.Min)
		}
		if f.Kind == model.Prose {
			if rule, wrong := checkProse(f, s); rule != "" {
				c.add(path, rule, "%s", wrong)
			}
		}
		if !f.Matches(s) {
			c.add(path, "pattern", "%s does not match %s", named(v), f.Pattern)
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
		c.between(f, path, n)
	case model.Decimal:
		n, ok := v.(float64)
		if !ok || math.IsInf(n, 0) || math.IsNaN(n) {
			kind("a number")
			return
		}
		if digits := strings.TrimLeft(strings.ReplaceAll(strings.TrimPrefix(strconv.FormatFloat(n, 'f', -1, 64),
			"-"), ".", ""), "0"); len(
			strings.TrimRight(digits, "0"),
		) > 15 {
			c.add(path, "digits", "%v has more than 15 digits, which not every reader would get exactly", n)
		}
		c.between(f, path, n)
	case model.Money:
		sum, _ := v.(map[string]any)
		amount, ok := sum["amount"].(float64)
		code, _ := sum["currency"].(string)
		if !ok || amount != math.Trunc(amount) || !currency.MatchString(code) || len(sum) != 2 {
			c.add(
				path, "kind",
				`money is written {"amount": minor units as a whole number, "currency": three capital letters}`,
			)
			return
		}
		c.between(f, path, amount)
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
		if u, err := url.Parse(address); !ok || err != nil || address == "" || !isFileAddress(address, u) {
			c.add(path, "kind", `a file is written {"url": http address, "alt": description}`)
			return
		}
		for name := range file {
			switch name {
			case "url", "alt", "width", "height", "mediaType", "bytes":
			default:
				c.add(
					path+"."+name, "unknown", "a file has url, alt, width, height, mediaType and bytes, not %s", name,
				)
			}
		}
	case model.Location:
		if !isPoint(v) {
			c.add(
				path, "kind",
				`a location is a GeoJSON point: {"type": "Point", "coordinates": [longitude, latitude]}, in degrees`,
			)
		}
	case model.JSON:
		if err := f.CheckJSON(v); err != nil {
			c.add(path, "schema", "%s", err)
		}
	case model.Record:
		x, ok := v.(map[string]any)
		if !ok {
			kind("an object")
			return
		}
		c.group(f.Inner[0], path, x)
	case model.Blocks:
		x, _ := v.(map[string]any)
		t := f.InnerOf(x)
		if t == nil {
			names := make([]string, len(f.Inner))
			for i, b := range f.Inner {
				names[i] = b.Name
			}
			given, _ := x[model.BlockName].(string)
			c.add(
				path, "block", `a block is an object that names its kind, as in {"block": %q, …}%s`, names[0],
				strictyaml.DidYouMean(given, names),
			)
			return
		}
		c.group(t, path, x)
	}
}

// isPoint tells whether a value is a GeoJSON Point (RFC 7946) on the globe.
func isPoint(v any) bool {
	x, _ := v.(map[string]any)
	at, _ := x["coordinates"].([]any)
	if x["type"] != "Point" || len(x) != 2 || len(at) != 2 {
		return false
	}
	longitude, ok := at[0].(float64)
	latitude, ok2 := at[1].(float64)
	return ok && ok2 && math.Abs(longitude) <= 180 && math.Abs(latitude) <= 90
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

// isFileAddress tells whether a file can be at an address: http or https with a host,
// or a path of the site itself. What begins with two slashes, or a slash and a
// backslash, is another host to a browser.
func isFileAddress(address string, u *url.URL) bool {
	if strings.ContainsFunc(address, unicode.IsControl) || strings.Contains(address, `\`) {
		return false
	}
	if u.Scheme == "http" || u.Scheme == "https" {
		return u.Host != ""
	}
	return u.Scheme == "" && u.Host == "" && strings.HasPrefix(address, "/") && !strings.HasPrefix(address, "//")
}
