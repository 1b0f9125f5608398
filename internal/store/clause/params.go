package clause

import (
	"strconv"
	"strings"
)

// Member returns the SQL of a member of a JSON value; bare: as text.
func Member(of, name string, bare bool) string {
	if bare {
		return of + " ->> " + Quote(name)
	}
	return of + " -> " + Quote(name)
}

// Quote returns a text as an SQL literal.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// Params collects a statement's arguments.
type Params []any

// Add adds a value and returns the placeholder that stands for it, with a cast.
func (p *Params) Add(v any, cast string) string {
	*p = append(*p, v)
	n := "$" + strconv.Itoa(len(*p))
	if cast != "" {
		n += "::" + cast
	}
	return n
}
