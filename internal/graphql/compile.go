package graphql

import (
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"
	"github.com/vektah/gqlparser/v2/parser"
	"github.com/vektah/gqlparser/v2/validator"
	"github.com/vektah/gqlparser/v2/validator/rules"

	"ubiquon/internal/core/depend"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
)

// Request is a GraphQL-over-HTTP request.
type Request struct {
	Query         string         `json:"query"`
	OperationName string         `json:"operationName"`
	Variables     map[string]any `json:"variables"`
	// DocumentID names a trusted document instead of Query.
	DocumentID string `json:"documentId"`
	Extensions struct {
		// PersistedQuery names a document by the hash of its text, as many clients do.
		PersistedQuery *PersistedQuery `json:"persistedQuery,omitempty"`
	} `json:"extensions,omitzero"`
	// Locale of fields that name none; empty means the default.
	Locale string `json:"-"`
}

// PersistedQuery names a document by the SHA-256 of its text, in hexadecimal digits.
type PersistedQuery struct {
	Version int    `json:"version"`
	Hash    string `json:"sha256Hash"`
}

// Operation is a compiled request.
type Operation struct {
	// Query is what the store is asked; it has no roots when nothing but
	// __typename was asked for.
	Query  query.Query
	names  map[string]string // of types
	fields []field
	Errors gqlerror.List
	// describing are the fields that ask for the schema, by their place among fields, and
	// vars the variables that they use.
	describing map[int]merged
	vars       map[string]any
	// Negotiated says that a field names no locale, so that the request's language counts.
	Negotiated bool
	// restricted says that fields may be missing for want of a grant.
	restricted bool
}

// field is one field of the answer's data.
type field struct {
	as       string
	constant string // the value, if known already
	null     bool   // not allowed
	root     int    // index into Query.Roots
	kind     rootKind
	shape    []query.ListPart // of a list
}

func noOperation(doc *ast.QueryDocument, name string) *gqlerror.Error {
	if len(doc.Operations) == 0 {
		return gqlerror.Errorf("the document has no operation, only fragments")
	}
	var all []string
	for _, op := range doc.Operations {
		all = append(all, op.Name)
	}
	if name == "" {
		return gqlerror.Errorf(
			"the document has several operations; name the one to run in operationName: %s", strings.Join(all, ", "),
		)
	}
	return gqlerror.Errorf("the document has no operation %q; it has %s", name, strings.Join(all, ", "))
}

// Compile checks the request against the schema and turns it into a query. Its
// errors are those of the GraphQL specification's request errors, with places.
func (s *Schema) Compile(edition string, r Request) (*Operation, gqlerror.List) {
	doc, errs := s.parse(r.Query)
	if len(errs) > 0 {
		return nil, errs
	}
	return s.compile(edition, r, doc, nil)
}

// compile compiles a document that was parsed, by some rules; nil means all.
func (s *Schema) compile(
	edition string, r Request, doc *ast.QueryDocument, by *rules.Rules,
) (*Operation, gqlerror.List) {
	if errs := validator.ValidateWithRules(s.parsed, doc, by); len(errs) > 0 {
		return nil, errs
	}
	op := doc.Operations.ForName(r.OperationName)
	if op == nil {
		return nil, gqlerror.List{noOperation(doc, r.OperationName)}
	}
	if op.Operation != ast.Query {
		return nil, gqlerror.List{
			gqlerror.ErrorPosf(op.Position, "only queries are served here, no %s", op.Operation),
		}
	}
	vars, err := validator.VariableValues(s.parsed, op, r.Variables)
	if err != nil {
		return nil, gqlerror.List{gqlerror.WrapIfUnwrapped(err)}
	}
	c := compiler{
		s:      s,
		vars:   vars,
		locale: r.Locale,
		steps:  s.limits.GraphQLSteps,
		out:    &Operation{Query: query.Query{Edition: edition}, names: s.types},
	}
	for _, f := range c.collect(op.SelectionSet, "Query") {
		c.root(f)
	}
	if c.described > query.MaxEffort {
		return nil, gqlerror.List{
			tooMuch(
				query.MaxEffort+1,
				"the request asks for too much of the schema; ask for it once, or get it from graphql/schema.graphql",
			),
		}
	}
	if c.steps < 0 {
		return nil, gqlerror.List{
			gqlerror.Errorf(
				"the request asks for more than %d fields, fragments expanded; ask for less at once",
				s.limits.GraphQLSteps,
			),
		}
	}
	if len(c.errs) > 0 {
		return nil, c.errs
	}
	if err := c.out.Query.CheckSize(); err != nil {
		return nil, gqlerror.List{tooMuch(c.out.Query.Effort(), err.Error())}
	}
	if effort := c.out.Query.Effort() + c.described; effort > query.MaxEffort {
		return nil, gqlerror.List{
			tooMuch(effort, "the effort of the request is too great; ask for the schema in a request of its own"),
		}
	}
	return c.out, nil
}

