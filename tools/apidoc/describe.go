package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/server/controlapi"
	"ubiquon/internal/server/operation"
)

const introduction = `What those who run the service and edit content ask of it: the console and the command line
use nothing else. A request is made with a key (Authorization: Bearer ubq_…), a token of the configured
issuer, or the cookie of a signed-in account. x-principals says which of them an operation takes, x-grant
what it needs. Errors are problem documents (RFC 9457); their types are pages of the service. A write may be
sent again with the same Idempotency-Key; one that takes long is answered with 202 and a Location at which
its outcome will be. An operation that answers with NDJSON sends its progress line by line; an error after
the first line is the last line, {"problem": …}.`

// describe returns the OpenAPI document.
func describe(docs comments) ([]byte, error) {
	r := openapi31.NewReflector()
	d := &describer{Reflector: r, docs: docs}
	r.DefaultOptions = append(r.DefaultOptions,
		jsonschema.InterceptDefName(d.name), jsonschema.InterceptProp(d.property), jsonschema.InterceptSchema(d.schema),
		jsonschema.InterceptNullability(nullability))
	r.AddTypeMapping(strictyaml.Duration(0), "")
	r.AddTypeMapping(time.Duration(0), int64(0))
	r.Spec.Info.WithTitle("Ubiquon control endpoints").WithVersion("1").
		WithDescription(strings.Join(strings.Fields(introduction), " "))
	r.Spec.WithServers(openapi31.Server{URL: "/control/v1"})
	for _, op := range controlapi.Operations() {
		if err := d.operation(op); err != nil {
			return nil, fmt.Errorf("operation %s: %w", op.ID, err)
		}
	}
	src, err := json.Marshal(r.Spec)
	if err != nil {
		return nil, err
	}
	var out map[string]any
	if err := json.Unmarshal(src, &out); err != nil {
		return nil, err
	}
	if err := d.finish(out); err != nil {
		return nil, err
	}
	src, err = json.MarshalIndent(out, "", " ")
	return append(src, '\n'), err
}

type describer struct {
	*openapi31.Reflector
	docs comments
}

