package content

import (
	"regexp"
	"strings"
)

// linked matches the links to entries in CommonMark that mapping makes: see prose.Relink.
var linked = regexp.MustCompile(`\bref:[0-9a-z-]+`)

// MapIDs replaces, in place, what has the form of an id that is made of an origin's key, in links of prose, too.
func MapIDs(fields Fields, other func(string) string) {
	MapTexts(fields, func(text string) string {
		switch {
		case IsMadeID(text):
			return other(text)
		case strings.Contains(text, "(ref:") || strings.Contains(text, "<ref:") || strings.Contains(text, " ref:"):
			return linked.ReplaceAllStringFunc(text, func(link string) string {
				if id := strings.TrimPrefix(link, "ref:"); IsMadeID(id) {
					return "ref:" + other(id)
				}
				return link
			})
		}
		return text
	})
}

// MapTexts replaces the texts in fields, in place.
func MapTexts(v any, other func(string) string) any {
	switch v := v.(type) {
	case string:
		return other(v)
	case Fields:
		for name, inner := range v {
			v[name] = MapTexts(inner, other)
		}
	case map[string]any:
		for name, inner := range v {
			v[name] = MapTexts(inner, other)
		}
	case []any:
		for i, inner := range v {
			v[i] = MapTexts(inner, other)
		}
	}
	return v
}
