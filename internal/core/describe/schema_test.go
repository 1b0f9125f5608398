package describe_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/describe"
	"ubiquon/internal/core/model"
	"ubiquon/internal/testkit"
)

const harbour = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  pier:
    plural: piers
    label: Pier
    help: Where boats land
    title: name
    fields:
      name:     {kind: text, required: true, translated: true, label: Name, help: As on the signs}
      slug:     {kind: slug, madeFrom: name}
      depth:    {kind: decimal}
      stepFree: {kind: boolean}
      place:    {kind: location}
      picture:  {kind: file}
      berths:   {kind: integer, deprecated: use boards, deprecatedSince: "2026-11-01"}
      more:     {kind: json}
      office:
        kind: record
        fields: {town: {kind: text}, opens: {kind: datetime}}
      boards:
        kind: blocks
        blocks:
          heading: {fields: {text: {kind: text}}}
          callout: {label: Box, fields: {tone: {kind: choice, options: {calm: Calm}}, text: {kind: prose}}}
  notice:
    plural: notices
    deprecated: write reports
    deprecatedSince: "2026-11-01"
    fields:
      slug:     {kind: slug}
      severity: {kind: choice, options: {delay: Delay, cancelled: Cancelled}}
      piers:    {kind: reference, types: [pier], several: true}
      price:    {kind: money}
      day:      {kind: date}
  settings:
    singleton: true
    fields: {claim: {kind: text}}
