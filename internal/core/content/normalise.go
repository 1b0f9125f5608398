package content

import (
	"regexp"
	"strings"
	"time"

	makeslug "github.com/gosimple/slug"

	"ubiquon/internal/core/model"
)

var (
	slugForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)
	idForm   = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)
	currency = regexp.MustCompile(`^[A-Z]{3}$`)
)

// ValidID tells whether the text can be an entry's id.
func ValidID(id string) bool { return idForm.MatchString(id) }

// Normalise returns the fields as they are stored: empty values gone, times in
// UTC, slugs made where the model says so. It does not change its argument.
func Normalise(m *model.Model, t *model.Type, id string, in Fields) Fields {
	out := clone(in)
	tidyGroup(t, out)
	for _, f := range t.Fields {
		if f.MadeFrom == "" {
			continue
		}
		from := out[f.MadeFrom]
		perFrom, translated := from.(map[string]any)
		if !f.Translated {
			if out[f.Name] == nil && from != nil {
				if translated {
					for _, tag := range m.Tags() {
						if perFrom[tag] != nil {
							from = perFrom[tag]
							break
						}
					}
				}
				out[f.Name] = slugOf(from, id)
			}
			continue
		}
		if !translated {
			continue
		}
		per, _ := out[f.Name].(map[string]any)
		if per == nil {
			per = map[string]any{}
		}
		for tag, one := range perFrom {
			if per[tag] == nil {
				per[tag] = slugOf(one, id)
			}
		}
		out[f.Name] = per
	}
	return out
}

// tidyGroup tidies the values of a type, a record or a block in place.
func tidyGroup(t *model.Type, values map[string]any) {
	for name, v := range values {
		f := t.Field(name)
		if f == nil {
			continue
		}
		if per, ok := v.(map[string]any); ok && f.Translated {
			for tag, one := range per {
				if one = tidy(f, one); one == nil {
					delete(per, tag)
				} else {
					per[tag] = one
				}
			}
			if len(per) == 0 {
				delete(values, name)
			}
			continue
		}
		if v = tidy(f, v); v == nil {
			delete(values, name)
		} else {
			values[name] = v
		}
	}
}

func slugOf(v any, id string) string {
	s, _ := v.(string)
	if made := makeslug.Make(s); made != "" {
		return made
	}
	return id
}

func tidy(f *model.Field, v any) any {
	switch x := v.(type) {
	case string:
		if strings.TrimSpace(x) == "" && f.Kind != model.JSON {
			return nil
		}
		if f.Kind == model.File {
			return map[string]any{"file": x}
		}
		if f.Kind == model.DateTime {
			if at, err := time.Parse(time.RFC3339, x); err == nil {
				return at.UTC().Format(TimeForm)
			}
		}
	case []any:
		if !f.IsList() {
			return v
		}
		if len(x) == 0 {
			return nil
		}
		for i := range x {
			x[i] = tidy(f, x[i])
		}
	case map[string]any:
		if f.Inner == nil {
			return v
		}
		if t := f.InnerOf(x); t != nil {
			tidyGroup(t, x)
		}
		if len(x) == 0 {
			return nil
		}
	}
	return v
}
