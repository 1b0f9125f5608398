package describe

import (
	"cmp"
	"slices"
	"strings"

	"ubiquon/internal/core/model"
)

// OpenAPI returns an OpenAPI 3.1 description of an edition's base address.
func OpenAPI(m *model.Model, base, edition string) map[string]any {
	paths := object{}
	locale := localeParameter(m)
	for _, t := range m.Types {
		describeType(m, t, paths, locale)
	}
	describeEntries(m, paths, locale)
	describeRest(m, paths, base, edition)
	schemas := definitions(m, "#/components/schemas/")
	// With fields there is only what was asked for.
	delete(schemas["part.file"].(object), "required")
	delete(schemas["part.money"].(object), "required")
	delete(schemas["part.location"].(object), "required")
	for name, one := range schemas {
		schemas[name] = withLabels(one)
	}
	describeParts(schemas)
	return object{
		"openapi":           "3.1.0",
		"jsonSchemaDialect": "https://json-schema.org/draft/2020-12/schema",
		"info": object{
			"title":       "Content, " + edition,
			"version":     "1",
			"description": "What can be read of this edition, over REST. The same over GraphQL is at graphql.",
			"license":     object{"name": "The content is its owner's", "identifier": "LicenseRef-owner"},
		},
		"servers":  []any{object{"url": base}},
		"security": []any{object{"key": []string{}}, object{}},
		"paths":    paths,
		"components": object{
			"schemas": schemas,
			"securitySchemes": object{
				"key": object{
					"type":        "http",
					"scheme":      "bearer",
					"description": "A key; none for what is open to everyone",
				},
			},
		},
	}
}

// localeParameter is the parameter locale.
func localeParameter(m *model.Model) object {
	return object{
		"name":        "locale",
		"in":          "query",
		"description": "A locale's tag; else Accept-Language, else the default",
		"schema":      object{"type": "string", "enum": m.Tags()},
	}
}

// parameter is one of the query string. example may be nil.
func parameter(name, says string, schema object, example any) object {
	p := object{"name": name, "in": "query", "description": says, "schema": schema}
	if example != nil {
		p["example"] = example
	}
	return p
}

// getOperation is a read of what body describes.
func getOperation(id, summary string, parameters []any, body object) object {
	return object{
		"get": object{"operationId": id, "summary": summary, "parameters": parameters, "responses": object{
			"200": object{
				"description": "What was asked for",
				"content":     object{"application/json": object{"schema": body}},
			},
			"304": object{"description": "It is still the same (If-None-Match)"},
			"400": problem(
				"A parameter is unknown or wrong; the nearest right one is named",
			), "401": problem("No key, or one that is not good"),
			"403": problem(
				"A grant is missing; it is named",
			), "404": problem("Nothing is there"), "413": problem("The answer would be too " +
				"large"), "414": problem("The address is too long"), "429": problem("Too often; Retry-After " +
				"says when again"), "504": problem("It is not held, and Cache-Control: only-if-cached was sent"),
			"503": problem("This node does not know enough at the moment to answer honestly"),
		}},
	}
}

// describeType describes the lists and the entries of a type.
func describeType(m *model.Model, t *model.Type, paths object, locale object) {
	one := object{"$ref": "#/components/schemas/" + t.Name}
	title := cmp.Or(t.Title, "id")
	selection := parameter("fields", "What comes back, as in title,routes(name)", text(), "id,"+title)
	if title == "id" {
		selection = parameter("fields", "What comes back", text(), "id")
	}
	choices := []any{selection}
	if names := shapesOf(m, t.Name); names != nil {
		choices = append(choices, parameter("shape", "The form in which it comes back, instead of fields",
			object{"type": "string", "enum": names}, nil))
		forms := []any{one}
		for _, name := range names {
			forms = append(forms, object{"$ref": "#/components/schemas/shape." + name})
		}
		one = object{"anyOf": forms}
	}
	if t.Singleton {
		paths["/"+t.Name] = getOperation("get-"+t.Name, t.Label, append(choices, locale), one)
		return
	}
	paths["/"+t.Plural] = getOperation("list-"+t.Name, "A list: "+t.Label, append(slices.Clone(choices), []any{
		locale,
		parameter("filter", "CQL2 text (OGC 21-065r2)", text(), "published IS NOT NULL"),
		parameter(
			"sort", "Names parted by commas, a minus before one for descending: "+strings.Join(sortable(t), ", "),
			text(), "-published",
		),
		parameter(
			"limit", "How many at most", object{"type": "integer", "minimum": 0, "maximum": 200, "default": 20},
			5,
		),
		parameter(
			"offset", "How many are skipped", object{"type": "integer", "minimum": 0, "maximum": 10000}, nil,
		),
		parameter(
			"after", "A cursor from window.next", text(), nil,
		), parameter("before", "A cursor from window.prev", text(), nil),
		parameter("count", "Whether window.total is wanted", object{"type": "boolean"}, nil),
		parameter(
			"translated", "only leaves out what is filled in from a fallback",
			object{"type": "string", "enum": []string{"fallback", "only"}}, nil,
		),
	}...), object{
		"type": "object", "required": []string{"items", "window"},
		"properties": object{
			"items":  object{"type": "array", "items": one},
			"window": object{"$ref": "#/components/schemas/part.window"},
		},
	})
	if t.SlugField() != nil {
		bySlug := object{"name": "slug", "in": "path", "required": true, "schema": text()}
		paths["/"+t.Plural+"/{slug}"] = getOperation(
			"get-"+t.Name, t.Label+", by its slug", append(append([]any{bySlug}, choices...), locale), one,
		)
	}
}

