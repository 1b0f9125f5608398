package origin

import (
	"fmt"
	"strings"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/jsonpath"
	"ubiquon/internal/core/mapping"
	"ubiquon/internal/core/model"
)

// Item is what an origin holds of one entry, in our form.
type Item struct {
	ID, Type, Key, Version string
	Saved                  content.Fields // the newest saved state
	Live                   content.Fields // what readers are to see; nil for nothing
	PublishedAt            *time.Time
	// Path is where the origin says that it lives.
	Path string
	// Lost tells what of its prose is not delivered, or was not converted.
	Lost []string
}

// BadItem is an item that cannot be brought over.
type BadItem struct {
	Type string
	// Key and Slug, as far as they are known.
	Key, Slug string
	Err       error
}

// paths are a mapping's compiled JSONPaths, by their text.
type paths = jsonpath.Set

// compile compiles the paths of a type.
func (c *Config) compile(typ string) (paths, error) {
	m := c.Types[typ]
	out := paths{}
	texts := []string{
		m.id(&c.Pull), m.Version, m.State.Path, m.Live, m.PublishedAt, m.translations(&c.Pull), m.Path, m.Item.From,
		c.Pull.Page.Next,
	}
	if !c.Pull.files() {
		texts = append(texts, m.From, strings.TrimSuffix(m.From, "[*]"))
	}
	for _, f := range m.Fields {
		texts = append(texts, f.Paths()...)
	}
	if c.Pull.Kind() == "http" && m.From == "" || m.id(&c.Pull) == "" {
		return nil, fmt.Errorf("from and id are needed")
	}
	for _, text := range texts {
		if err := out.Add(text); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// id finds what the origin calls an item.
func (m *Mapping) id(p *Pull) string {
	switch {
	case m.ID != "":
		return m.ID
	case p.files():
		return "$.path"
	case p.Feed != "":
		return "$.id"
	case p.Push:
		return "$.key"
	}
	return ""
}

func (m *Mapping) translations(p *Pull) string {
	if m.Translations == "" && p.files() {
		return "$.translations"
	}
	return m.Translations
}

// Map brings one item of the origin, in the origin's form, over into one of our types. Its error says
// why it cannot be; what is known of the item by then is in it.
func (s *Source) Map(models *model.Model, typ string, in any) (out Item, err error) {
	m, p := s.Config.Types[typ], s.paths[typ]
	kind := s.Config.Kind(typ)
	t := models.Type(typ)
	out.Type = typ
	if t == nil {
		return out, fmt.Errorf("the model has no type %s any more", typ)
	}
	about := s.around(in, (*mapping.Lost)(&out.Lost))
	if out.Key, err = p.Text(m.id(&s.Config.Pull), in); err != nil {
		return out, err
	}
	if out.Key == "" {
		return out, fmt.Errorf("an item of %s has nothing at %s", kind, m.id(&s.Config.Pull))
	}
	out.ID = content.MakeID(s.Name, typ, out.Key)
	if problem := problemOf(in); problem != "" {
		return out, fmt.Errorf("%s/%s: %s", kind, out.Key, problem)
	}
	m.Translations = m.translations(&s.Config.Pull)
	if out.Version, err = p.Text(m.Version, in); err != nil {
		return out, err
	}
	state, err := p.Text(m.State.Path, in)
	if err != nil {
		return out, err
	}
	if out.Saved, err = s.fields(&m, p, models, t, about, in); err != nil {
		return out, fmt.Errorf("%s/%s: %w", kind, out.Key, err)
	}
	means, known := m.State.Values[state]
	switch {
	case known:
	case state == "" && m.State.Default != "":
		means = m.State.Default
	case m.State.Path != "":
		return out, fmt.Errorf("%s/%s is in the state %q, which the mapping does not know", kind, out.Key, state)
	case m.Live == "":
		means = event.Published
	}
	if means == event.Published {
		out.Live = out.Saved
	} else {
		live, err := p.First(m.Live, in)
		if err != nil {
			return out, err
		}
		if live != nil {
			if out.Live, err = s.fields(&m, p, models, t, about, live); err != nil {
				return out, fmt.Errorf("%s/%s: %w", kind, out.Key, err)
			}
		}
	}
	if out.Path, err = p.Text(m.Path, in); err != nil {
		return out, err
	}
	at, err := p.Text(m.PublishedAt, in)
	if err != nil {
		return out, err
	}
	if parsed, err := mapping.ParseTime(at, "", time.UTC); err == nil {
		parsed = parsed.UTC().Truncate(time.Microsecond)
		out.PublishedAt = &parsed
	}
	return out, nil
}

// fields brings an item's values over: those of the item itself count for the
// default locale, those of its translations for theirs.
func (s *Source) fields(
	m *Mapping,
	p paths,
	models *model.Model,
	t *model.Type,
	about mapping.Around,
	in any,
) (content.Fields, error) {
	out := content.Fields{}
	translations, err := p.First(m.Translations, in)
	if err != nil {
		return nil, err
	}
	byLocale, _ := translations.(map[string]any)
	for name, from := range m.Fields {
		f := t.Field(name)
		v, err := from.Value(p, f, about, in)
		if err != nil {
			return nil, fmt.Errorf("field %s: %w", name, err)
		}
		if !f.Translated {
			if v != nil {
				out[name] = v
			}
			continue
		}
		per := map[string]any{}
		if v != nil {
			per[models.Default()] = v
		}
		for tag, other := range byLocale {
			l, known := models.Locale(tag)
			if !known {
				continue
			}
			if v, err := from.Value(p, f, s.around(other, about.Lost), other); err != nil {
				return nil, fmt.Errorf("field %s.%s: %w", name, tag, err)
			} else if v != nil {
				per[l.Tag] = v
			}
		}
		if len(per) > 0 {
			out[name] = per
		}
	}
	return out, nil
}
