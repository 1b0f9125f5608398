package graphql

import (
	"encoding/json"
	"strings"
	"testing"

	"ubiquon/internal/core/query"
	"ubiquon/internal/testkit"
)

// TestShorthandFilters holds filters as GraphQL has them against the same in
// CQL2, both as literals and as a variable.
func TestShorthandFilters(t *testing.T) {
	m := testkit.Model(t, testkit.Ferries)
	s := schema(t)
	for text, c := range map[string]struct{ cql, json string }{
		`{name: {eq: "Ring"}}`:     {`name = 'Ring'`, `{"name": {"eq": "Ring"}}`},
		`{name: {ne: "it's"}}`:     {`name <> 'it''s'`, `{"name": {"ne": "it's"}}`},
		`{name: {in: ["A", "B"]}}`: {`name IN ('A', 'B')`, `{"name": {"in": ["A", "B"]}}`},
		`{name: {in: []}}`:         {`FALSE`, `{"name": {"in": []}}`},
		`{name: {like: "a%", anyCase: true}}`: {
			`CASEI(name) LIKE CASEI('a%')`,
			`{"name": {"like": "a%", "anyCase": true}}`,
		},
		`{name: {eq: "Østra", anyAccent: true}}`: {
			`ACCENTI(name) = ACCENTI('Østra')`,
			`{"name": {"eq": "Østra", "anyAccent": true}}`,
		},
		`{name: {gt: "a", le: "b"}}`: {
			`name > 'a' AND name <= 'b'`,
			`{"name": {"gt": "a", "le": "b"}}`,
		},
		`{number: {ge: 3, lt: 5}}`: {
			`number >= 3 AND number < 5`,
			`{"number": {"ge": 3, "lt": 5}}`,
		},
		`{price: {gt: 1200}}`:      {`price > 1200`, `{"price": {"gt": 1200}}`},
		`{open: {eq: true}}`:       {`open = TRUE`, `{"open": {"eq": true}}`},
		`{open: {eq: false}}`:      {`open = FALSE`, `{"open": {"eq": false}}`},
		`{number: {isNull: true}}`: {`number IS NULL`, `{"number": {"isNull": true}}`},
		`{number: {isNull: false}}`: {
			`NOT number IS NULL`,
			`{"number": {"isNull": false}}`,
		},
		`{season: {eq: SUMMER}}`: {`season = 'summer'`, `{"season": {"eq": "SUMMER"}}`},
		`{season: {in: [SUMMER, WINTER]}}`: {
			`season IN ('summer', 'winter')`,
			`{"season": {"in": ["SUMMER", "WINTER"]}}`,
		},
		`{day: {ge: "2026-11-27"}}`: {
			`day >= DATE('2026-11-27')`,
			`{"day": {"ge": "2026-11-27"}}`,
		},
		`{since: {lt: "2026-11-27T08:00:00Z"}}`: {
			`since < TIMESTAMP('2026-11-27T08:00:00Z')`,
			`{"since": {"lt": "2026-11-27T08:00:00Z"}}`,
		},
		`{since: {isPast: true}}`: {`since < now()`, `{"since": {"isPast": true}}`},
		`{since: {isFuture: false}}`: {
			`NOT since > now()`,
			`{"since": {"isFuture": false}}`,
		},
		`{published: {isNull: true}}`: {
			`published IS NULL`,
			`{"published": {"isNull": true}}`,
		},
		`{tags: {contains: ["fog"]}}`: {
			`A_CONTAINS(tags, ('fog'))`,
			`{"tags": {"contains": ["fog"]}}`,
		},
		`{tags: {equals: ["fog", "ice"]}}`: {
			`A_EQUALS(tags, ('fog', 'ice'))`,
			`{"tags": {"equals": ["fog", "ice"]}}`,
		},
		`{tags: {containedBy: ["fog"]}}`: {
			`A_CONTAINEDBY(tags, ('fog'))`,
			`{"tags": {"containedBy": ["fog"]}}`,
		},
		`{tags: {overlaps: ["fog"]}}`: {
			`A_OVERLAPS(tags, ('fog'))`,
			`{"tags": {"overlaps": ["fog"]}}`,
		},
		`{text: {isNull: true}}`:  {`text IS NULL`, `{"text": {"isNull": true}}`},
		`{start: {isNull: true}}`: {`start IS NULL`, `{"start": {"isNull": true}}`},
		`{piers: {name: {eq: "Mella"}}}`: {
			`piers.name = 'Mella'`,
			`{"piers": {"name": {"eq": "Mella"}}}`,
		},
		`{id: {in: ["r1"]}}`: {`id IN ('r1')`, `{"id": {"in": ["r1"]}}`},
		`{name: {eq: "A"}, number: {eq: 1}}`: {
			`name = 'A' AND number = 1`,
			`{"name": {"eq": "A"}, "number": {"eq": 1}}`,
		},
		`{or: [{number: {eq: 1}}, {number: {eq: 2}}]}`: {
			`number = 1 OR number = 2`,
			`{"or": [{"number": {"eq": 1}}, {"number": {"eq": 2}}]}`,
		},
		`{and: [{number: {gt: 1}}, {not: {open: {eq: true}}}]}`: {
			`number > 1 AND NOT open = TRUE`,
			`{"and": [{"number": {"gt": 1}}, {"not": {"open": {"eq": true}}}]}`,
		},
		`{or: []}`:                 {`FALSE`, `{"or": []}`},
		`{and: []}`:                {`TRUE`, `{"and": []}`},
		`{}`:                       {`TRUE`, `{}`},
		`{not: {}}`:                {`NOT TRUE`, `{"not": {}}`},
		`{number: null, open: {}}`: {`TRUE`, `{"number": null, "open": {}}`},
	} {
		want, err := query.ParseFilter("filter", c.cql, m, m.Type("route"))
		if err != nil {
			t.Fatalf("%s: %v", c.cql, err)
		}
		var variable any
		if err := json.Unmarshal([]byte(c.json), &variable); err != nil {
			t.Fatalf("%s: %v", c.json, err)
		}
		for how, r := range map[string]Request{
			"literal": {Query: "{ routes(filter: " + text + ") { totalCount } }"},
			"variable": {
				Query:     "query ($f: RouteFilter) { routes(filter: $f) { totalCount } }",
				Variables: map[string]any{"f": variable},
			},
		} {
			op, errs := s.Compile("published", r)
			if len(errs) > 0 {
				t.Errorf("%s as a %s: %v", text, how, errs)
				continue
			}
			if got := op.Query.Roots[0].Filter.String(); got != want.String() {
				t.Errorf("%s as a %s is %s, want %s", text, how, got, want)
			}
		}
	}
}

