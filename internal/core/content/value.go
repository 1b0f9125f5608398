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