// tooMuch is the error of a request whose effort is too great.
func tooMuch(effort int, message string) *gqlerror.Error {
	err := gqlerror.Errorf("%s", message)
	err.Extensions = map[string]any{"effort": map[string]int{"asked": effort, "limit": query.MaxEffort}}
	return err
}

// Check returns what is wrong with a document, whatever its variables are.
func (s *Schema) Check(text string) gqlerror.List {
	doc, errs := s.parse(text)
	if len(errs) > 0 {
		return errs
	}
	return validator.ValidateWithRules(s.parsed, doc, nil)
}

// parse reads a document, and refuses one that would be dear to validate.
func (s *Schema) parse(text string) (*ast.QueryDocument, gqlerror.List) {
	doc, err := parser.ParseQueryWithTokenLimit(&ast.Source{Input: text}, s.limits.GraphQLTokens)
	if err != nil {
		return nil, gqlerror.List{gqlerror.WrapIfUnwrapped(err)}
	}
	if err := s.checkForm(doc); err != nil {
		return nil, gqlerror.List{err}
	}
	return doc, nil
}

type compiler struct {
	s      *Schema
	vars   map[string]any
	locale string
	out    *Operation
	errs   gqlerror.List
	// steps is how many selections may still be looked at; below zero nothing is
	// collected any more.
	steps int
	// described counts what is asked of the schema itself; describing says that this is
	// at hand.
	described  int
	describing bool
	seen       int
}

// yieldEvery is how many selections are looked at before others get the processor: hits
// wait for far less than a compilation takes.
const yieldEvery = 256

// describedEffort is the effort of one thing that is asked of the schema: what tools
// ask for at once stays far below the bound, many times that does not.
const describedEffort = 4

// maxDescribing bounds how often one request asks for the schema, or a type of it.
const maxDescribing = 10

// exhausted counts a selection, and tells whether there are too many.
func (c *compiler) exhausted() bool {
	if c.seen++; c.seen%yieldEvery == 0 {
		runtime.Gosched()
	}
	if c.describing {
		c.described += describedEffort
		return c.described > query.MaxEffort
	}
	c.steps--
	return c.steps < 0
}

func (c *compiler) fail(at *ast.Field, format string, args ...any) {
	c.errs = append(c.errs, gqlerror.ErrorPosf(at.Position, format, args...))
}

// merged is a field of the answer: the fields of the request that share its
// name, made one.
type merged struct {
	*ast.Field
	inner ast.SelectionSet
}

// collect returns the fields that a selection asks of an object of the type,
// in order, fragments spread and conditions applied.
func (c *compiler) collect(set ast.SelectionSet, typ string) []merged {
	var out []merged
	var spread map[string]bool // fragments, each of which counts once
	var walk func(set ast.SelectionSet)
	walk = func(set ast.SelectionSet) {
		for _, sel := range set {
			if c.exhausted() {
				return
			}
			switch x := sel.(type) {
			case *ast.Field:
				if !c.included(x.Directives) {
					continue
				}
				i := slices.IndexFunc(out, func(m merged) bool { return m.Alias == x.Alias })
				if i < 0 {
					out = append(out, merged{Field: x, inner: x.SelectionSet})
				} else {
					out[i].inner = slices.Concat(out[i].inner, x.SelectionSet)
				}
			case *ast.InlineFragment:
				if c.included(x.Directives) && (x.TypeCondition == "" || c.applies(x.TypeCondition, typ)) {
					walk(x.SelectionSet)
				}
			case *ast.FragmentSpread:
				if !spread[x.Name] && c.included(x.Directives) && c.applies(x.Definition.TypeCondition, typ) {
					if spread == nil {
						spread = map[string]bool{}
					}
					spread[x.Name] = true
					walk(x.Definition.SelectionSet)
				}
			}
		}
	}
	walk(set)
	return out
}

