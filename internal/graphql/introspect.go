package graphql

import (
	"bytes"
	"encoding/json"
	"slices"
	"sort"

	"github.com/vektah/gqlparser/v2/ast"
)

// object is a JSON object whose members keep the order of the request.
type object []member

type member struct {
	name  string
	value any
}

// MarshalJSON implements json.Marshaler.
func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(`"` + m.name + `"`)
		b.WriteByte(':')
		src, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b.Write(src)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// hiddenDirectives are declared by the parser's prelude, but not served.
var hiddenDirectives = []string{"defer"}

// introspect answers __schema and __type. The answer follows from the schema
// alone, so it is part of the compiled operation.
func (c *compiler) introspect(f merged) string {
	c.describing = true
	defer func() { c.describing = false }()
	var v any
	if f.Name == "__schema" {
		v = c.schemaObject(f.inner)
	} else {
		name, _ := f.ArgumentMap(c.vars)["name"].(string)
		v = c.definition(f.inner, c.s.parsed.Types[name])
	}
	src, err := json.Marshal(v)
	if err != nil {
		panic("graphql: " + err.Error()) // objects, lists and texts
	}
	return string(src)
}

// choose makes an object of the type out of what is asked of it.
func (c *compiler) choose(set ast.SelectionSet, typ string, value func(merged) any) any {
	out := object{}
	for _, f := range c.collect(set, typ) {
		if f.Name == "__typename" {
			out = append(out, member{f.Alias, typ})
		} else {
			out = append(out, member{f.Alias, value(f)})
		}
	}
	return out
}

func eachOf[T any](list []T, f func(T) any) any {
	out := make([]any, len(list))
	for i := range list {
		out[i] = f(list[i])
	}
	return out
}

func (c *compiler) schemaObject(set ast.SelectionSet) any {
	s := c.s.parsed
	return c.choose(set, "__Schema", func(f merged) any {
		switch f.Name {
		case "types":
			var all []*ast.Definition
			for _, d := range s.Types {
				all = append(all, d)
			}
			sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
			return eachOf(all, func(d *ast.Definition) any { return c.definition(f.inner, d) })
		case "queryType":
			return c.definition(f.inner, s.Query)
		case "directives":
			var all []*ast.DirectiveDefinition
			for _, d := range s.Directives {
				if !slices.Contains(hiddenDirectives, d.Name) {
					all = append(all, d)
				}
			}
			sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
			return eachOf(all, func(d *ast.DirectiveDefinition) any { return c.directive(f.inner, d) })
		}
		return nil // no mutations, no subscriptions, no description
	})
}

func text(s string) any {
	if s == "" {
		return nil
	}
	return s
}

func (c *compiler) definition(set ast.SelectionSet, d *ast.Definition) any {
	if d == nil {
		return nil
	}
	return c.choose(set, "__Type", func(f merged) any {
		switch f.Name {
		case "kind":
			return string(d.Kind)
		case "name":
			return d.Name
		case "description":
			return text(d.Description)
		case "fields":
			if d.Kind != ast.Object && d.Kind != ast.Interface {
				return nil
			}
			own := slices.DeleteFunc(
				slices.Clone(d.Fields),
				func(x *ast.FieldDefinition) bool { return len(x.Name) > 1 && x.Name[:2] == "__" },
			)
			return eachOf(own, func(x *ast.FieldDefinition) any { return c.fieldObject(f.inner, x) })
		case "interfaces":
			if d.Kind != ast.Object && d.Kind != ast.Interface {
				return nil
			}
			return eachOf(
				d.Interfaces, func(name string) any { return c.definition(f.inner, c.s.parsed.Types[name]) },
			)
		case "possibleTypes":
			if d.Kind != ast.Interface && d.Kind != ast.Union {
				return nil
			}
			return eachOf(
				c.s.parsed.GetPossibleTypes(d), func(p *ast.Definition) any { return c.definition(f.inner, p) },
			)
		case "enumValues":
			if d.Kind != ast.Enum {
				return nil
			}
			return eachOf(d.EnumValues, func(v *ast.EnumValueDefinition) any {
				return c.choose(
					f.inner, "__EnumValue", func(g merged) any { return describe(g.Name, v.Name, v.Description) },
				)
			})
		case "inputFields":
			if d.Kind != ast.InputObject {
				return nil
			}
			return eachOf(d.Fields, func(x *ast.FieldDefinition) any {
				return c.inputValue(f.inner, x.Name, x.Description, x.Type, x.DefaultValue)
			})
		case "isOneOf":
			if d.Kind != ast.InputObject {
				return nil
			}
			return d.Directives.ForName("oneOf") != nil
		}
		return nil // ofType, specifiedByURL
	})
}

// typeRef is a type as a field or an argument has it: with its wrappings.
func (c *compiler) typeRef(set ast.SelectionSet, t *ast.Type) any {
	if !t.NonNull && t.Elem == nil {
		return c.definition(set, c.s.parsed.Types[t.NamedType])
	}
	kind, inner := "LIST", t.Elem
	if t.NonNull {
		bare := *t
		bare.NonNull = false
		kind, inner = "NON_NULL", &bare
	}
	return c.choose(set, "__Type", func(f merged) any {
		switch f.Name {
		case "kind":
			return kind
		case "ofType":
			return c.typeRef(f.inner, inner)
		}
		return nil
	})
}

// describe answers what every described thing has.
func describe(asked, name, description string) any {
	switch asked {
	case "name":
		return name
	case "description":
		return text(description)
	case "isDeprecated":
		return false
	}
	return nil // deprecationReason
}

func (c *compiler) fieldObject(set ast.SelectionSet, x *ast.FieldDefinition) any {
	return c.choose(set, "__Field", func(f merged) any {
		switch f.Name {
		case "args":
			return c.arguments(f.inner, x.Arguments)
		case "type":
			return c.typeRef(f.inner, x.Type)
		}
		return describe(f.Name, x.Name, x.Description)
	})
}

func (c *compiler) arguments(set ast.SelectionSet, list ast.ArgumentDefinitionList) any {
	return eachOf(list, func(a *ast.ArgumentDefinition) any {
		return c.inputValue(set, a.Name, a.Description, a.Type, a.DefaultValue)
	})
}

func (c *compiler) inputValue(set ast.SelectionSet, name, description string, t *ast.Type, otherwise *ast.Value) any {
	return c.choose(set, "__InputValue", func(f merged) any {
		switch f.Name {
		case "type":
			return c.typeRef(f.inner, t)
		case "defaultValue":
			if otherwise == nil {
				return nil
			}
			return otherwise.String()
		}
		return describe(f.Name, name, description)
	})
}

func (c *compiler) directive(set ast.SelectionSet, d *ast.DirectiveDefinition) any {
	return c.choose(set, "__Directive", func(f merged) any {
		switch f.Name {
		case "args":
			return c.arguments(f.inner, d.Arguments)
		case "locations":
			return d.Locations
		case "isRepeatable":
			return d.IsRepeatable
		}
		return describe(f.Name, d.Name, d.Description)
	})
}
