package describe

import (
	"cmp"
	"maps"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
)

// object is a JSON object.
type object = map[string]any

// Schema returns a JSON Schema (2020-12) whose $defs describe the entries of every
// type as they are delivered without fields: the names of the definitions are
// those of the types. What may be filtered and sorted by is said in the
// annotations x-filter and x-sort.
func Schema(m *model.Model, id string) map[string]any {
	return object{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"$id":     id,
		"title":   "Entries as they are delivered",
		"$defs":   definitions(m, "#/$defs/"),
	}
}

// shapes describes the form of entries in each shape.
func shapes(m *model.Model) object {
	out := object{}
	for _, s := range m.Shapes {
		f, err := shape.FormOf(m, s.Name, false)
		if err != nil {
			continue // a model whose shapes do not compile is never in force
		}
		one := f.JSONSchema()
		one["title"] = cmp.Or(s.Help, "The shape "+s.Name+", of "+strings.Join(s.Of, ", "))
		out["shape."+s.Name] = one
	}
	return out
}

// definitions describes every type; refs begins the references between them.
func definitions(m *model.Model, refs string) object {
	defs := object{
		"part.about": object{"type": "object", "description": "What is said about an entry", "properties": object{
			"type": text(), "locale": text(),
			"filledIn": object{
				"type": "array", "items": text(),
				"description": "Fields whose value comes from a fallback locale",
			},
			"revision": object{"type": "integer"},
			"firstPublished": orNull(
				moment(),
			), "published": orNull(moment()), "updated": moment(), "path": orNull(text()),
			"locales": object{
				"type":  "array",
				"items": text(),
			}, "hidden": object{"type": "array", "items": text(), "description": "What was left out because the " +
				"reader may not enter it"},
		}},
		"part.linked": object{
			"type":        "object",
			"description": "A linked entry: fields=… fills it in",
			"properties": object{
				"id":    text(),
				"about": object{"type": "object", "properties": object{"type": text()}},
				"slug":  text(),
			},
			"required": []string{"id"},
		},
		"part.file": object{
			"type": "object",
			"properties": object{
				"url":       object{"type": "string", "format": "uri"},
				"alt":       orNull(text()),
				"width":     orNull(object{"type": "integer"}),
				"height":    orNull(object{"type": "integer"}),
				"mediaType": orNull(text()),
				"bytes":     orNull(object{"type": "integer"}),
			},
			"required": []string{"url"},
		},
		"part.money": object{
			"type": "object",
			"properties": object{
				"amount":   object{"type": "integer", "description": "Minor units"},
				"currency": object{"type": "string", "pattern": "^[A-Z]{3}$"},
			},
			"required": []string{"amount", "currency"},
		},
		"part.location": object{
			"type":        "object",
			"description": "A GeoJSON Point (RFC 7946)",
			"properties": object{
				"type": object{"const": "Point"},
				"coordinates": object{
					"type":     "array",
					"items":    object{"type": "number"},
					"minItems": 2,
					"maxItems": 2,
				},
			},
			"required": []string{"type", "coordinates"},
		},
		"part.prose": object{
			"type": "object",
			"properties": object{
				"html":       text(),
				"inline":     text(),
				"tree":       object{"type": "object"},
				"commonmark": text(),
				"plain":      text(),
			},
		},
	}
	for _, t := range m.Types {
		defs[t.Name] = entry(t, refs)
	}
	maps.Copy(defs, shapes(m))
	return defs
}

func text() object   { return object{"type": "string"} }
func moment() object { return object{"type": "string", "format": "date-time"} }

// orNull allows null beside what a schema allows.
func orNull(s object) object {
	if kind, ok := s["type"].(string); ok && s["enum"] == nil && s["oneOf"] == nil {
		out := object{}
		for name, v := range s {
			out[name] = v
		}
		out["type"] = []string{kind, "null"}
		return out
	}
	return object{"anyOf": []any{s, object{"type": "null"}}}
}

func entry(t *model.Type, refs string) object {
	properties := fields(t, refs)
	properties["id"] = text()
	properties["about"] = object{"$ref": refs + "part.about"}
	out := object{"type": "object", "title": t.Label, "properties": properties, "required": []string{"id"}}
	if t.Help != "" {
		out["description"] = t.Help
	}
	if t.Deprecated != "" {
		out["deprecated"] = true
	}
	return out
}

func fields(t *model.Type, refs string) object {
	out := object{}
	for _, f := range t.Fields {
		s := value(f, refs)
		if f.IsList() {
			s = object{"type": "array", "items": s}
		} else if !f.NeverNull() {
			s = orNull(s)
		}
		if says := strings.TrimSpace(f.Label + " " + f.Help); says != "" {
			s["description"] = says
		}
		if f.Deprecated != "" {
			s["deprecated"] = true
		}
		if f.Translated {
			s["x-translated"] = true
		}
		s["x-filter"], s["x-sort"] = f.Filterable(), f.Sortable()
		out[f.Name] = s
	}
	return out
}

func value(f *model.Field, refs string) object {
	ref := func(name string) object { return object{"$ref": refs + name} }
	switch f.Kind {
	case model.Prose:
		return ref("part.prose")
	case model.Integer:
		return object{"type": "integer"}
	case model.Decimal:
		return object{"type": "number"}
	case model.Boolean:
		return object{"type": "boolean"}
	case model.Money:
		return ref("part.money")
	case model.Date:
		return object{"type": "string", "format": "date"}
	case model.DateTime:
		return moment()
	case model.Reference:
		return ref("part.linked")
	case model.File:
		return ref("part.file")
	case model.Location:
		return ref("part.location")
	case model.JSON:
		return object{"description": "Anything that the field's own schema allows"}
	case model.Choice:
		var options []any
		for _, o := range f.Options {
			options = append(options, object{"const": o.Value, "title": o.Label})
		}
		return object{"oneOf": options}
	case model.Record:
		return object{"type": "object", "properties": fields(f.Inner[0], refs)}
	case model.Blocks:
		var kinds []any
		for _, t := range f.Inner {
			properties := fields(t, refs)
			properties[model.BlockName] = object{"const": t.Name}
			kinds = append(
				kinds,
				object{
					"type":       "object",
					"title":      cmp.Or(t.Label, t.Name),
					"properties": properties,
					"required":   []string{model.BlockName},
				},
			)
		}
		return object{"anyOf": kinds}
	}
	return text()
}

func sortable(t *model.Type) []string {
	out := []string{"published", "firstPublished", "updated"}
	for _, f := range t.Fields {
		if f.Sortable() {
			out = append(out, f.Name)
		}
	}
	return out
}