func (c *compiler) applies(condition, typ string) bool {
	return condition == typ ||
		slices.ContainsFunc(
			c.s.parsed.PossibleTypes[condition], func(d *ast.Definition) bool { return d.Name == typ },
		)
}

func (c *compiler) included(directives ast.DirectiveList) bool {
	if d := directives.ForName("skip"); d != nil && d.ArgumentMap(c.vars)["if"] == true {
		return false
	}
	d := directives.ForName("include")
	return d == nil || d.ArgumentMap(c.vars)["if"] == true
}

func (c *compiler) root(f merged) {
	switch f.Name {
	case "__typename":
		c.out.fields = append(c.out.fields, field{as: f.Alias, constant: `"Query"`})
		return
	case "__schema", "__type":
		if len(c.out.describing) == maxDescribing {
			c.fail(f.Field, "the schema is asked for more than %d times; ask for it once", maxDescribing)
			return
		}
		if c.out.describing == nil {
			c.out.describing, c.out.vars = map[int]merged{}, c.vars
		}
		c.out.describing[len(c.out.fields)] = f
		c.out.fields = append(c.out.fields, field{as: f.Alias, constant: c.introspect(f)})
		return
	}
	r := c.s.roots[f.Name]
	args := f.ArgumentMap(c.vars)
	for name, v := range args {
		if s, ok := v.(string); ok && (strings.ContainsRune(s, 0) || !utf8.ValidString(s)) {
			c.fail(f.Field, "%s is not valid UTF-8, or holds a NUL", name)
			return
		}
	}
	out := query.Root{As: f.Alias, Locale: c.locale}
	if out.Locale == "" {
		out.Locale = c.s.model.Default()
	}
	tag, told := args["locale"].(string)
	if told {
		l, known := c.s.model.Locale(tag)
		if !known {
			c.fail(f.Field, "there is no locale %q%s", tag, strictyaml.DidYouMean(tag, c.s.model.Tags()))
			return
		}
		out.Locale = l.Tag
	}
	fd := field{as: f.Alias, kind: r.kind, root: len(c.out.Query.Roots)}
	types := []*model.Type{r.typ}
	switch r.kind {
	case rootNode:
		out.By = query.ByID
		out.Value, _ = args["id"].(string)
		types = c.s.model.Types
		out.Selection.Picks = c.picks(f.inner, types)
	case rootAny:
		if err := c.by(&out, args["by"], told); err != nil {
			c.fail(f.Field, "%s", err)
			return
		}
		types = c.s.model.Types
		out.Selection.Picks = c.picks(f.inner, types)
	case rootEntry:
		out.By, out.Type = query.BySlug, r.typ.Name
		out.Value, _ = args["slug"].(string)
		out.Selection.Picks = c.picks(f.inner, types)
	case rootSingle:
		out.By, out.Type = query.BySingle, r.typ.Name
		out.Selection.Picks = c.picks(f.inner, types)
	case rootList:
		out.By, out.Type = query.ByList, r.typ.Name
		if err := c.window(&out, r.typ, args); err != nil {
			c.fail(f.Field, "%s", err)
			return
		}
		out.Translated = args["translated"] == "ONLY"
		fd.shape = c.connection(&out, f.inner, r.typ)
	}
	c.out.Negotiated = c.out.Negotiated || !told && out.Locale != ""
	c.out.Query.Roots = append(c.out.Query.Roots, out)
	c.out.fields = append(c.out.fields, fd)
}

