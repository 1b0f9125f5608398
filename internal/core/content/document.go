package content

import (
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
)

// RenderContext is what rendering entries needs besides the entries themselves.
// One may be used for many entries, one after another.
type RenderContext struct {
	// Find returns the site path of an entry in an edition and a locale, "" when it has
	// none, and whether its readers can see the entry at all.
	Find func(edition, locale, id string) (path string, visible bool)
	// File returns a file as its document in an edition and a locale has it, nil where its readers
	// cannot see it. It may be nil: then nobody sees any.
	File func(edition, locale, id string) map[string]any
	// Prose is what is rendered already.
	Prose Renderings
}

// Renderings are texts that are rendered already, by themselves and their marks.
type Renderings map[string]*prose.Rendered

// renderingsHeld bounds how many texts are held.
const renderingsHeld = 2000

// Of returns a text rendered. The same text comes again for every locale that it is
// filled in for, and in both editions.
func (r *Renderings) Of(source string, marks []string) *prose.Rendered {
	key := strings.Join(marks, " ") + "\x00" + source
	if held := (*r)[key]; held != nil {
		return held
	}
	if *r == nil || len(*r) >= renderingsHeld {
		*r = Renderings{}
	}
	out := prose.Render(source, marks)
	(*r)[key] = out
	return out
}

// RenderAll renders the prose of an entry's fields ahead, until it is late. Its error is a
// Problems that names what is not rendered, and why.
func (r *Renderings) RenderAll(t *model.Type, entry string, fields Fields, late func() bool) error {
	for _, leaf := range Leaves(t, fields, false) {
		text, is := leaf.Value.(string)
		if leaf.Field.Kind != model.Prose || !is {
			continue
		}
		if rule, wrong := checkProse(leaf.Field, text); rule != "" {
			return Problems{{Entry: entry, Path: leaf.Path, Rule: rule, Text: wrong}}
		}
		if late() {
			return Problems{
				{
					Entry: entry,
					Path:  leaf.Path,
					Rule:  "prose",
					Text: "rendering the texts of this write takes too long; save fewer entries, or shorter " +
						"texts, at once",
				},
			}
		}
		r.Of(text, leaf.Field.Marks)
	}
	return nil
}

// Lost tells which prose of an entry's fields has what is not delivered, and what: as a
// list of problems that refuse nothing.
func Lost(t *model.Type, entry string, fields Fields) Problems {
	var out Problems
	for _, leaf := range Leaves(t, fields, false) {
		text, is := leaf.Value.(string)
		if leaf.Field.Kind != model.Prose || !is {
			continue
		}
		if lost := prose.Lost(text, leaf.Field.Marks); len(lost) > 0 {
			out = append(
				out,
				Problem{
					Entry: entry,
					Path:  leaf.Path,
					Rule:  "lost",
					Text:  "not delivered, since it is HTML or not safe: " + strings.Join(lost, ", "),
				},
			)
		}
	}
	return out
}

// Documents lays out one document per locale in which the entry can be read: it
// has a translation there, or in a locale that this one falls back to, or its
// type has no translated fields at all. With nothing translated yet it can be read
// as if it were written in the default locale. Prose is rendered, files are completed,
// defaults are filled in. Revision and times of about come from the caller.
func Documents(
	m *model.Model, t *model.Type, edition, id string, fields Fields, about About, around *RenderContext,
) map[string]Document {
	written := WrittenIn(t, fields)
	translated := t.HasTranslations()
	if len(written) == 0 {
		written = []string{m.Default()}
	}
	own := []string{}
	for _, tag := range m.Tags() {
		if slices.Contains(written, tag) || !translated {
			own = append(own, tag)
		}
	}
	out := map[string]Document{}
	for _, tag := range m.Tags() {
		l := layout{
			chain:   m.Chain(tag),
			edition: edition,
			locale:  tag,
			around:  around,
			find: func(id string) prose.Target {
				path, visible := around.Find(edition, tag, id)
				return prose.Target{Path: path, Visible: visible}
			},
		}
		if translated && !t.IsBuiltIn() &&
			!slices.ContainsFunc(l.chain, func(l string) bool { return slices.Contains(written, l) }) {
			continue
		}
		doc := Document{Entry: id, Type: t.Name, Locale: tag, Fields: l.group(t, fields, true), About: about}
		if t.Name == model.FileType {
			doc.Fields[model.FileField] = FileValue(id, doc.Fields, about.Published == nil)
		}
		doc.About.Type, doc.About.Locale, doc.About.Locales = t.Name, tag, own
		doc.About.FilledIn = l.filledIn
		if doc.About.FilledIn == nil {
			doc.About.FilledIn = []string{}
		}
		if f := t.SlugField(); f != nil {
			doc.Slug, _ = doc.Fields[f.Name].(string)
		}
		doc.About.Path = pathOf(t, &doc, func(id string) string { return l.find(id).Path })
		doc.targets = l.targets
		out[tag] = doc
	}
	return out
}

// WrittenIn lists the locales in which the fields have a value of their own,
// sorted.
func WrittenIn(t *model.Type, fields Fields) []string {
	found := map[string]bool{}
	writtenIn(t, fields, found)
	return slices.Sorted(maps.Keys(found))
}

