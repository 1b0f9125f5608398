package rule

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"ubiquon/internal/core/strictyaml"
)

// placeholder is what stands for a value in a text, as in {entry.title}.
var placeholder = regexp.MustCompile(`\{[a-zA-Z][a-zA-Z0-9._-]*\}`)

// plainNames are the placeholders besides those of fields.
var plainNames = []string{
	"by", "changed", "detail", "differences", "entry.id", "entry.link", "entry.path", "entry.title", "entry.type",
	"event", "locales", "rule", "sequence", "subject", "time",
}

// Placeholders lists the placeholders that a text may have, given the names of fields.
func Placeholders(fields []string) []string {
	out := slices.Clone(plainNames)
	for _, f := range fields {
		out = append(out, "entry."+f, "before."+f)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// checkText returns what is wrong with the placeholders of a text.
func checkText(text string, fields []string) (wrong []string) {
	known := Placeholders(fields)
	for _, p := range placeholder.FindAllString(text, -1) {
		name := p[1 : len(p)-1]
		if !slices.Contains(known, name) {
			wrong = append(wrong, fmt.Sprintf("nothing is called %s%s", p, strictyaml.DidYouMean(name, known)))
		}
	}
	return wrong
}

// Filling is what placeholders stand for in the steps of one run.
type Filling struct {
	*Occurrence
	Rule string
	// Link is where the entry is in the console.
	Link string
	// Differences say in words what the change did.
	Differences string
}

// Text fills the placeholders of a text. What has no value is left out.
func (f *Filling) Text(text string) string {
	return placeholder.ReplaceAllStringFunc(text, func(p string) string { return f.value(p[1 : len(p)-1]) })
}

// JSON fills the placeholders in the strings of a JSON document. Its error is that of text which
// is no JSON.
func (f *Filling) JSON(text string) (json.RawMessage, error) {
	var document any
	if err := json.Unmarshal([]byte(text), &document); err != nil {
		return nil, fmt.Errorf("the body is no JSON: %w", err)
	}
	return json.Marshal(f.fill(document))
}

func (f *Filling) fill(v any) any {
	switch v := v.(type) {
	case string:
		return f.Text(v)
	case []any:
		for i := range v {
			v[i] = f.fill(v[i])
		}
	case map[string]any:
		for name := range v {
			v[name] = f.fill(v[name])
		}
	}
	return v
}

func (f *Filling) value(name string) string {
	switch name {
	case "by":
		return f.By
	case "changed":
		return strings.Join(f.Changed, ", ")
	case "detail":
		return f.Detail
	case "differences":
		return f.Differences
	case "entry.id":
		return f.Entry
	case "entry.link":
		return f.Link
	case "entry.path":
		for _, tag := range slices.Sorted(maps.Keys(f.Paths)) {
			return f.Paths[tag]
		}
		return ""
	case "entry.title":
		return f.Title
	case "entry.type":
		return f.Type
	case "event":
		return f.Event
	case "locales":
		return strings.Join(f.Locales, ", ")
	case "rule":
		return f.Rule
	case "sequence":
		return fmt.Sprint(f.Sequence)
	case "subject":
		return f.Subject
	case "time":
		return f.At.UTC().Format("2006-01-02T15:04:05Z")
	}
	side, field, _ := strings.Cut(name, ".")
	values := f.values()
	if side == "before" {
		values = f.Before
	}
	switch v := values[field].(type) {
	case nil:
		return ""
	case string:
		return v
	default:
		src, _ := json.Marshal(v) // came out of JSON
		return string(src)
	}
}

// Pages returns the paths that a refresh step names: its own with the placeholders filled, or
// those that the entry has and had, each once.
func (f *Filling) Pages(pages []string) []string {
	var out []string
	for _, p := range pages {
		out = append(out, f.Text(p))
	}
	if len(pages) == 0 {
		for _, path := range f.Paths {
			out = append(out, path)
		}
		if before, is := f.Before["about.path"].(string); is {
			out = append(out, before)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
