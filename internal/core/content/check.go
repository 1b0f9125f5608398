package content

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

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

// Error implements error.
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
	if t.IsBuiltIn() {
		c.checkFile(fields)
	}
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
					path+"."+tag,
					"required",
					"%s must have a value in %s before that is published; write it, or publish the other locales alone",
					f.Name,
					tag,
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
