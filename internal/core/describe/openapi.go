package describe

import (
	"cmp"
	"strings"

	"ubiquon/internal/core/model"
)

// OpenAPI returns an OpenAPI 3.1 description of an edition's base address.
func OpenAPI(m *model.Model, base, edition string) map[string]any {
	paths := object{}
	locale := object{
		"name":        "locale",
		"in":          "query",
		"description": "A locale's tag; else Accept-Language, else the default",
		"schema":      object{"type": "string", "enum": m.Tags()},
	}
	parameter := func(name, says string, schema object, example any) object {
		p := object{"name": name, "in": "query", "description": says, "schema": schema}
		if example != nil {
			p["example"] = example
		}
		return p
	}
	get := func(id, summary string, parameters []any, body object) object {
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
					"says when again"), "504": problem("It is not held, and Cache-Control: only-if-cached was sent"), "503": problem("This node does not know enough at the moment to answer honestly"),
			}},
		}
	}
	for _, t := range m.Types {
		one := object{"$ref": "#/components/schemas/" + t.Name}
		title := cmp.Or(t.Title, "id")
		selection := parameter("fields", "What comes back, as in title,routes(name)", text(), "id,"+title)
		if title == "id" {
			selection = parameter("fields", "What comes back", text(), "id")
		}
		if t.Singleton {
			paths["/"+t.Name] = get("get-"+t.Name, t.Label, []any{selection, locale}, one)
			continue
		}
		paths["/"+t.Plural] = get("list-"+t.Name, "A list: "+t.Label, []any{
			selection, locale,
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
		}, object{"type": "object", "required": []string{"items", "window"},
			"properties": object{"items": object{"type": "array", "items": one},
				"window": object{"$ref": "#/components/schemas/part.window"}}})
		if t.SlugField() != nil {
			bySlug := object{"name": "slug", "in": "path", "required": true, "schema": text()}
			paths["/"+t.Plural+"/{slug}"] = get(
				"get-"+t.Name, t.Label+", by its slug", []any{bySlug, selection, locale}, one,
			)
		}
	}
	byID := object{"name": "id", "in": "path", "required": true, "schema": text()}
	paths["/entries/{id}"] = get(
		"get-entry", "An entry of any type, by its id",
		[]any{byID, parameter("fields", "What comes back", text(), "id,about(type)"), locale}, anyEntry(m),
	)
	at := get(
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
	paths["/paths"] = get(
		"list-paths",
		"Where everything lives, for builders",
		[]any{
			parameter("type", "One type only", text(), nil),
			locale,
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
	describeRest(m, paths, base, edition)
	schemas := definitions(m, "#/components/schemas/")
	// With fields there is only what was asked for.
	delete(schemas["part.file"].(object), "required")
	delete(schemas["part.money"].(object), "required")
	delete(schemas["part.location"].(object), "required")
	for name, one := range schemas {
		schemas[name] = withLabels(one)
	}
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
			return object{"anyOf": []any{v, object{"type": "string", "description": "Its label, for name(label)"},
				object{"type": "object", "description": "For name(value,label)",
					"properties": object{"value": object{"oneOf": options}, "label": text()},
					"required":   []string{"value", "label"}}}}
		}
	}
	return v
}

// describeRest describes what is no read over REST: GraphQL, the changes, and what may be
// handed in.
func describeRest(m *model.Model, paths object, base, edition string) {
	answers := func(says, mediaType string, body object) object {
		return object{
			"200": object{"description": says, "content": object{mediaType: object{"schema": body}}},
			"400": problem("The request is wrong"),
			"401": problem("No key, or one that is not good"),
			"403": problem("A grant is missing; it is named"),
			"429": problem("Too often; Retry-After says when again"),
		}
	}
	result := object{
		"type": "object",
		"properties": object{
			"data": object{"type": []string{"object", "null"}},
			"errors": object{
				"type": "array",
				"items": object{
					"type":       "object",
					"properties": object{"message": text()},
					"required":   []string{"message"},
				},
			},
		},
	}
	request := object{
		"type": "object",
		"properties": object{
			"query":         text(),
			"operationName": text(),
			"variables":     object{"type": "object"},
			"documentId":    text(),
			"extensions":    object{"type": "object"},
		},
	}
	paths["/graphql"] = object{
		"post": object{
			"operationId": "graphql",
			"summary":     "GraphQL over HTTP; the schema is at /graphql/schema.graphql",
			"requestBody": object{"required": true, "content": object{"application/json": object{"schema": request}}},
			"responses":   answers("Data, or errors", "application/json", result),
		},
	}
	change := object{
		"type": "object",
		"properties": object{
			"sequence": object{"type": "integer"},
			"what":     text(),
			"entry":    text(),
			"type":     text(),
			"locales":  object{"type": "array", "items": text()},
			"slugs":    object{"type": "object", "additionalProperties": text()},
			"paths":    object{"type": "object", "additionalProperties": text()},
			"at":       moment(),
		},
		"required": []string{"sequence"},
	}
	changes := answers(
		"Changes after a sequence, oldest first; with Accept: text/event-stream a stream of them",
		"application/json",
		object{
			"type": "object",
			"properties": object{
				"items": object{"type": "array", "items": change},
				"next":  object{"type": "integer"},
			},
			"required": []string{"items", "next"},
		},
	)
	changes["410"] = problem("They are not in the log any more; the hint says where to begin again")
	paths["/changes"] = object{
		"get": object{
			"operationId": "list-changes",
			"summary":     "What changed, for indexes that are kept elsewhere",
			"parameters": []any{
				object{
					"name":        "after",
					"in":          "query",
					"required":    true,
					"description": "A sequence: the changes behind it (without it, a stream of server-sent events)",
					"example":     0,
					"schema":      object{"type": "integer", "minimum": 0},
				},
			},
			"responses": changes,
		},
	}
	for _, t := range m.Types {
		if t.Submissions == nil {
			continue
		}
		properties := object{}
		for _, name := range t.Submissions.Fields {
			properties[name] = object{}
		}
		paths["/submissions/"+t.Plural] = object{
			"servers": []any{object{"url": strings.TrimSuffix(base, "/"+edition)}},
			"post": object{
				"operationId": "submit-" + t.Name,
				"summary":     "Hand in a draft: " + t.Label,
				"requestBody": object{
					"required": true,
					"content": object{
						"application/json": object{"schema": object{"type": "object", "properties": properties}},
					},
				},
				"responses": object{
					"202": object{
						"description": "It is taken, and waits for somebody to look at it",
						"content": object{
							"application/json": object{
								"schema": object{
									"type":       "object",
									"properties": object{"accepted": object{"type": "boolean"}},
								},
							},
						},
					},
					"401": problem(
						"It is not open to everyone, and no key was sent",
					),
					"413": problem("Too large"),
					"415": problem("Not JSON and no form"),
					"422": problem("What is wrong with it, all at once"),
					"429": problem("Too often from this address"),
				},
			},
		}
	}
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