`

// plain is what somebody gets who reads the JSON.
func plain(t *testing.T, v any) map[string]any {
	t.Helper()
	src, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	var out map[string]any
	if err := json.Unmarshal(src, &out); err != nil {
		t.Fatal(err)
	}
	return out
}

// at follows a path of names.
func at(v any, path ...string) any {
	for _, name := range path {
		in, _ := v.(map[string]any)
		v = in[name]
	}
	return v
}

// refs lists all references within a document.
func refs(v any) (out []string) {
	switch v := v.(type) {
	case map[string]any:
		for name, in := range v {
			if to, is := in.(string); is && name == "$ref" {
				out = append(out, to)
			}
			out = append(out, refs(in)...)
		}
	case []any:
		for _, in := range v {
			out = append(out, refs(in)...)
		}
	}
	return out
}

func resolve(document map[string]any, ref string) any {
	return at(document, strings.Split(strings.TrimPrefix(ref, "#/"), "/")...)
}

func asText(v any) string {
	src, _ := json.Marshal(v) // came out of JSON
	return string(src)
}

func TestSchemaOfEveryKind(t *testing.T) {
	schema := plain(t, describe.Schema(testkit.Model(t, harbour), "http://127.0.0.1:8400/schema"))
	for _, ref := range refs(schema) {
		if resolve(schema, ref) == nil {
			t.Errorf("%s leads nowhere", ref)
		}
	}
	for field, want := range map[string]string{
		"name":     `{"description":"Name As on the signs","type":["string","null"],"x-filter":true,"x-sort":true,"x-translated":true}`,
		"depth":    `{"type":["number","null"],"x-filter":true,"x-sort":true}`,
		"stepFree": `{"type":["boolean","null"],"x-filter":true,"x-sort":true}`,
		"place":    `{"anyOf":[{"$ref":"#/$defs/part.location"},{"type":"null"}],"x-filter":false,"x-sort":false}`,
		"picture":  `{"anyOf":[{"$ref":"#/$defs/part.file"},{"type":"null"}],"x-filter":false,"x-sort":false}`,
		"berths":   `{"deprecated":true,"type":["integer","null"],"x-filter":true,"x-sort":true}`,
	} {
		if got := asText(at(schema, "$defs", "pier", "properties", field)); got != want {
			t.Errorf("%s\n%s, want\n%s", field, got, want)
		}
	}
	for path, want := range map[string]string{
		"pier/title": `"Pier"`, "pier/description": `"Where boats land"`, "pier/required": `["id"]`,
		"notice/deprecated": `true`, "settings/properties/claim/type": `["string","null"]`,
		"pier/properties/about":                          `{"$ref":"#/$defs/part.about"}`,
		"pier/properties/office/properties/opens/format": `"date-time"`,
		"notice/properties/piers/items":                  `{"$ref":"#/$defs/part.linked"}`,
		"notice/properties/piers/type":                   `"array"`,
		"notice/properties/day/format":                   `"date"`,
	} {
		if got := asText(at(schema["$defs"], strings.Split(path, "/")...)); got != want {
			t.Errorf("%s is %s, want %s", path, got, want)
		}
	}
	if got := asText(at(schema, "$defs", "notice", "properties", "severity")); !strings.Contains(
		got, `{"const":"delay","title":"Delay"}`,
	) ||
		!strings.Contains(got, `{"type":"null"}`) {
		t.Errorf("a choice is %s", got)
	}
	blocks := asText(at(schema, "$defs", "pier", "properties", "boards", "items"))
	for _, part := range []string{
		`"const":"heading"`, `"title":"Box"`, `"const":"calm"`,
		`"$ref":"#/$defs/part.prose"`, `"required":["` + model.BlockName + `"]`,
	} {
		if !strings.Contains(blocks, part) {
			t.Errorf("blocks have no %s: %s", part, blocks)
		}
	}
}

func TestOpenAPIOfAModel(t *testing.T) {
	m := testkit.Model(t, harbour)
	api := plain(t, describe.OpenAPI(m, "http://127.0.0.1:8400/content/main/preview", "preview"))
	if api["openapi"] != "3.1.0" ||
		asText(at(api, "servers")) != `[{"url":"http://127.0.0.1:8400/content/main/preview"}]` ||
		at(api, "info", "title") != "Content, preview" {
		t.Errorf("it is %v, %v", api["openapi"], api["info"])
	}
	for _, ref := range refs(api) {
		if resolve(api, ref) == nil {
			t.Errorf("%s leads nowhere", ref)
		}
	}
	var paths, operations []string
	for path, item := range api["paths"].(map[string]any) {
		paths = append(paths, path)
		if path == "/graphql" || path == "/changes" || strings.HasPrefix(path, "/submissions/") {
			continue // these are no reads over REST
		}
		operations = append(operations, at(item, "get", "operationId").(string))
		for _, status := range []string{"200", "304", "400", "401", "403", "404", "429", "503", "504"} {
			if at(item, "get", "responses", status, "description") == nil {
				t.Errorf("%s says nothing of %s", path, status)
			}
		}
		named := map[string]bool{}
		for _, p := range at(item, "get", "parameters").([]any) {
			name, in := at(p, "name").(string), at(p, "in").(string)
			if named[in+name] ||
				in == "path" && (at(p, "required") != true || !strings.Contains(path, "{"+name+"}")) {
				t.Errorf("%s: the parameter %s", path, name)
			}
			named[in+name] = true
		}
	}
	slices.Sort(paths)
	if got := strings.Join(paths, " "); got != "/at /changes /entries/{id} /files /graphql /notices /notices/{slug} "+
		"/paths /piers /piers/{slug} /settings" {
		t.Errorf("paths: %s", got)
	}
	slices.Sort(operations)
	if len(slices.Compact(operations)) != len(paths)-2 {
		t.Errorf("two operations have the same name: %v", operations)
	}
	list := asText(at(api, "paths", "/notices", "get", "parameters"))
	for _, name := range []string{
		"fields", "locale", "filter", "sort", "limit", "offset", "after", "before",
		"count", "translated",
	} {
		if !strings.Contains(list, `"name":"`+name+`"`) {
			t.Errorf("a list has no parameter %s", name)
		}
	}
	for _, says := range []string{
		"published, firstPublished, updated, slug, severity", `"maximum":200`,
		`"enum":["en","nb"]`,
	} {
		if !strings.Contains(list, says) {
			t.Errorf("a list's parameters do not say %s: %s", says, list)
		}
	}
	if at(api, "paths", "/at", "get", "responses", "301") == nil ||
		at(api, "paths", "/piers", "get", "responses", "301") != nil {
		t.Error("only what lives at a path moves")
	}
}