func writtenIn(t *model.Type, values map[string]any, found map[string]bool) {
	for _, f := range t.Fields {
		v := values[f.Name]
		if per, ok := v.(map[string]any); ok && f.Translated {
			for tag, one := range per {
				if one != nil {
					found[tag] = true
				}
			}
			continue
		}
		for _, x := range inner(f, v) {
			writtenIn(f.InnerOf(x), x, found)
		}
	}
}

// inner returns the records or blocks that a field's value is made of.
func inner(f *model.Field, v any) []map[string]any {
	if f.Inner == nil {
		return nil
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	var out []map[string]any
	for _, one := range list {
		if x, ok := one.(map[string]any); ok && f.InnerOf(x) != nil {
			out = append(out, x)
		}
	}
	return out
}

// layout lays out the fields of one locale.
type layout struct {
	chain    []string
	edition  string
	locale   string
	around   *RenderContext
	find     func(id string) prose.Target
	top      string   // the type's own field at hand
	targets  []string // that prose links to, as Links has them
	filledIn []string // fields, or fields that something within them was filled in
	filled   bool
}

func (l *layout) group(t *model.Type, values map[string]any, top bool) map[string]any {
	out := make(map[string]any, len(t.Fields))
	for _, f := range t.Fields {
		if top {
			l.filled, l.top = false, f.Name
		}
		v := values[f.Name]
		if f.Translated {
			per, _ := v.(map[string]any)
			v = nil
			for i, tag := range l.chain {
				if per[tag] != nil {
					v = per[tag]
					l.filled = l.filled || i > 0
					break
				}
			}
		}
		if v == nil {
			v = f.Default
		}
		if v != nil {
			if v = l.delivered(f, v); v != nil {
				out[f.Name] = v
			}
		}
		if top && l.filled {
			l.filledIn = append(l.filledIn, f.Name)
		}
	}
	return out
}

func (l *layout) delivered(f *model.Field, v any) any {
	if list, ok := v.([]any); ok && f.IsList() {
		out := make([]any, 0, len(list))
		for i := range list {
			if one := l.deliveredOne(f, list[i]); one != nil {
				out = append(out, one)
			}
		}
		return out
	}
	return l.deliveredOne(f, v)
}

func (l *layout) deliveredOne(f *model.Field, v any) any {
	switch f.Kind {
	case model.Prose:
		s, _ := v.(string)
		r := l.around.Prose.Of(s, f.Marks)
		for _, id := range r.Targets {
			l.targets = append(l.targets, l.top+"/"+id)
		}
		return r.Forms(l.find)
	case model.File:
		return l.file(v)
	case model.Record, model.Blocks:
		x, _ := v.(map[string]any)
		t := f.InnerOf(x)
		if t == nil {
			return nil
		}
		out := l.group(t, x, false)
		if f.Kind == model.Blocks {
			out[model.BlockName] = t.Name
		}
		return out
	}
	return v
}

// pathOf fills in the type's path template; nil when there is none or a part
// of it has no value.
func pathOf(t *model.Type, doc *Document, path func(id string) string) *string {
	if t.Home != "" && doc.Slug == t.Home {
		home := "/"
		return &home
	}
	return model.FillPath(t.PathIn(doc.Locale), func(name string) (string, bool) {
		field, ofParent := strings.CutSuffix(name, ".path")
		s, ok := doc.Fields[field].(string)
		if !ofParent {
			return s, ok
		}
		if !ok {
			return "/", true // no parent: it stands at the top
		}
		s = path(s)
		return s, s != ""
	})
}

// Values returns what filters and sorts may ask of a document: every field of a
// plain kind, and the entry's times; of the other kinds true where there is a
// value. about.own is true in a locale that the entry is written in.
func (d Document) Values(t *model.Type) Fields {
	out := Fields{}
	comparable(out, t, d.Fields)
	out["slug"] = d.Slug
	if slices.Contains(d.About.Locales, d.Locale) {
		out["about.own"] = true
	}
	if d.About.Path != nil {
		out["about.path"] = *d.About.Path
	}
	out["about.published"] = timeText(d.About.Published)
	out["about.firstPublished"] = timeText(d.About.FirstPublished)
	out["about.updated"] = timeText(&d.About.Updated)
	return out
}

func comparable(out map[string]any, t *model.Type, values map[string]any) {
	for _, f := range t.Fields {
		v := values[f.Name]
		if v == nil {
			continue
		}
		switch f.Kind {
		case model.Record:
			if record, ok := v.(map[string]any); ok && !f.Several {
				members := map[string]any{}
				comparable(members, f.Inner[0], record)
				v = members
				break
			}
			fallthrough
		case model.Prose, model.File, model.Location, model.JSON, model.Blocks:
			if list, ok := v.([]any); ok {
				v = []any{true}[:min(len(list), 1)]
			} else {
				v = true
			}
		}
		out[f.Name] = v
	}
}

// Links lists the entries that the document refers to, each as the name of the
// type's own field that it is within, a slash and the entry's id. Links within
// prose are among them, if the document was rendered here and not read.
func (d Document) Links(t *model.Type) []string {
	found := map[string]bool{}
	for _, target := range d.targets {
		found[target] = true
	}
	for _, leaf := range Leaves(t, d.Fields, true) {
		if id, ok := leaf.Value.(string); ok && leaf.Field.Kind == model.Reference {
			found[leaf.Top.Name+"/"+id] = true
		}
	}
	return slices.Sorted(maps.Keys(found))
}

func timeText(at *time.Time) any {
	if at == nil {
		return nil
	}
	return at.UTC().Format(TimeForm)
}
