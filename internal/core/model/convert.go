package model

import (
	"encoding/json"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/gosimple/slug"
)

// Conversion turns content that was stored under one model into content for
// another.
type Conversion struct {
	from, to *Model
	renamed  map[string]string // new name by old name of a type
}

// Convert returns the conversion between two models. What a type or field Was
// in the old one it takes over; what the new one has no place for is lost.
func Convert(from, to *Model) *Conversion {
	c := &Conversion{from: from, to: to, renamed: map[string]string{}}
	for _, t := range to.Types {
		if t.Was != "" && from.Type(t.Was) != nil && from.Type(t.Name) == nil && to.Type(t.Was) == nil {
			c.renamed[t.Was] = t.Name
		}
	}
	return c
}

// Type returns the present form of an old type, or nil when it is gone.
func (c *Conversion) Type(old string) *Type {
	if name, ok := c.renamed[old]; ok {
		return c.to.Type(name)
	}
	return c.to.Type(old)
}

// From returns a type of the old model.
func (c *Conversion) From(name string) *Type { return c.from.Type(name) }

// former returns the field that a field of the new model was in the old one.
func former(old *Type, now *Type, f *Field) *Field {
	if o := old.Field(f.Name); o != nil {
		return o
	}
	if f.Was != "" && now.Field(f.Was) == nil {
		return old.Field(f.Was)
	}
	return nil
}

// Fields converts the stored fields of an entry. It returns them as they are
// when nothing about them differs.
func (c *Conversion) Fields(oldType string, fields map[string]any) map[string]any {
	old, now := c.from.Type(oldType), c.Type(oldType)
	if old == nil || now == nil {
		return fields
	}
	out, _ := c.group(old, now, fields)
	return out
}

// group converts the fields of a type, a record or a block, and tells whether
// something was lost.
func (c *Conversion) group(old, now *Type, in map[string]any) (out map[string]any, lost bool) {
	out = make(map[string]any, len(in))
	taken := map[string]bool{}
	for _, f := range now.Fields {
		was := former(old, now, f)
		if was == nil {
			continue
		}
		taken[was.Name] = true
		v, ok := in[was.Name]
		if !ok || v == nil {
			continue
		}
		v, gone := c.value(was, f, v)
		lost = lost || gone
		if v != nil {
			out[f.Name] = v
		}
	}
	for name := range in {
		if old.Field(name) == nil && name == BlockName {
			out[name] = in[name]
		} else if !taken[name] && in[name] != nil {
			lost = true
		}
	}
	return out, lost
}

// value converts one field's value.
func (c *Conversion) value(was, f *Field, v any) (out any, lost bool) {
	per, byLocale := v.(map[string]any)
	byLocale = byLocale && was.Translated
	switch {
	case byLocale && f.Translated:
		kept := map[string]any{}
		for tag, one := range per {
			if _, ok := c.to.AnyLocale(tag); !ok {
				lost = true
				continue
			}
			one, gone := c.values(was, f, one)
			lost = lost || gone
			if one != nil {
				kept[tag] = one
			}
		}
		if len(kept) == 0 {
			return nil, lost
		}
		return kept, lost
	case byLocale:
		for _, l := range c.from.Locales {
			if one := per[l.Tag]; one != nil {
				out, lost = c.values(was, f, one)
				return out, lost || len(per) > 1
			}
		}
		return nil, lost
	}
	out, lost = c.values(was, f, v)
	if f.Translated && out != nil {
		out = map[string]any{c.to.Default(): out}
	}
	return out, lost
}

func (c *Conversion) values(was, f *Field, v any) (out any, lost bool) {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	var kept []any
	for _, one := range list {
		one, gone := c.one(was, f, one)
		lost = lost || gone
		if one != nil {
			kept = append(kept, one)
		}
	}
	switch {
	case len(kept) == 0:
		return nil, lost
	case f.IsList():
		return kept, lost
	}
	return kept[0], lost || len(kept) > 1
}

func (c *Conversion) one(was, f *Field, v any) (out any, lost bool) {
	if was.Kind == f.Kind {
		switch f.Kind {
		case Choice:
			s, _ := v.(string)
			if _, ok := f.Option(s); !ok {
				return nil, true
			}
		case Record, Blocks:
			x, ok := v.(map[string]any)
			if !ok {
				return v, false
			}
			from, to := was.InnerOf(x), f.InnerOf(x)
			if to == nil {
				return nil, true
			}
			if from == nil {
				return v, false
			}
			return c.group(from, to, x)
		}
		return v, false
	}
	out = cast(was, f, v)
	return out, out == nil
}