// TestFiltersThatAreWrong names what is wrong with a filter.
func TestFiltersThatAreWrong(t *testing.T) {
	s := schema(t)
	for text, want := range map[string]string{
		`{nam: {eq: "A"}}`:                                    `Field "nam" is not defined by type "RouteFilter"`,
		`{name: {like: 3}}`:                                   "String cannot represent",
		`{name: "A"}`:                                         "TextFilter",
		`{season: {eq: SPRING}}`:                              `Value "SPRING" does not exist in "RouteSeason" enum`,
		`{day: {eq: "yesterday"}}`:                            "yesterday",
		`{since: {lt: "2026-11-27"}}`:                         "2026-11-27",
		`{number: {gt: "3"}}`:                                 "Float cannot represent",
		`{number: {in: [1, "x"]}}`:                            "Float cannot represent",
		`{start: {name: {eq: "A"}}}`:                          `Field "name" is not defined by type "ValueFilter"`,
		`{piers: {number: {eq: 1}}}`:                          `Field "number" is not defined by type "PierFilter"`,
		`{tags: {contains: ["a", null]}}`:                     "null",
		`{since: {isPast: "yes"}}`:                            "Boolean cannot represent",
		`{name: {eq: "` + strings.Repeat("x", 20_000) + `"}}`: "filter",
	} {
		_, errs := s.Compile("published", Request{Query: "{ routes(filter: " + text + ") { totalCount } }"})
		if len(errs) == 0 || !strings.Contains(errs.Error(), want) {
			t.Errorf("%.60s: %.300v, want %q", text, errs, want)
		}
	}
}
