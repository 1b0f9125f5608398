package filter

import (
	"encoding/json"
	"strings"
	"time"
)

// Part is one of the conditions that a filter joins with AND.
type Part struct {
	// Text is the condition in its canonical form.
	Text string
	// Values are what the properties that it is about hold, as in severity =
	// 'delay'.
	Values []string
}

// Untrue returns the parts of the filter that are not true of a document, with
// what it has instead; none if the filter is true.
func (f *Filter) Untrue(d Document, now time.Time) []Part {
	parts := []Expr{f.Expr}
	if and, ok := f.Expr.(And); ok {
		parts = and.Parts
	}
	var out []Part
	for _, e := range parts {
		if (evaluation{now: now}).expr(e, d) == isTrue {
			continue
		}
		p := Part{Text: text(e)}
		walk(e, func(e Expr) {
			for _, n := range names(e) {
				p.Values = append(p.Values, n.String()+" is "+held(n, d))
			}
		})
		out = append(out, p)
	}
	return out
}

// held writes what a property holds.
func held(n *Name, d Document) string {
	var values []string
	for _, end := range ends(d, n.Steps) {
		if v := reach(n, end, true); v != nil {
			src, _ := json.Marshal(v) // came out of JSON
			values = append(values, string(src))
		}
	}
	if len(values) == 0 {
		return "NULL"
	}
	return strings.Join(values, ", ")
}
