package content

import (
	"reflect"
	"regexp"
	"slices"
	"sort"
	"time"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
)

// Documents lays out one document per locale in which the entry can be read: it
// has a translation there, or in a locale that this one falls back to, or its
// type has no translated fields at all. Prose is rendered, files are completed.
// Revision and times of about come from the caller.
func Documents(m *model.Model, t *model.Type, id string, fields Fields, about About) map[string]Document {
	written := map[string]bool{}
	for _, f := range t.Fields {
		if per, ok := fields[f.Name].(map[string]any); ok && f.Translated {
			for tag := range per {
				written[tag] = true
			}
		}
	}
	own := []string{}
	for _, tag := range m.Tags() {
		if written[tag] || !t.HasTranslations() {
			own = append(own, tag)
		}
	}
	out := map[string]Document{}
	for _, tag := range m.Tags() {
		chain := m.Chain(tag)
		if t.HasTranslations() && !slices.ContainsFunc(chain, func(l string) bool { return written[l] }) {
			continue
		}
		doc := Document{Entry: id, Type: t.Name, Locale: tag, Fields: Fields{}, About: about}
		doc.About.Type, doc.About.Locale, doc.About.Locales = t.Name, tag, own
		doc.About.FilledIn = []string{}
		for _, f := range t.Fields {
			v := fields[f.Name]
			if f.Translated {
				per, _ := v.(map[string]any)
				v = nil
				for i, l := range chain {
					if per[l] != nil {
						v = per[l]
						if i > 0 {
							doc.About.FilledIn = append(doc.About.FilledIn, f.Name)
						}
						break
					}
				}
			}
			if v != nil {
				doc.Fields[f.Name] = delivered(f, v)
			}
		}
		if f := t.SlugField(); f != nil {
			doc.Slug, _ = doc.Fields[f.Name].(string)
		}
		doc.About.Path = pathOf(t, doc.Fields)
		out[tag] = doc
	}
	return out
}

func delivered(f *model.Field, v any) any {
	if list, ok := v.([]any); ok && f.Several {
		out := make([]any, len(list))
		for i := range list {
			out[i] = deliveredOne(f, list[i])
		}
		return out
	}
	return deliveredOne(f, v)
}

func deliveredOne(f *model.Field, v any) any {
	switch f.Kind {
	case model.Prose:
		s, _ := v.(string)
		forms := prose.Render(s)
		return map[string]any{"html": forms.HTML, "inline": forms.Inline, "commonmark": forms.CommonMark, "plain": forms.Plain}
	case model.File:
		in, _ := v.(map[string]any)
		out := map[string]any{}
		for _, name := range FileNames {
			out[name] = in[name]
		}
		return out
	}
	return v
}

// FileNames lists what is always said of a file, in the order of delivery.
var FileNames = []string{"url", "alt", "width", "height", "mediaType", "bytes"}

var hole = regexp.MustCompile(`\{([^}]*)\}`)

// pathOf fills in the type's path template; nil when there is none or a part
// of it has no value.
func pathOf(t *model.Type, fields Fields) *string {
	if t.Path == "" {
		return nil
	}
	complete := true
	path := hole.ReplaceAllStringFunc(t.Path, func(h string) string {
		s, ok := fields[h[1:len(h)-1]].(string)
		complete = complete && ok
		return s
	})
	if !complete {
		return nil
	}
	return &path
}

// Values returns what filters and sorts may ask of a document: every field but
// prose and files, and the entry's times.
func (d Document) Values(t *model.Type) Fields {
	out := Fields{}
	for _, f := range t.Fields {
		if f.Kind == model.Prose || f.Kind == model.File {
			continue
		}
		if v, ok := d.Fields[f.Name]; ok {
			out[f.Name] = v
		}
	}
	out["slug"] = d.Slug
	out["about.path"] = d.About.Path
	out["about.published"] = timeText(d.About.Published)
	out["about.firstPublished"] = timeText(d.About.FirstPublished)
	out["about.updated"] = timeText(&d.About.Updated)
	return out
}

func timeText(at *time.Time) any {
	if at == nil {
		return nil
	}
	return at.UTC().Format(TimeForm)
}

// Differences compares the documents of an entry in one edition before and
// after. It returns, by locale, what differs: field names, and about.NAME for
// what is said about the entry. A document that comes or goes differs in all.
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
			if had != has || !reflect.DeepEqual(a.Fields[f.Name], b.Fields[f.Name]) {
				names = append(names, f.Name)
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

func aboutValues(a About) []any {
	path := ""
	if a.Path != nil {
		path = *a.Path
	}
	return []any{a.Type, a.Locale, list(a.FilledIn), a.Revision, timeText(a.FirstPublished), timeText(a.Published), timeText(&a.Updated), path, list(a.Locales)}
}

func list(s []string) []string {
	if len(s) == 0 {
		return nil
	}
	return s
}