// by finds out by what an entry of any type is found. A path tells its locale by
// itself, unless one was told.
func (c *compiler) by(out *query.Root, arg any, told bool) error {
	by, _ := arg.(map[string]any)
	if len(by) != 1 {
		return fmt.Errorf("by names exactly one of id and path, not %d", len(by))
	}
	for name, v := range by {
		value, isText := v.(string)
		switch {
		case !isText:
			return fmt.Errorf("by.%s is null; give one that is not", name)
		case strings.ContainsRune(value, 0) || !utf8.ValidString(value):
			return fmt.Errorf("by.%s is not valid UTF-8, or holds a NUL", name)
		case name == "id":
			out.By, out.Value = query.ByID, value
			return nil
		}
		var err error
		if out.Value, err = query.CleanPath(value); err != nil {
			return err
		}
		out.By, out.Locales = query.ByPath, c.s.model.Tags()
		if !told {
			out.Locale = ""
		}
	}
	return nil
}

func (c *compiler) window(out *query.Root, t *model.Type, args map[string]any) error {
	out.Limit = query.DefaultLimit
	first, last := args["first"], args["last"]
	if first != nil && last != nil {
		return fmt.Errorf("first and last are both given; ask for a list's beginning or for its end")
	}
	for name, v := range map[string]any{"first": first, "last": last} {
		if v == nil {
			continue
		}
		n, err := strconv.Atoi(fmt.Sprint(v))
		if err != nil || n < 0 || n > query.MaxLimit {
			return fmt.Errorf("%s is %v; it may be 0 to %d", name, v, query.MaxLimit)
		}
		out.Limit, out.Last = n, name == "last"
	}
	if in, ok := args["filter"].(map[string]any); ok {
		text, err := filterText(c.s.model, t, false, in, "")
		if err == nil {
			out.Filter, err = query.ParseFilter("filter", text, c.s.model, t)
		}
		if err != nil {
			return err
		}
	}
	var names []string
	switch list := args["sort"].(type) {
	case []any:
		for _, n := range list {
			names = append(names, fmt.Sprint(n))
		}
	case []string:
		names = list
	case string:
		names = []string{list}
	}
	var err error
	if out.Sort, err = query.ParseSort(t, names); err != nil {
		return err
	}
	after, behind := args["after"].(string)
	before, ahead := args["before"].(string)
	switch {
	case behind && (ahead || out.Last):
		return fmt.Errorf("after goes with first alone; use before with last")
	case ahead && first != nil:
		return fmt.Errorf("before goes with last; use after with first")
	case behind:
		out.After, err = out.ParseCursor("after", after)
	case ahead:
		out.Before, err = out.ParseCursor("before", before)
	}
	return err
}

// connection compiles what is asked of a list; nodes and edges become picks of
// one selection.
func (c *compiler) connection(out *query.Root, set ast.SelectionSet, t *model.Type) []query.ListPart {
	name := c.s.types[t.Name]
	shape := []query.ListPart{}
	nodes := func(set ast.SelectionSet) (first, end int) {
		first = len(out.Selection.Picks)
		out.Selection.Picks = append(out.Selection.Picks, c.picks(set, []*model.Type{t})...)
		return first, len(out.Selection.Picks)
	}
	for _, f := range c.collect(set, name+"Connection") {
		part := query.ListPart{As: f.Alias, Name: f.Name}
		switch f.Name {
		case "nodes":
			part.First, part.End = nodes(f.inner)
		case "edges":
			for _, e := range c.collect(f.inner, name+"Edge") {
				inner := query.ListPart{As: e.Alias, Name: e.Name}
				if e.Name == "node" {
					inner.First, inner.End = nodes(e.inner)
				}
				part.Inner = append(part.Inner, inner)
				if e.Name == "cursor" {
					out.Shows.Cursors |= depend.CursorAll
				}
			}
		case "pageInfo":
			for _, e := range c.collect(f.inner, "PageInfo") {
				part.Inner = append(part.Inner, query.ListPart{As: e.Alias, Name: e.Name})
				switch e.Name {
				case "hasNextPage", "hasPreviousPage":
					out.Shows.More = true
				case "startCursor":
					out.Shows.Cursors |= depend.CursorFirst
				case "endCursor":
					out.Shows.Cursors |= depend.CursorLast
				}
			}
		case "totalCount":
			out.Count = true
		}
		shape = append(shape, part)
	}
	if !slices.ContainsFunc(
		shape, func(p query.ListPart) bool { return p.Name != "totalCount" && p.Name != "__typename" },
	) {
		out.Limit = 0 // nothing shows which entries there are
	}
	return shape
}