// describeEntries describes what is read whatever its type is.
func describeEntries(m *model.Model, paths object, locale object) {
	byID := object{"name": "id", "in": "path", "required": true, "schema": text()}
	paths["/entries/{id}"] = getOperation(
		"get-entry", "An entry of any type, by its id",
		[]any{byID, parameter("fields", "What comes back", text(), "id,about(type)"), locale}, anyEntry(m),
	)
	at := getOperation(
		"get-at",
		"The entry that lives at a path of the site",
		[]any{
			object{"name": "path", "in": "query", "required": true, "schema": text()},
			parameter("fields", "What comes back", text(), nil), locale,
		},
		anyEntry(m),
	)
	at["get"].(object)["responses"].(object)["301"] = object{
		"description": "It lives elsewhere by now: Location leads there",
	}
	paths["/at"] = at
	paths["/paths"] = getOperation(
		"list-paths",
		"Where everything lives, for builders",
		[]any{
			parameter("type", "One type only", text(), nil),
			locale,
			parameter("fields", "What of each is told, of entry, type, locale, path and updated", text(), nil),
			parameter(
				"limit", "How many at most",
				object{"type": "integer", "minimum": 1, "maximum": 10000, "default": 1000}, 100,
			),
			parameter("after", "A cursor from window.next", text(), nil),
		},
		object{
			"type": "object",
			"properties": object{
				"items": object{
					"type": "array",
					"items": object{
						"type": "object",
						"properties": object{
							"entry":   text(),
							"type":    text(),
							"locale":  text(),
							"path":    text(),
							"updated": moment(),
						},
					},
				},
				"window": object{"$ref": "#/components/schemas/part.window"},
			},
		},
	)
}

// describeParts describes what several answers have.
func describeParts(schemas object) {
	schemas["part.window"] = object{
		"type": "object",
		"properties": object{
			"limit": object{"type": "integer"},
			"next":  orNull(text()),
			"prev":  orNull(text()),
			"total": object{"type": "integer"},
		},
		"required": []string{"limit"},
	}
	schemas["part.problem"] = object{
		"type":        "object",
		"description": "RFC 9457",
		"properties": object{
			"type":      text(),
			"title":     text(),
			"status":    object{"type": "integer"},
			"detail":    text(),
			"parameter": text(),
			"hint":      text(),
			"grant":     text(),
		},
		"required": []string{"type", "title", "status", "detail"},
	}
}

// withLabels allows, for the values of choices, what fields asks of them: the label alone,
// or value and label.
func withLabels(v any) any {
	switch v := v.(type) {
	case []any:
		for i := range v {
			v[i] = withLabels(v[i])
		}
	case object:
		for name, inner := range v {
			v[name] = withLabels(inner)
		}
		options, is := v["oneOf"].([]any)
		if is && len(options) > 0 && options[0].(object)["const"] != nil {
			return object{"anyOf": []any{
				v,
				object{"type": "string", "description": "Its label, for name(label)"},
				object{
					"type": "object", "description": "For name(value,label)",
					"properties": object{"value": object{"oneOf": options}, "label": text()},
					"required":   []string{"value", "label"},
				},
			}}
		}
	}
	return v
}

func problem(says string) object {
	return object{
		"description": says,
		"content": object{
			"application/problem+json": object{"schema": object{"$ref": "#/components/schemas/part.problem"}},
		},
	}
}

func anyEntry(m *model.Model) object {
	var all []any
	for _, t := range m.Types {
		all = append(all, object{"$ref": "#/components/schemas/" + t.Name})
	}
	return object{"anyOf": all}
}

// shapesOf lists the shapes that entries of a type can be had in.
func shapesOf(m *model.Model, typ string) (out []string) {
	for _, s := range m.Shapes {
		if slices.Contains(s.Of, typ) {
			out = append(out, s.Name)
		}
	}
	return out
}