// cast gives a value another kind, nil when that cannot be done without
// inventing something.
func cast(was, f *Field, v any) any {
	if f.Kind == JSON {
		return v
	}
	n, isNumber := v.(float64)
	s, isText := v.(string)
	if isNumber {
		s, isText = strconv.FormatFloat(n, 'f', -1, 64), true
	} else if b, ok := v.(bool); ok {
		s, isText = strconv.FormatBool(b), true
	}
	if !isText || was.Kind == Reference {
		return nil
	}
	switch f.Kind {
	case Text, Prose:
		return s
	case Integer, Decimal:
		n, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
		if err != nil || f.Kind == Integer && (n != math.Trunc(n) || math.Abs(n) > 1<<53) {
			return nil
		}
		return n
	case Boolean:
		if b, err := strconv.ParseBool(s); err == nil {
			return b
		}
	case Choice:
		if _, ok := f.Option(s); ok {
			return s
		}
	case Slug:
		if made := slug.Make(s); made != "" {
			return made
		}
	case Date:
		if was.Kind == DateTime && len(s) >= 10 {
			return s[:10]
		}
	case DateTime:
		if was.Kind == Date {
			return s + "T00:00:00.000000Z"
		}
	}
	return nil
}

// Losing lists the old fields of an entry of which converting loses something.
func (c *Conversion) Losing(oldType string, fields map[string]any) []string {
	old, now := c.from.Type(oldType), c.Type(oldType)
	if old == nil {
		return nil
	}
	var out []string
	for _, f := range old.Fields {
		v := fields[f.Name]
		if v == nil {
			continue
		}
		lost := true
		if now != nil {
			for _, to := range now.Fields {
				if former(old, now, to) == f {
					_, lost = c.value(f, to, v)
				}
			}
		}
		if lost {
			out = append(out, f.Name)
		}
	}
	return out
}

// AffectedTypes returns the old names of the types whose stored content or delivered
// documents differ between the models. Locales that come, go or fall back
// otherwise touch every type that has translations. What is only added touches none: a field without a default, an
// option, a kind of block, another type that a reference may lead to.
func (c *Conversion) AffectedTypes() []string {
	locales := !slices.EqualFunc(c.from.Locales, c.to.Locales, func(a, b Locale) bool {
		return a.Tag == b.Tag && a.Retired == b.Retired && slices.Equal(a.Fallback, b.Fallback)
	})
	var out []string
	for _, old := range c.from.Types {
		now := c.Type(old.Name)
		if locales || now == nil || now.Name != old.Name || now.laidOut(old) != old.laidOut(old) {
			out = append(out, old.Name)
		}
	}
	// A path that is made of another entry's path changes with that.
	for more := true; more; {
		more = false
		for _, t := range c.from.Types {
			if slices.Contains(out, t.Name) {
				continue
			}
			for _, parent := range t.Parents() {
				if slices.ContainsFunc(
					t.Field(parent).Types, func(p string) bool { return slices.Contains(out, p) },
				) {
					out, more = append(out, t.Name), true
					break
				}
			}
		}
	}
	return out
}

// MovesPaths tells whether entries of some type live elsewhere under the new
// model, or under another model of locales.
func (c *Conversion) MovesPaths() bool {
	for _, old := range c.from.Types {
		now := c.Type(old.Name)
		if old.HasPath() &&
			(now == nil || old.Path != now.Path || old.Home != now.Home || !maps.Equal(old.Paths, now.Paths)) ||
			now != nil && now.HasPath() && !old.HasPath() {
			return true
		}
	}
	return !slices.Equal(c.from.Tags(), c.to.Tags())
}

// laidOut returns as text all of a type that its documents are made by, to be compared with that of what it was. It
// leaves out what has been added since, for no document has a value of that yet.
func (t *Type) laidOut(was *Type) string {
	all := []any{t.laidOutFields(was), t.HasTranslations(), t.Title, t.Path, t.Paths, t.Home, t.Singleton}
	src, _ := json.Marshal(all) // plain records
	return string(src)
}

func (t *Type) laidOutFields(was *Type) (out []*Field) {
	for _, f := range t.Fields {
		before := former(was, t, f)
		if before == nil {
			if f.Default != nil || f.Kind == Slug {
				out = append(out, f) // there is something to be seen of it at once
			}
			continue
		}
		c := Field{
			Name: f.Name, Kind: f.Kind, Translated: f.Translated, Several: f.Several, Default: f.Default,
			Unique: f.Unique, Marks: f.Marks,
		}
		c.Types = slices.DeleteFunc(slices.Clone(f.Types), func(one string) bool {
			return len(before.Types) > 0 && !slices.Contains(before.Types, one)
		})
		for _, o := range before.Options {
			if slices.ContainsFunc(f.Options, func(now Option) bool { return now.Value == o.Value }) {
				c.Options = append(c.Options, Option{Value: o.Value})
			}
		}
		for _, b := range before.Inner {
			if i := slices.IndexFunc(f.Inner, func(now *Type) bool { return now.Name == b.Name }); i >= 0 {
				c.Inner = append(c.Inner, &Type{Name: b.Name, Fields: f.Inner[i].laidOutFields(b)})
			}
		}
		out = append(out, &c)
	}
	return out
}
