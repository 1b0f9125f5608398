package content

import (
	"maps"
	"reflect"
	"slices"

	"ubiquon/internal/core/model"
)

// Publish returns what readers get when the newest state is published in some
// locales: what is not translated, and those locales, come from it; of every
// other locale stays what readers had of it. With nil all locales are published.
func Publish(t *model.Type, live, newest Fields, locales []string) Fields {
	if locales == nil {
		return newest
	}
	return publishGroup(t, live, newest, locales)
}

func publishGroup(t *model.Type, live, newest map[string]any, locales []string) Fields {
	out := Fields{}
	for _, f := range t.Fields {
		was, now := live[f.Name], newest[f.Name]
		switch {
		case f.Translated:
			per := map[string]any{}
			before, _ := was.(map[string]any)
			for tag, v := range before {
				if !slices.Contains(locales, tag) {
					per[tag] = v
				}
			}
			after, _ := now.(map[string]any)
			for _, tag := range locales {
				if after[tag] != nil {
					per[tag] = after[tag]
				}
			}
			if len(per) > 0 {
				out[f.Name] = per
			}
		case now == nil:
		case f.Inner != nil && slices.ContainsFunc(f.Inner, (*model.Type).HasTranslations):
			out[f.Name] = publishInner(f, was, now, locales)
		default:
			out[f.Name] = now
		}
	}
	return out
}

// publishInner publishes translations within a record or blocks. What other
// locales had is found again by its place, in a block of the same kind.
func publishInner(f *model.Field, was, now any, locales []string) any {
	before, _ := was.([]any)
	one := func(was, now any) any {
		x, ok := now.(map[string]any)
		if !ok || f.InnerOf(x) == nil {
			return now
		}
		old, _ := was.(map[string]any)
		if old != nil && f.InnerOf(old) != f.InnerOf(x) {
			old = nil
		}
		out := publishGroup(f.InnerOf(x), old, x, locales)
		if name, ok := x[model.BlockName]; ok {
			out[model.BlockName] = name
		}
		return map[string]any(out)
	}
	list, ok := now.([]any)
	if !ok {
		return one(was, now)
	}
	out := make([]any, len(list))
	for i := range list {
		var old any
		if i < len(before) {
			old = before[i]
		}
		out[i] = one(old, list[i])
	}
	return out
}

// TakeBack returns what is left for readers when some locales are unpublished;
// nil when nothing in any language is.
func TakeBack(t *model.Type, live Fields, locales []string) Fields {
	if locales == nil || !t.HasTranslations() {
		return nil
	}
	var stay []string
	for _, tag := range WrittenIn(t, live) {
		if !slices.Contains(locales, tag) {
			stay = append(stay, tag)
		}
	}
	if len(stay) == 0 {
		return nil
	}
	return publishGroup(t, nil, live, stay)
}

// Leaf is one value within an entry's fields: not a record, block, list or map
// of locales, but what they are made of in the end.
type Leaf struct {
	Path  string // as in fields.blocks[0].text.nb
	Field *model.Field
	// Top is the type's own field that it is within, perhaps Field itself.
	Top   *model.Field
	Value any
}

// Leaves lists the values of stored fields, or, with resolved, of a document's.
func Leaves(t *model.Type, fields Fields, resolved bool) []Leaf {
	w := leafWalk{resolved: resolved}
	w.group(t, "fields", nil, fields)
	return w.out
}

type leafWalk struct {
	resolved bool
	out      []Leaf
}

func (w *leafWalk) group(t *model.Type, path string, top *model.Field, values map[string]any) {
	for _, f := range t.Fields {
		v, at, in := values[f.Name], path+"."+f.Name, top
		if v == nil {
			continue
		}
		if in == nil {
			in = f
		}
		if per, ok := v.(map[string]any); ok && f.Translated && !w.resolved {
			for _, tag := range slices.Sorted(maps.Keys(per)) {
				w.values(f, at+"."+tag, in, per[tag])
			}
			continue
		}
		w.values(f, at, in, v)
	}
}

func (w *leafWalk) values(f *model.Field, path string, top *model.Field, v any) {
	if list, ok := v.([]any); ok && f.IsList() {
		for i, one := range list {
			w.one(f, indexed(path, i), top, one)
		}
		return
	}
	w.one(f, path, top, v)
}

func (w *leafWalk) one(f *model.Field, path string, top *model.Field, v any) {
	if f.Inner == nil {
		w.out = append(w.out, Leaf{Path: path, Field: f, Top: top, Value: v})
	} else if x, ok := v.(map[string]any); ok && f.InnerOf(x) != nil {
		w.group(f.InnerOf(x), path, top, x)
	}
}

// FieldDifference is one field, in one locale if it is translated, in which two
// states of an entry differ.
type FieldDifference struct {
	Field  string `json:"field"`
	Locale string `json:"locale,omitempty"`
	Before any    `json:"before"`
	After  any    `json:"after"`
}

// Compare lists what differs between two stored states of an entry, in the order
// of the fields and the locales.
func Compare(m *model.Model, t *model.Type, before, after Fields) []FieldDifference {
	out := []FieldDifference{}
	for _, f := range t.Fields {
		a, b := before[f.Name], after[f.Name]
		if reflect.DeepEqual(a, b) {
			continue
		}
		if !f.Translated {
			out = append(out, FieldDifference{Field: f.Name, Before: a, After: b})
			continue
		}
		was, _ := a.(map[string]any)
		now, _ := b.(map[string]any)
		for _, l := range m.Locales {
			if !reflect.DeepEqual(was[l.Tag], now[l.Tag]) {
				out = append(
					out, FieldDifference{Field: f.Name, Locale: l.Tag, Before: was[l.Tag], After: now[l.Tag]},
				)
			}
		}
	}
	return out
}
