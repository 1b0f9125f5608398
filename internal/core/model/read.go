package model

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/text/language"

	"ubiquon/internal/core/strictyaml"
)

// Reserved are the names that no plural may have, since they are addresses of
// their own under every edition.
var Reserved = []string{"entries", "at", "paths", "files", "schema", "openapi.json", "changes", "graphql"}

// TakenFieldNames are the names that no field may have: they name the entry
// itself, what is said about it, or one of its own times in a sort.
var TakenFieldNames = []string{"id", "about", "published", "updated", "firstPublished"}

// MaxNesting is how deep records and blocks may stand in each other.
const MaxNesting = 4

// Read makes one model out of YAML files, given by name. Its error is a
// strictyaml.Mistakes that lists everything wrong in all files.
func Read(files map[string][]byte) (*Model, error) {
	r := reader{m: &Model{}, at: map[string]strictyaml.Mistake{}}
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		var form fileForm
		if err := strictyaml.Decode(name, files[name], &form); err != nil {
			r.found = append(r.found, err.(strictyaml.Mistakes)...)
			continue
		}
		r.file(name, form)
	}
	if len(r.found) == 0 {
		r.whole()
	}
	if len(r.found) > 0 {
		return nil, r.found
	}
	return r.m, nil
}

// FromJSON reads a model as Model itself is written by encoding/json, the form
// in which it is stored.
func FromJSON(src []byte) (*Model, error) {
	m := &Model{}
	if err := json.Unmarshal(src, m); err != nil {
		return nil, fmt.Errorf("stored model: %w", err)
	}
	return m, m.index()
}

type reader struct {
	m     *Model
	found strictyaml.Mistakes
	at    map[string]strictyaml.Mistake // where a type, field or locale stands
}

func (r *reader) mark(key, file string, line, column int) {
	r.at[key] = strictyaml.Mistake{File: file, Line: line, Column: column}
}

func (r *reader) add(key, format string, args ...any) {
	m := r.at[key]
	m.Text = fmt.Sprintf(format, args...)
	r.found = append(r.found, m)
}

var (
	typeName  = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	fieldName = regexp.MustCompile(`^[a-z][A-Za-z0-9]*$`)
)

// once marks the place of a name and tells whether it is the first of its kind.
func (r *reader) once(key, file string, line, column int, what string) bool {
	_, twice := r.at[key]
	r.mark(key, file, line, column)
	if twice {
		r.add(key, "%s is declared twice", what)
	}
	return !twice
}

func (r *reader) file(name string, form fileForm) {
	for _, l := range form.Locales {
		key := "locale " + l.Name
		if !r.once(key, name, l.Line, l.Column, key) {
			continue
		}
		if _, err := language.Parse(l.Name); err != nil {
			r.add(key, "%q is no BCP 47 language tag; write it as in en, nb or pt-BR", l.Name)
		}
		r.m.Locales = append(
			r.m.Locales,
			Locale{Tag: l.Name, Name: l.Value.Name, Fallback: l.Value.Fallback, Retired: l.Value.Retired},
		)
	}
	for _, item := range form.Types {
		key := "type " + item.Name
		if !r.once(key, name, item.Line, item.Column, key) {
			continue
		}
		f := item.Value
		t := &Type{
			Name:        item.Name,
			Plural:      f.Plural,
			Label:       f.Label,
			Help:        f.Help,
			Was:         f.Was,
			Deprecated:  f.Deprecated,
			Deprecation: Deprecation{f.Since, f.Sunset},
			Path:        f.Path.all,
			Paths:       f.Path.byName,
			Home:        f.Home,
			Title:       f.Title,
			Singleton:   f.Singleton,
			Approval:    f.Approval,
			Submissions: f.Submissions,
			Freshness:   f.Freshness,
		}
		if t.Label == "" {
			t.Label = t.Name
		}
		if t.Plural == "" {
			t.Plural = t.Name
			if !t.Singleton {
				t.Plural += "s"
			}
		}
		t.Fields = r.fields(name, key, f.Fields)
		r.m.Types = append(r.m.Types, t)
	}
	r.shapes(name, form.Shapes)
}

func (r *reader) locales() {
	m := r.m
	var all []string
	for _, l := range m.Locales {
		all = append(all, l.Tag)
	}
	if len(m.Tags()) == 0 {
		r.add("locale "+all[0], "every locale is retired; keep one")
	}
	for _, l := range m.Locales {
		for _, f := range l.Fallback {
			if !slices.Contains(all, f) {
				r.add(
					"locale "+l.Tag, "locale %s falls back to %q, which is not declared%s", l.Tag, f,
					strictyaml.DidYouMean(f, all),
				)
			} else if r.leadsTo(f, l.Tag, map[string]bool{}) {
				r.add("locale "+l.Tag, "locales %s and %s fall back to each other; leave one of the two out", l.Tag, f)
			}
		}
	}
}

// leadsTo tells whether the fallbacks of a locale come to the other.
func (r *reader) leadsTo(from, to string, seen map[string]bool) bool {
	if from == to {
		return true
	}
	if seen[from] {
		return false
	}
	seen[from] = true
	l, _ := r.m.AnyLocale(from)
	return slices.ContainsFunc(l.Fallback, func(f string) bool { return r.leadsTo(f, to, seen) })
}

