package filter

import (
	"strings"
	"testing"
)

// TestReferencesAreComparedAsTheyAreDelivered names the conditions on references by the
// entries that they lead to.
func TestReferencesAreComparedAsTheyAreDelivered(t *testing.T) {
	m := harbour(t)
	route := m.Type("route")
	for src, want := range map[string]string{
		"A_CONTAINS(piers, ('a'))":         "piers.id = 'a'",
		"A_CONTAINS(piers, ('b', 'a'))":    "(piers.id = 'a' AND piers.id = 'b')",
		"A_CONTAINEDBY(('a'), piers)":      "piers.id = 'a'",
		"A_CONTAINEDBY(piers, ('a', 'b'))": "NOT piers.id OUTSIDE ('a', 'b')",
		"A_OVERLAPS(piers, ('a', 'b'))":    "piers.id IN ('a', 'b')",
		"A_EQUALS(piers, ())":              "(NOT piers.id >= '' AND TRUE)",
		"piers IS NULL":                    "NOT piers.id >= ''",
		"start = 'a'":                      "start.id = 'a'",
		"start IN ('a', 'b')":              "start.id IN ('a', 'b')",
		"start LIKE 'a%'":                  "start.id LIKE 'a%'",
		"start IS NOT NULL":                "NOT start.id IS NULL",
		"number = 4 OR TRUE":               "(TRUE OR number = 4)",
	} {
		f, err := Parse(src, m, route)
		if err != nil || f.String() != want {
			t.Errorf("%s: %v, %v", src, f, err)
			continue
		}
		if strings.Contains(want, ".id") && len(f.Reads()) < 2 {
			t.Errorf("%s does not say that it reads other entries: %v", src, f.Reads())
		}
	}
	for src, want := range map[string]string{"A_CONTAINS(piers, piers)": "ids in brackets", "piers.routes.start " +
		"IS NULL": "behind a list", "A_EQUALS(piers.routes.piers, ('a'))": "behind a list"} {
		if _, err := Parse(src, m, route); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", src, err)
		}
	}
}
