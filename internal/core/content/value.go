package content

import (
	"fmt"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// kindChecks check one value of a field, by the field's kind.
var kindChecks map[model.Kind]func(c *checker, f *model.Field, path string, v any)

func init() { // records and blocks hold values of their own
	kindChecks = map[model.Kind]func(c *checker, f *model.Field, path string, v any){
		model.Text:      (*checker).text,
		model.Prose:     (*checker).text,
		model.Slug:      (*checker).slug,
		model.Integer:   (*checker).integer,
		model.Decimal:   (*checker).decimal,
		model.Money:     (*checker).money,
		model.Boolean:   (*checker).boolean,
		model.Date:      (*checker).date,
		model.DateTime:  (*checker).dateTime,
		model.Choice:    (*checker).choice,
		model.Reference: (*checker).reference,
		model.File:      (*checker).file,
		model.Location:  (*checker).location,
		model.JSON:      (*checker).json,
		model.Record:    (*checker).record,
		model.Blocks:    (*checker).block,
	}
}

// one checks one value of a field.
func (c *checker) one(f *model.Field, path string, v any) {
	if check := kindChecks[f.Kind]; check != nil {
		check(c, f, path, v)
	}
}

// kind says that a value is of another kind than is wanted.
func (c *checker) kind(path, want string, v any) {
	c.add(path, "kind", "%s wanted, not %s", want, named(v))
}

func (c *checker) text(f *model.Field, path string, v any) {
	s, isText := v.(string)
	if !isText {
		c.kind(path, "text", v)
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
}

func (c *checker) slug(_ *model.Field, path string, v any) {
	s, isText := v.(string)
	if !isText || !slugForm.MatchString(s) || len(s) > 200 {
		c.add(path, "slug", "%s is no slug; use a-z, 0-9 and single hyphens", named(v))
	}
}

func (c *checker) integer(f *model.Field, path string, v any) {
	n, ok := v.(float64)
	if !ok || n != math.Trunc(n) || math.Abs(n) > 1<<53 {
		c.kind(path, "a whole number", v)
		return
	}
	c.between(f, path, n)
}

func (c *checker) decimal(f *model.Field, path string, v any) {
	n, ok := v.(float64)
	if !ok || math.IsInf(n, 0) || math.IsNaN(n) {
		c.kind(path, "a number", v)
		return
	}
	if digits := strings.TrimLeft(strings.ReplaceAll(strings.TrimPrefix(strconv.FormatFloat(n, 'f', -1, 64),
		"-"), ".", ""), "0"); len(
		strings.TrimRight(digits, "0"),
	) > 15 {
		c.add(path, "digits", "%v has more than 15 digits, which not every reader would get exactly", n)
	}
	c.between(f, path, n)
}

func (c *checker) money(f *model.Field, path string, v any) {
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
}

func (c *checker) boolean(_ *model.Field, path string, v any) {
	if _, ok := v.(bool); !ok {
		c.kind(path, "true or false", v)
	}
}

func (c *checker) date(_ *model.Field, path string, v any) {
	s, isText := v.(string)
	if _, err := time.Parse(time.DateOnly, s); !isText || err != nil {
		c.kind(path, "a date as in 2026-11-23", v)
	}
}

func (c *checker) dateTime(_ *model.Field, path string, v any) {
	s, isText := v.(string)
	if _, err := time.Parse(time.RFC3339, s); !isText || err != nil {
		c.kind(path, "a time as in 2026-11-23T08:30:00Z", v)
	}
}

func (c *checker) choice(f *model.Field, path string, v any) {
	s, isText := v.(string)
	if _, ok := f.Option(s); !isText || !ok {
		values := make([]string, len(f.Options))
		for i, o := range f.Options {
			values[i] = o.Value
		}
		c.add(path, "options", "%s is none of the options%s", named(v), strictyaml.DidYouMean(s, values))
	}
}

func (c *checker) reference(_ *model.Field, path string, v any) {
	s, isText := v.(string)
	if !isText || !idForm.MatchString(s) {
		c.kind(path, "the id of an entry", v)
	}
}

func (c *checker) location(_ *model.Field, path string, v any) {
	if !isPoint(v) {
		c.add(
			path, "kind",
			`a location is a GeoJSON point: {"type": "Point", "coordinates": [longitude, latitude]}, in degrees`,
		)
	}
}

func (c *checker) json(f *model.Field, path string, v any) {
	if err := f.CheckJSON(v); err != nil {
		c.add(path, "schema", "%s", err)
	}
}

func (c *checker) record(f *model.Field, path string, v any) {
	x, ok := v.(map[string]any)
	if !ok {
		c.kind(path, "an object", v)
		return
	}
	c.group(f.Inner[0], path, x)
}

func (c *checker) block(f *model.Field, path string, v any) {
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
