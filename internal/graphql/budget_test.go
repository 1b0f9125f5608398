package graphql

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/query"
)

// longest bounds what compiling any request may take, even on a slow machine.
const longest = 5 * time.Second

// abuses are requests that are small and would be dear.
func abuses() map[string]string {
	out := map[string]string{}
	// Each fragment spreads the next one twice, under two names.
	var b strings.Builder
	b.WriteString("{ routes { nodes { ...F0 } } }\n")
	for i := range 40 {
		fmt.Fprintf(&b, "fragment F%d on Route { ...F%[2]d ...F%[2]d }\n", i, i+1)
	}
	b.WriteString("fragment F40 on Route { name }")
	out["fragments that spread the next one twice"] = b.String()
	b.Reset()
	b.WriteString("{ routes { nodes { ...F0 } } }\n")
	for i := range 24 {
		fmt.Fprintf(&b, "fragment F%d on Route { a%[1]d: start { ...F%[2]d } b%[1]d: start { ...F%[2]d } }\n", i, i+1)
	}
	b.WriteString("fragment F24 on Route { name }")
	out["fragments that double at every level"] = b.String()
	out["one field, thousands of times"] = "{ routes { nodes { " + strings.Repeat("name ", 4900) + "} } }"
	out["one field with a directive, thousands of times"] = "query($x: Boolean = true) { routes { nodes { " +
		strings.Repeat(
			"name @include(if: $x) ", 600,
		) + "} } }"
	out["one object, thousands of times"] = "{ routes { nodes { " + strings.Repeat("text { html } ", 1200) + "} } }"
	out["the schema, hundreds of times"] = "{ " + func() (s string) {
		for i := range 200 {
			s += fmt.Sprintf("a%d: __schema { types { name fields { name args { name } type { name } } } } ", i)
		}
		return s
	}() + "}"
	out["the schema, deeply"] = "{ __schema { types { " + strings.Repeat(
		"fields { type { ", 8,
	) + "name" + strings.Repeat(
		" } }", 8,
	) + " } } }"
	out["nested without an end"] = "{ routes { nodes { " + strings.Repeat(
		"start { ... on Route { ", 400,
	) + "name" + strings.Repeat(
		" } }", 400,
	) + " } } }"
	twice := "name"
	for range 9 {
		twice = "start { ... on Route { " + twice + " } } start { ... on Route { " + twice + " } }"
	}
	out["twice at every level"] = "{ routes { nodes { " + twice + " } } }"
	var many strings.Builder
	many.WriteString("{ routes { nodes { ")
	for i := range 190 {
		fmt.Fprintf(&many, "...M%d ", i)
	}
	many.WriteString("} } }\n")
	for i := range 190 {
		fmt.Fprintf(&many, "fragment M%d on Route { name a%[1]d: name }\n", i)
	}
	out["many fragments in one place"] = many.String()
	aliases := "{ "
	for i := range 800 {
		aliases += fmt.Sprintf("a%d: routes { totalCount } ", i)
	}
	out["one list under many names"] = aliases + "}"
	return out
}

// TestCompilingIsBounded compiles requests that are made to be dear.
func TestCompilingIsBounded(t *testing.T) {
	s := schema(t)
	for name, text := range abuses() {
		t.Run(name, func(t *testing.T) {
			begin := time.Now()
			op, errs := s.Compile("published", Request{Query: text})
			took := time.Since(begin)
			if took > longest {
				t.Errorf("it took %v", took)
			}
			t.Logf("%v: %d bytes, %v", took, len(text), errs)
			if op != nil && len(op.Key()) > 256<<10 {
				t.Errorf("the plan has %d bytes", len(op.Key()))
			}
		})
	}
}

// TestTheSchemaIsDescribedOnce asks for it as tools do, and then far too often.
func TestTheSchemaIsDescribedOnce(t *testing.T) {
	s := schema(t)
	if _, errs := s.Compile("published", Request{Query: "{ __schema { types { name kind description fields { name " +
		"args { name type { name ofType { name } } } type { kind name ofType { kind name ofType { name } } } } " +
		"inputFields { name type { name ofType { name } } } enumValues { name } possibleTypes { name } } } }"}); len(
		errs,
	) > 0 {
		t.Errorf("as tools ask: %v", errs)
	}
	_, errs := s.Compile("published", Request{Query: abuses()["the schema, hundreds of times"]})
	if len(errs) == 0 || !strings.Contains(errs[0].Message, "schema") {
		t.Errorf("hundreds of times: %v", errs)
	}
}

// written renders an answer of which nothing limits the size.
func written(t *testing.T, op *Operation, res *query.Result) []byte {
	t.Helper()
	res.MostBytes = 1 << 20
	out, err := op.Write(res)
	if err != nil {
		t.Fatal(err)
	}
	return out
}
