package origin

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/speakeasy-api/jsonpath/pkg/jsonpath"
	yamlnode "gopkg.in/yaml.v3"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
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
type paths map[string]*jsonpath.JSONPath

func (m *Mapping) compile() (paths, error) {
	out := paths{}
	texts := []string{m.From, m.ID, m.Version, m.State.Path, m.Live, m.PublishedAt, m.Translations, m.Path}
	for _, f := range m.Fields {
		texts = append(texts, f.paths()...)
	}
	if m.Kind == "" || m.From == "" || m.ID == "" {
		return nil, fmt.Errorf("kind, from and id are needed")
	}
	for _, text := range texts {
		if text == "" {
			continue
		}
		p, err := jsonpath.NewPath(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no JSONPath (RFC 9535): %w", text, err)
		}
		out[text] = p
	}
	return out, nil
}

// all returns the values that a path finds in a value, as encoding/json would
// have decoded them.
func (p paths) all(path string, in any) ([]any, error) {
	if path == "" {
		return nil, nil
	}
	var node yamlnode.Node
	if err := node.Encode(in); err != nil {
		return nil, err
	}
	var out []any
	for _, n := range p[path].Query(&node) {
		var v any
		if err := n.Decode(&v); err != nil {
			return nil, err
		}
		src, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(src, &v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (p paths) first(path string, in any) (any, error) {
	found, err := p.all(path, in)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return found[0], nil
}

func (p paths) text(path string, in any) (string, error) {
	v, err := p.first(path, in)
	if err != nil || v == nil {
		return "", err
	}
	if s, ok := v.(string); ok {
		return s, nil
	}
	return fmt.Sprint(v), nil
}

// around is what an item is brought over from: the origin, and the address that relative
// ones are relative to; what its texts lose is told there.
type around struct {
	origin string
	base   *url.URL
	lost   *lost
}

// item brings one item of the origin over.
func (m *Mapping) item(
	p paths, models *model.Model, origin string, base *url.URL, typ string, in any,
) (out Item, err error) {
	t := models.Type(typ)
	out.Type = typ
	about := around{origin, base, (*lost)(&out.Lost)}
	if out.Key, err = p.text(m.ID, in); err != nil {
		return out, err
	}
	if out.Key == "" {
		return out, fmt.Errorf("an item of %s has nothing at %s", m.Kind, m.ID)
	}
	out.ID = content.MakeID(origin, typ, out.Key)
	if out.Version, err = p.text(m.Version, in); err != nil {
		return out, err
	}
	state, err := p.text(m.State.Path, in)
	if err != nil {
		return out, err
	}
	if out.Saved, err = m.fields(p, models, t, about, in); err != nil {
		return out, fmt.Errorf("%s/%s: %w", m.Kind, out.Key, err)
	}
	switch means, known := m.State.Values[state]; {
	case means == event.Published:
		out.Live = out.Saved
	case !known && m.State.Path != "":
		return out, fmt.Errorf("%s/%s is in the state %q, which the mapping does not know", m.Kind, out.Key, state)
	default:
		live, err := p.first(m.Live, in)
		if err != nil {
			return out, err
		}
		if live != nil {
			if out.Live, err = m.fields(p, models, t, about, live); err != nil {
				return out, fmt.Errorf("%s/%s: %w", m.Kind, out.Key, err)
			}
		}
	}
	if out.Path, err = p.text(m.Path, in); err != nil {
		return out, err
	}
	at, err := p.text(m.PublishedAt, in)
	if err != nil {
		return out, err
	}
	if parsed, err := time.Parse(time.RFC3339, at); err == nil {
		parsed = parsed.UTC().Truncate(time.Microsecond)
		out.PublishedAt = &parsed
	}
	return out, nil
}

// fields brings an item's values over: those of the item itself count for the
// default locale, those of its translations for theirs.
func (m *Mapping) fields(p paths, models *model.Model, t *model.Type, about around, in any) (content.Fields, error) {
	out := content.Fields{}
	translations, err := p.first(m.Translations, in)
	if err != nil {
		return nil, err
	}
	byLocale, _ := translations.(map[string]any)
	for name, from := range m.Fields {
		f := t.Field(name)
		v, err := from.value(p, f, about, in)
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
			if v, err := from.value(p, f, about, other); err != nil {
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

// paths lists all JSONPath expressions of the field.
func (from FieldFrom) paths() []string {
	out := []string{from.Path, from.Alt, from.Kind}
	for _, fields := range from.Kinds {
		for _, f := range fields {
			out = append(out, f.paths()...)
		}
	}
	return out
}

// block brings one block over.
func (from FieldFrom) block(p paths, f *model.Field, about around, in any) (any, error) {
	kind, err := p.text(from.Kind, in)
	if err != nil {
		return nil, err
	}
	t := f.InnerType(kind)
	if t == nil || from.Kinds[kind] == nil {
		return nil, fmt.Errorf("a block is of the kind %q, which the mapping does not know", kind)
	}
	out := map[string]any{model.BlockName: kind}
	for name, inner := range from.Kinds[kind] {
		v, err := inner.value(p, t.Field(name), about, in)
		if err != nil {
			return nil, fmt.Errorf("%s.%s: %w", kind, name, err)
		}
		if v != nil {
			out[name] = v
		}
	}
	return out, nil
}

// note notes what a text loses, once.
func (l *lost) note(field string, what []string) {
	if l == nil || len(what) == 0 {
		return
	}
	if one := field + ": " + strings.Join(what, ", "); !slices.Contains(*l, one) && len(*l) < mostLost {
		*l = append(*l, one)
	}
}

// lost is what is told of what texts of one item lose.
type lost []string

// mostLost bounds it.
const mostLost = 20

func (from FieldFrom) value(p paths, f *model.Field, about around, in any) (any, error) {
	found, err := p.all(from.Path, in)
	if err != nil {
		return nil, err
	}
	if len(found) == 1 {
		if inner, ok := found[0].([]any); ok {
			found = inner
		}
	}
	var values []any
	for _, v := range found {
		if v == nil || v == "" {
			continue
		}
		switch from.Form {
		case "ref":
			to := from.Type
			if to == "" {
				to = f.Types[0]
			}
			of := about.origin
			if from.Origin != "" {
				of = from.Origin
			}
			v = content.MakeID(of, to, fmt.Sprint(v))
		case "each":
			if v, err = from.block(p, f, about, v); err != nil {
				return nil, err
			}
		case "html":
			text, lost, err := prose.FromHTML(fmt.Sprint(v), about.base)
			if err != nil {
				return nil, err
			}
			about.lost.note(f.Name, lost)
			if v = text; f.Kind != model.Prose {
				v = prose.Render(text, nil).Forms(func(string) prose.Target { return prose.Target{} })["plain"]
			}
		case "markdown":
			if text, is := v.(string); is {
				about.lost.note(f.Name, prose.Lost(text, f.Marks))
			}
		case "file":
			member := content.MirrorMark
			if from.Direct {
				member = "url"
			}
			file := map[string]any{member: v}
			alt, err := p.first(from.Alt, in)
			if err != nil {
				return nil, err
			}
			if alt != nil {
				file["alt"] = alt
			}
			v = file
		}
		values = append(values, v)
	}
	switch {
	case f.IsList():
		if values == nil {
			return nil, nil
		}
		return values, nil
	case len(values) == 0:
		return nil, nil
	}
	return values[0], nil
}
