package pages

import (
	"strings"

	"ubiquon/internal/core/access"
)

// rightsText writes grants in a form that grantsOf reads.
func rightsText(r access.Rights) string {
	var out []string
	for _, g := range append(r.Open[:len(r.Open):len(r.Open)], r.Own...) {
		out = append(out, g.String())
	}
	return strings.Join(out, "\n")
}

func grantsOf(text string) (access.Grants, error) {
	return access.ParseGrants(strings.Split(text, "\n"))
}
