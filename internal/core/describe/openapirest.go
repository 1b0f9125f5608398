package describe

import (
	"strings"

	"ubiquon/internal/core/model"
)

// describeRest describes what is no read over REST: GraphQL, the changes, and what may be
// handed in.
func describeRest(m *model.Model, paths object, base, edition string) {
	describeGraphQL(paths)
	describeChanges(paths)
	describeSubmissions(m, paths, strings.TrimSuffix(base, "/"+edition))
}

// answers are the responses to a request that is none of the reads.
func answers(says, mediaType string, body object) object {
	return object{
		"200": object{"description": says, "content": object{mediaType: object{"schema": body}}},
		"400": problem("The request is wrong"),
		"401": problem("No key, or one that is not good"),
		"403": problem("A grant is missing; it is named"),
		"429": problem("Too often; Retry-After says when again"),
	}
}

func describeGraphQL(paths object) {
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
}

func describeChanges(paths object) {
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
}

// describeSubmissions describes what may be handed in, at the environment's address.
func describeSubmissions(m *model.Model, paths object, environment string) {
	for _, t := range m.Types {
		if t.Submissions == nil {
			continue
		}
		properties := object{}
		for _, name := range t.Submissions.Fields {
			properties[name] = object{}
		}
		paths["/submissions/"+t.Plural] = object{
			"servers": []any{object{"url": environment}},
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