func (r *reader) typ(t *Type) {
	key := "type " + t.Name
	if !typeName.MatchString(t.Name) {
		r.add(key, "type name %q: use a-z, 0-9 and single hyphens, a letter first", t.Name)
	}
	if !t.IsBuiltIn() && slices.Contains(Reserved, t.Plural) || !typeName.MatchString(t.Plural) {
		r.add(
			key, "type %s cannot have the plural %q: use a-z, 0-9 and hyphens, and none of %s", t.Name, t.Plural,
			strings.Join(Reserved, ", "),
		)
	}
	if t.Title == "" {
		for _, f := range t.Fields {
			if f.Kind == Text {
				t.Title = f.Name
				break
			}
		}
	} else if t.Field(t.Title) == nil {
		r.add(key, "type %s has the title %q, which is none of its fields%s", t.Name, t.Title,
			strictyaml.DidYouMean(t.Title, t.FieldNames()))
	}
	if t.Path != "" {
		r.path(t, t.Path)
	}
	for _, tag := range slices.Sorted(maps.Keys(t.Paths)) {
		if _, ok := r.m.AnyLocale(tag); !ok {
			r.add(
				key, "type %s has a path for the locale %q, which is not declared%s", t.Name, tag,
				strictyaml.DidYouMean(tag, r.m.Tags()),
			)
		}
		r.path(t, t.Paths[tag])
	}
	if t.Home != "" && (!t.HasPath() || t.SlugField() == nil) {
		r.add(key, "type %s has a home, but no path or no slug to find it by", t.Name)
	}
	if t.Submissions != nil {
		r.submissions(t, key)
	}
	r.deprecation(key, "type "+t.Name, t.Deprecated, t.Deprecation)
	r.group(t, key, t.Name, 0)
}

// deprecation checks what is said of something deprecated.
func (r *reader) deprecation(key, what, why string, days Deprecation) {
	switch {
	case why == "" && days != Deprecation{}:
		r.add(
			key, "%s has deprecatedSince or sunset, but is not deprecated; say why, as in deprecated: use the slug",
			what,
		)
	case why != "" && days.DeprecatedSince == "":
		r.add(key, "%s is deprecated; say since when, as in deprecatedSince: 2026-11-23, for readers are told", what)
	}
	for _, day := range []string{days.DeprecatedSince, days.Sunset} {
		if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
			r.add(key, "%s: %q is no date; write it as in 2026-11-23", what, day)
		}
	}
}

// submissions checks what may be handed in.
func (r *reader) submissions(t *Type, key string) {
	s := t.Submissions
	if s.Bytes == 0 {
		s.Bytes = 16 << 10
	}
	if s.PerMinute == 0 {
		s.PerMinute = 5
	}
	if len(s.Fields) == 0 {
		r.add(key, "submissions of type %s take no fields; add fields: [%s]", t.Name, t.Title)
	}
	if s.Bytes < 0 || s.Bytes > 1<<20 || s.PerMinute < 0 {
		r.add(key, "submissions of type %s: bytes is 1 to 1048576, perMinute more than 0", t.Name)
	}
	for _, name := range s.Fields {
		switch f := t.Field(name); {
		case f == nil:
			r.add(
				key, "submissions of type %s take %q, which is none of its fields%s", t.Name, name,
				strictyaml.DidYouMean(name, t.FieldNames()),
			)
		case f.Unique || f.Kind == Slug:
			// The refusal would tell what others have handed in.
			r.add(key, "submissions of type %s take %q, whose values are unique; leave it out", t.Name, name)
		case f.Kind == Reference || f.Kind == Record || f.Kind == Blocks:
			r.add(key, "submissions of type %s take %q, which is a %s; leave it out", t.Name, name, f.Kind)
		}
	}
	if s.Trap != "" && t.Field(s.Trap) != nil {
		r.add(
			key, "submissions of type %s have the trap %q, which is one of its fields; give it a name of its own",
			t.Name, s.Trap,
		)
	}
}

// path checks a template of a site path.
func (r *reader) path(t *Type, template string) {
	key := "type " + t.Name
	if !strings.HasPrefix(template, "/") {
		r.add(key, "the path of type %s must begin with a slash", t.Name)
	}
	for _, hole := range inBraces.FindAllStringSubmatch(template, -1) {
		name, ofParent := strings.CutSuffix(hole[1], ".path")
		switch f := t.Field(name); {
		case f == nil:
			r.add(
				key, "the path of type %s names {%s}, which is none of its fields%s", t.Name, hole[1],
				strictyaml.DidYouMean(name, t.FieldNames()),
			)
		case ofParent && (f.Kind != Reference || f.Several):
			r.add(
				key, "the path of type %s names {%s}, but %s is no reference to a single entry", t.Name, hole[1],
				name,
			)
		case !ofParent && (f.Several || f.Kind != Slug && f.Kind != Text && f.Kind != Choice && f.Kind != Date):
			r.add(key, "the path of type %s names {%s}; use a single slug, text, choice or date", t.Name, hole[1])
		}
	}
}

// backs checks the names of the back-references to a type.
func (r *reader) backs(t *Type) {
	names := map[string]string{}
	for _, b := range r.m.Backs(t.Name) {
		key, from := "type "+b.Type.Name+"."+b.Field.Name, b.Type.Name+"."+b.Field.Name
		switch other := names[b.Name]; {
		case !fieldName.MatchString(b.Name) || slices.Contains(TakenFieldNames, b.Name):
			r.add(
				key,
				"field %s has the inverse %q: use letters and digits, a small letter first, and no name that an "+
					"entry has itself",
				from, b.Name,
			)
		case t.Field(b.Name) != nil:
			r.add(key, "field %s has the inverse %q, but type %s has a field of that name", from, b.Name, t.Name)
		case other != "":
			r.add(key, "fields %s and %s have the same inverse %q to type %s", other, from, b.Name, t.Name)
		}
		names[b.Name] = from
	}
}
