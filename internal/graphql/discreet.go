package graphql

import (
	"strings"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"
	"github.com/vektah/gqlparser/v2/parser"
	"github.com/vektah/gqlparser/v2/validator"
	"github.com/vektah/gqlparser/v2/validator/rules"
)

// CompileFor compiles a request for somebody who may not read entries of every type, and
// in which something is wrong. Whatever is asked of the types that they may not read does
// not count: neither an error nor its absence tells what fields those have. Restrict makes
// such fields null, as it does those of a request in which nothing is wrong.
func (s *Schema) CompileFor(edition string, r Request, readable func(typ string) bool) (*Operation, gqlerror.List) {
	doc, err := parser.ParseQueryWithTokenLimit(&ast.Source{Input: r.Query}, s.limits.GraphQLTokens)
	if err != nil {
		return nil, gqlerror.List{gqlerror.WrapIfUnwrapped(err)}
	}
	if err := s.checkForm(doc); err != nil {
		return nil, gqlerror.List{err}
	}
	p := pruning{s: s, readable: readable}
	for _, f := range doc.Fragments {
		f.SelectionSet = p.set(f.SelectionSet, f.TypeCondition)
	}
	for _, op := range doc.Operations {
		op.SelectionSet = p.set(op.SelectionSet, "Query")
	}
	used := map[string]bool{}
	for _, f := range doc.Fragments {
		variablesIn(f.SelectionSet, used)
	}
	for _, op := range doc.Operations {
		variablesIn(op.SelectionSet, used)
		var kept ast.VariableDefinitionList
		for _, v := range op.VariableDefinitions {
			if used[v.Variable] {
				kept = append(kept, v)
			}
		}
		op.VariableDefinitions = kept
	}
	return s.compile(edition, r, doc, silentRules)
}

// silentRules are those of validation, but for suggestions, which name what others may
// read, and for what pruning leaves unused.
var silentRules = func() *rules.Rules {
	r := rules.NewDefaultRules()
	for _, name := range []string{
		"NoUnusedVariables", "NoUnusedFragments", "FieldsOnCorrectType",
		"KnownArgumentNames", "KnownTypeNames", "ScalarLeafs", "ValuesOfCorrectType",
	} {
		r.RemoveRule(name)
	}
	for _, one := range []validator.Rule{
		rules.FieldsOnCorrectTypeRuleWithoutSuggestions,
		rules.KnownArgumentNamesRuleWithoutSuggestions, rules.KnownTypeNamesRuleWithoutSuggestions,
		rules.ScalarLeafsRuleWithoutSuggestions, rules.ValuesOfCorrectTypeRuleWithoutSuggestions,
	} {
		r.AddRule(one.Name, one.RuleFunc)
	}
	return r
}()

// pruning takes out of a document what is asked of types that are not readable.
type pruning struct {
	s        *Schema
	readable func(typ string) bool
}

// hides tells whether a GraphQL type, or a list of its entries, is of a type that is not
// readable.
func (p pruning) hides(name string) bool {
	for _, suffix := range []string{"", "Connection", "Edge"} {
		if bare, is := strings.CutSuffix(name, suffix); is {
			if t := p.s.byName[bare]; t != nil {
				return !p.readable(t.Name)
			}
		}
	}
	return false
}

var onlyTypename = ast.SelectionSet{&ast.Field{Alias: "__typename", Name: "__typename"}}

func (p pruning) set(set ast.SelectionSet, typ string) ast.SelectionSet {
	if p.hides(typ) {
		return onlyTypename
	}
	d := p.s.parsed.Types[typ]
	for _, sel := range set {
		switch x := sel.(type) {
		case *ast.Field:
			inner := ""
			if d != nil {
				if f := d.Fields.ForName(x.Name); f != nil {
					inner = f.Type.Name()
				}
			}
			if p.hides(inner) {
				x.Arguments, x.Directives, x.SelectionSet = p.required(d, x), nil, onlyTypename
				continue
			}
			x.SelectionSet = p.set(x.SelectionSet, inner)
		case *ast.InlineFragment:
			on := x.TypeCondition
			if on == "" {
				on = typ
			}
			x.SelectionSet = p.set(x.SelectionSet, on)
		}
	}
	return set
}

// required are arguments that a field cannot be without, with any value: it is null
// anyhow.
func (p pruning) required(d *ast.Definition, f *ast.Field) ast.ArgumentList {
	var out ast.ArgumentList
	for _, a := range d.Fields.ForName(f.Name).Arguments {
		if a.Type.NonNull && a.DefaultValue == nil {
			out = append(out, &ast.Argument{Name: a.Name, Value: &ast.Value{Kind: ast.StringValue, Raw: "-"}})
		}
	}
	return out
}

// variablesIn notes the variables that a selection uses.
func variablesIn(set ast.SelectionSet, used map[string]bool) {
	var value func(v *ast.Value)
	value = func(v *ast.Value) {
		if v == nil {
			return
		}
		if v.Kind == ast.Variable {
			used[v.Raw] = true
		}
		for _, c := range v.Children {
			value(c.Value)
		}
	}
	directives := func(list ast.DirectiveList) {
		for _, d := range list {
			for _, a := range d.Arguments {
				value(a.Value)
			}
		}
	}
	for _, sel := range set {
		switch x := sel.(type) {
		case *ast.Field:
			for _, a := range x.Arguments {
				value(a.Value)
			}
			directives(x.Directives)
			variablesIn(x.SelectionSet, used)
		case *ast.InlineFragment:
			directives(x.Directives)
			variablesIn(x.SelectionSet, used)
		case *ast.FragmentSpread:
			directives(x.Directives)
		}
	}
}

// Describes tells whether the operation asks for the schema.
func (o *Operation) Describes() bool { return len(o.describing) > 0 }

// DescribedBy returns the operation with what it asks of the schema answered by another
// one: that of somebody who may know less.
func (o *Operation) DescribedBy(s *Schema) *Operation {
	out := *o
	out.fields = append([]field(nil), o.fields...)
	c := compiler{s: s, vars: o.vars}
	for i, asked := range o.describing {
		out.fields[i].constant = c.introspect(asked)
	}
	return &out
}