// name is what a type is called in the document: without its package, unless another one has a
// type of that name, and with what it lists, if it lists something.
func (d *describer) name(t reflect.Type, _ string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	name, args, generic := strings.Cut(t.Name(), "[")
	if generic {
		args = strings.TrimSuffix(args, "]")
		return strings.TrimPrefix(args[strings.LastIndex(args, ".")+1:], "*") + name
	}
	if name, ok := names[t]; ok {
		return name
	}
	switch {
	case strings.HasSuffix(t.PkgPath(), "/why"), strings.HasSuffix(t.PkgPath(), "/invalidation"):
		pkg := t.PkgPath()[strings.LastIndex(t.PkgPath(), "/")+1:]
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

// names are those of types whose own says too little outside its package.
var names = map[reflect.Type]string{
	reflect.TypeFor[model.Type]():          "ModelType",
	reflect.TypeFor[model.Freshness]():     "TypeFreshness",
	reflect.TypeFor[content.Cause]():       "ChangeCause",
	reflect.TypeFor[content.Problem]():     "ContentProblem",
	reflect.TypeFor[content.Problems]():    "ContentProblems",
	reflect.TypeFor[rebuild.Cause]():       "BuildCause",
	reflect.TypeFor[rebuild.Call]():        "BuildCall",
	reflect.TypeFor[rebuild.Step]():        "BuildStep",
	reflect.TypeFor[event.Decoded]():       "DecodedEvent",
	reflect.TypeFor[strictyaml.Mistake]():  "ModelMistake",
	reflect.TypeFor[strictyaml.Mistakes](): "ModelMistakes",
	reflect.TypeFor[query.EffortFigures](): "ReadEffort",
}

// enums are the values of types that have no others.
var enums = map[reflect.Type][]any{
	reflect.TypeFor[content.State](): {
		content.Draft, content.InReview, content.Scheduled, content.IsPublished, content.Revised, content.Retired,
	},
	reflect.TypeFor[rebuild.State](): {
		rebuild.Waiting, rebuild.Running, rebuild.Finished, rebuild.Failed, rebuild.Cancelled, rebuild.Skipped,
	},
	reflect.TypeFor[access.Role]():    {access.RoleReader, access.RoleEditor, access.RoleApprover, access.RoleAdmin},
	reflect.TypeFor[model.Severity](): {model.Safe, model.NeedsDefault, model.BreaksReads, model.Loses},
	reflect.TypeFor[access.Kind](): {
		access.Everyone, access.ByKey, access.BySiteKey, access.ByToken, access.ByAccount, access.ByPreviewLink,
	},
}

// property documents a member, and requires it if it is always there.
func (d *describer) property(p jsonschema.InterceptPropParams) error {
	if !p.Processed || p.PropertySchema == nil {
		return nil
	}
	tag, ok := p.Field.Tag.Lookup("json")
	if !ok || p.ParentSchema == nil || p.ParentSchema.ReflectType == nil || tag == "-" {
		return nil
	}
	if parent := indirect(p.ParentSchema.ReflectType); parent.Kind() == reflect.Struct {
		if doc := d.docs.field(parent, p.Field.Name); doc != "" {
			p.PropertySchema.WithDescription(doc)
		}
	}
	optional := strings.Contains(tag, "omitempty") || strings.Contains(tag, "omitzero")
	nullable := p.Field.Tag.Get("nullable")
	if pointer := p.Field.Type.Kind() == reflect.Pointer && !optional; p.PropertySchema.Ref != nil &&
		(nullable == "true" || pointer && nullable != "false") {
		ref := *p.PropertySchema
		ref.Description = nil
		p.PropertySchema.Ref = nil
		p.PropertySchema.AnyOf = []jsonschema.SchemaOrBool{
			ref.ToSchemaOrBool(), (&jsonschema.Schema{}).WithType(jsonschema.Null.Type()).ToSchemaOrBool(),
		}
	}
	if nullable == "true" && p.PropertySchema.Ref == nil && p.PropertySchema.AnyOf == nil {
		p.PropertySchema.AddType(jsonschema.Null)
	}
	if !optional && !slices.Contains(p.ParentSchema.Required, p.Name) {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	return nil
}

// schema documents a type, and gives those their form that write themselves.
func (d *describer) schema(p jsonschema.InterceptSchemaParams) (stop bool, err error) {
	t := indirect(p.Value.Type())
	if values := enums[t]; p.Processed && values != nil {
		p.Schema.Enum = slices.Clone(values)
	}
	if p.Processed {
		if doc := d.docs.of(t); doc != "" && p.Schema.Description == nil {
			p.Schema.WithDescription(doc)
		}
		return false, nil
	}
	switch t {
	case reflect.TypeFor[json.RawMessage](): // any value
		return true, nil
	case reflect.TypeFor[content.Fields](), reflect.TypeFor[invalidation.Set]():
		p.Schema.WithType(jsonschema.Object.Type()).WithDescription(d.docs.of(t))
		p.Schema.WithAdditionalProperties(*new(jsonschema.SchemaOrBool).WithTypeBoolean(true))
		return true, nil
	}
	return false, nil
}

func indirect(t reflect.Type) reflect.Type {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t
}

// nullability: lists and objects are never null, pointers are, unless they are left out then.
func nullability(p jsonschema.InterceptNullabilityParams) {
	if p.NullAdded && p.Type != nil && (p.Type.Kind() != reflect.Pointer || p.OmitEmpty) {
		p.Schema.RemoveType(jsonschema.Null)
	}
}

// operation adds an operation.
func (d *describer) operation(op *operation.Operation) error {
	c, err := d.NewOperationContext(op.Method, op.Path)
	if err != nil {
		return err
	}
	c.SetID(op.ID)
	c.SetTags(op.Area)
	c.SetSummary(op.Summary)
	in := reflect.New(op.In).Interface()
	c.AddReqStructure(in)
	if op.AnyBody {
		c.AddReqStructure(map[string]any{})
	}
	if op.Body != "application/json" {
		c.AddReqStructure("", openapi.WithContentType(op.Body))
	}
	out := zero(op.Out)
	switch {
	case op.Other != nil && op.OtherMedia == op.Media:
		out = jsonschema.AnyOf(out, zero(op.Other))
	case op.Other != nil:
		c.AddRespStructure(zero(op.Other), openapi.WithContentType(op.OtherMedia), openapi.WithHTTPStatus(http.StatusOK))
	}
	c.AddRespStructure(out, openapi.WithContentType(op.Media), openapi.WithHTTPStatus(http.StatusOK))
	if op.Permit.Once && op.Method != http.MethodGet {
		c.AddRespStructure(jsonschema.AnyOf(new(api.WriteState), out), openapi.WithHTTPStatus(http.StatusAccepted))
	}
	c.AddRespStructure(new(api.Problem), openapi.WithContentType("application/problem+json"),
		func(cu *openapi.ContentUnit) { cu.IsDefault = true })
	return d.AddOperation(c)
}

// zero is what the reflector takes for a type.
func zero(t reflect.Type) any {
	switch {
	case t.Kind() == reflect.String:
		return ""
	case t == reflect.TypeFor[api.None]():
		return object{}
	}
	return reflect.New(indirect(t)).Interface()
}

// object is an object of the document.
type object = map[string]any

// finish adds what the reflector does not know of.
func (d *describer) finish(document object) error {
	components := document["components"].(object)
	for _, s := range components["schemas"].(object) {
		// A type that is used by a pointer somewhere has null among its values.
		if values, ok := s.(object)["enum"].([]any); ok {
			s.(object)["enum"] = slices.DeleteFunc(values, func(v any) bool { return v == nil })
			s.(object)["type"] = "string"
		}
	}
	components["securitySchemes"] = object{
		"key": object{
			"type": "http", "scheme": "bearer",
			"description": "A key (ubq_…), or a token of the configured issuer.",
		},
		"session": object{
			"type": "apiKey", "in": "cookie", "name": "ubiquon_session",
			"description": "The cookie of a signed-in account.",
		},
	}
	kinds := object{}
	for kind, text := range api.ProblemKinds {
		kinds[kind] = object{"type": "/problems/" + kind, "title": text[0], "description": text[1]}
	}
	document["x-problems"] = kinds
	paths := document["paths"].(object)
	for _, op := range controlapi.Operations() {
		path, ok := paths[op.Path].(object)
		if !ok {
			return errors.New(op.Path + " is not in the document")
		}
		one := path[strings.ToLower(op.Method)].(object)
		restrict(one, op)
		d.parameters(one, op)
		one["x-problems"] = problemsOf(op)
		if op.Example != nil {
			if err := example(one, op); err != nil {
				return err
			}
		}
		for _, kind := range []string{"200", "202"} {
			if answer, ok := one["responses"].(object)[kind].(object); ok {
				answer["description"] = map[string]string{"200": "Done.", "202": "Accepted; see Location."}[kind]
			}
		}
		one["responses"].(object)["default"].(object)["description"] = "A problem document."
	}
	return nil
}

// parameters documents the parameters of an operation.
func (d *describer) parameters(one object, op *operation.Operation) {
	about := map[string]string{}
	for _, f := range reflect.VisibleFields(op.In) {
		about[f.Tag.Get("query")+f.Tag.Get("path")] = d.docs.field(op.In, f.Name)
	}
	list, _ := one["parameters"].([]any)
	for _, p := range list {
		if text := about[p.(object)["name"].(string)]; text != "" {
			p.(object)["description"] = text
		}
	}
}

// restrict says who may use an operation.
func restrict(one object, op *operation.Operation) {
	var security []any
	var principals []string
	for _, kind := range op.Permit.Kinds {
		name := string(kind)
		switch kind {
		case "everyone":
			security = append(security, object{})
		case "account":
			security = append(security, object{"session": []any{}})
		}
		principals = append(principals, name)
	}
	if len(principals) > 1 {
		security = append(security, object{"key": []any{}})
	}
	one["security"] = security
	one["x-principals"] = principals
	one["x-grant"] = op.Permit.Grant
	if op.Permit.Proved {
		one["x-recent-password"] = true
	}
	if op.Permit.Body > 0 && op.Method != http.MethodGet {
		one["x-body-limit"] = op.Permit.Body
	}
}

// problemsOf lists the kinds of problem that an operation may have.
func problemsOf(op *operation.Operation) []string {
	out := []string{"parameter", "no-key", "bad-key", "grant", "principal", "away", "too-slow", "internal"}
	if op.Method != http.MethodGet {
		out = append(out, "body", "too-large", "cross-site")
	}
	if strings.Contains(op.Path, "{") {
		out = append(out, "not-found")
	}
	if op.Permit.Once && op.Method != http.MethodGet {
		out = append(out, "idempotency")
	}
	if op.Permit.Proved {
		out = append(out, "proof")
	}
	out = append(out, op.Problems...)
	slices.Sort(out)
	return slices.Compact(out)
}

// example adds the example of a request.
func example(one object, op *operation.Operation) error {
	src, err := json.Marshal(op.Example)
	if err != nil {
		return err
	}
	if body, ok := one["requestBody"].(object); ok && string(src) != "{}" {
		media := body["content"].(object)["application/json"].(object)
		media["example"] = json.RawMessage(src)
	}
	v := reflect.ValueOf(op.Example)
	given := map[string]any{}
	for _, f := range reflect.VisibleFields(v.Type()) {
		name := f.Tag.Get("query") + f.Tag.Get("path")
		if field := v.FieldByIndex(f.Index); name != "" && !field.IsZero() {
			given[name] = field.Interface()
		}
	}
	parameters, _ := one["parameters"].([]any)
	for _, p := range parameters {
		if value, ok := given[p.(object)["name"].(string)]; ok {
			p.(object)["example"] = value
		}
	}
	return nil
}