// picks compiles what is asked of an entry that may be of any of the types.
func (c *compiler) picks(set ast.SelectionSet, types []*model.Type) []query.Pick {
	var out []query.Pick
	for _, t := range types {
		var on []string
		if len(types) > 1 {
			on = []string{t.Name}
		}
		for _, f := range c.collect(set, c.s.nameOf(t)) {
			p := c.pick(f, t)
			if i := slices.IndexFunc(out, func(o query.Pick) bool { return same(o, p) }); i >= 0 {
				out[i].On = append(out[i].On, on...)
				continue
			}
			p.On = on
			out = append(out, p)
		}
	}
	for i := range out {
		if len(out[i].On) == len(types) {
			out[i].On = nil
		}
	}
	return out
}

// same tells whether two picks of different types can be one.
func same(a, b query.Pick) bool {
	return a.Kind == b.Kind && a.As == b.As &&
		(a.Kind == query.PickID || a.Kind == query.PickType && maps.Equal(a.Names, b.Names))
}

func (c *compiler) pick(f merged, t *model.Type) query.Pick {
	p := query.Pick{As: f.Alias, Field: f.Name}
	switch f.Name {
	case "__typename":
		if name, ok := c.s.inner[t]; ok {
			return query.Pick{As: f.Alias, Kind: query.PickType, Names: map[string]string{t.Name: name}}
		}
		return query.Pick{As: f.Alias, Kind: query.PickType, Names: c.s.types}
	}
	field := t.Field(f.Name)
	switch {
	case field == nil && f.Name == "id":
		return query.Pick{As: f.Alias, Kind: query.PickID}
	case field == nil && f.Name == "about":
		return query.Pick{As: f.Alias, Kind: query.PickAbout, Parts: c.parts(f.inner, "About")}
	case field == nil:
		return c.back(f, t)
	}
	p.Several, p.Text = field.IsList(), query.IsText(field)
	switch field.Kind {
	case model.Prose, model.File, model.Money:
		p.Kind, p.Parts = query.PickParts, c.parts(f.inner, pascal(string(field.Kind)))
	case model.Location:
		p.Kind, p.Parts = query.PickParts, c.parts(f.inner, "Point")
	case model.Record, model.Blocks:
		return query.InnerPick(p, &query.Selection{Picks: c.picks(f.inner, field.Inner)})
	case model.Choice:
		p.Kind, p.Names = query.PickValue, map[string]string{}
		for _, o := range field.Options {
			p.Names[o.Value] = enumName(o.Value)
		}
	case model.Reference:
		p.Kind, p.Types = query.PickLink, field.Types
		var targets []*model.Type
		for _, n := range field.Types {
			targets = append(targets, c.s.model.Type(n))
		}
		p.Link = &query.Selection{Picks: c.picks(f.inner, targets)}
	default:
		p.Kind = query.PickValue
	}
	return p
}

// back compiles the list of those that refer to an entry of the type; a field of
// a block without fields is empty.
func (c *compiler) back(f merged, t *model.Type) query.Pick {
	b, ok := c.s.model.Back(t.Name, f.Name)
	if !ok {
		return query.Pick{As: f.Alias, Kind: query.PickValue, Field: f.Name}
	}
	p := query.Pick{
		As:      f.Alias,
		Kind:    query.PickBack,
		Several: true,
		Names:   c.s.types,
		List:    query.Selecting{Model: c.s.model}.Back(b),
	}
	if err := c.window(p.List, b.Type, f.ArgumentMap(c.vars)); err != nil {
		c.fail(f.Field, "%s", err)
		return p
	}
	p.Shape = c.connection(p.List, f.inner, b.Type)
	return p
}

func (c *compiler) parts(set ast.SelectionSet, typ string) []query.Part {
	var out []query.Part
	for _, f := range c.collect(set, typ) {
		part := query.PartOf(f.Alias, f.Name)
		if f.Name == "__typename" {
			part.Constant = typ
		}
		out = append(out, part)
	}
	return out
}
