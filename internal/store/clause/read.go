package clause

import (
	"strconv"
	"strings"
)

func Member(of, name string, bare bool) string {
	if bare {
		return of + " ->> " + Quote(name)
	}
	return of + " -> " + Quote(name)
}

func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// params collects a statement's arguments.
type Params []any

func (p *Params) Add(v any, cast string) string {
	*p = append(*p, v)
	n := "$" + strconv.Itoa(len(*p))
	if cast != "" {
		n += "::" + cast
	}
	return n
}
