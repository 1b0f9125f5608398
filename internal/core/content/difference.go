package content

import (
	"reflect"
	"sort"

	"ubiquon/internal/core/model"
)

// ChangeBetween returns what happens to readers of an edition when an entry's
// documents become others; nil if they see no difference.
func ChangeBetween(kind, edition, entry string, t *model.Type, before, after map[string]Document) *Change {
	differing := Differences(t, before, after)
	if len(differing) == 0 {
		return nil
	}
	values := func(documents map[string]Document) map[string]Fields {
		out := make(map[string]Fields, len(documents))
		for tag, d := range documents {
			out[tag] = d.Values(t)
		}
		return out
	}
	return &Change{
		Kind:    kind,
		Edition: edition,
		Entry:   entry,
		Type:    t.Name,
		Fields:  differing,
		Before:  values(before),
		After:   values(after),
	}
}

// Differences compares the documents of an entry in one edition before and
// after. It returns, by locale, what differs: field names, FIELD.PART for parts of
// their values, FIELD.* if a value with parts comes or goes, and about.NAME for
// what is said about the entry. A document that comes or goes differs in all fields.
func Differences(t *model.Type, before, after map[string]Document) map[string][]string {
	out := map[string][]string{}
	tags := map[string]bool{}
	for tag := range before {
		tags[tag] = true
	}
	for tag := range after {
		tags[tag] = true
	}
	for tag := range tags {
		a, had := before[tag]
		b, has := after[tag]
		var names []string
		for _, f := range t.Fields {
			was, is := a.Fields[f.Name], b.Fields[f.Name]
			if had != has {
				names = append(names, f.Name)
			} else if !reflect.DeepEqual(was, is) {
				names = append(append(names, f.Name), differingParts(f.Name, was, is)...)
			}
		}
		av, bv := aboutValues(a.About), aboutValues(b.About)
		for i, name := range AboutNames {
			if had != has || !reflect.DeepEqual(av[i], bv[i]) {
				names = append(names, "about."+name)
			}
		}
		if len(names) > 0 {
			sort.Strings(names)
			out[tag] = names
		}
	}
	return out
}

// AnyPart is the part that stands for whether a value that has parts is there.
const AnyPart = "*"

// PartName names a part of a field's value.
func PartName(field, part string) string { return field + "." + part }

// differingParts names the parts in which two values of a field differ, if they have
// any.
func differingParts(field string, was, is any) (out []string) {
	a, had := partsOf(was)
	b, has := partsOf(is)
	if had != has {
		return []string{PartName(field, AnyPart)}
	}
	for part := range a {
		if v, there := b[part]; !there || !reflect.DeepEqual(a[part], v) {
			out = append(out, PartName(field, part))
		}
	}
	for part := range b {
		if _, there := a[part]; !there {
			out = append(out, PartName(field, part))
		}
	}
	return out
}

func partsOf(value any) (map[string]any, bool) {
	switch v := value.(type) {
	case map[string]any:
		return v, true
	case Fields:
		return v, true
	}
	return nil, false
}

func aboutValues(a About) []any {
	path := ""
	if a.Path != nil {
		path = *a.Path
	}
	return []any{
		a.Type, a.Locale, list(a.FilledIn), a.Revision, timeText(a.FirstPublished), timeText(a.Published),
		timeText(&a.Updated), path, list(a.Locales),
	}
}

func list(s []string) []string {
	if len(s) == 0 {
		return nil
	}
	return s
}
