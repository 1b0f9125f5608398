package graphql

import (
	"runtime"
	"strings"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"
	"github.com/vektah/gqlparser/v2/parser"
	"github.com/vektah/gqlparser/v2/validator"
	"github.com/vektah/gqlparser/v2/validator/rules"

	"ubiquon/internal/core/query"
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
