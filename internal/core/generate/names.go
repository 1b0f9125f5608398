package generate

import (
	"strings"
	"unicode"
)

// notice is the first line of every file that is written.
const notice = "Code generated from the content model by ubiquon generate; DO NOT EDIT."

// pascal turns harbour-settings and validUntil into HarbourSettings and
// ValidUntil.
func pascal(name string) string {
	var b strings.Builder
	up := true
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			up = true
		case up:
			b.WriteRune(unicode.ToUpper(r))
			up = false
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// given keeps the names of a file apart.
type given map[string]bool

// name returns the wanted name, or one like it that nobody has.
func (g given) name(wanted, suffix string) string {
	if wanted == "" || unicode.IsDigit(rune(wanted[0])) {
		wanted = "X" + wanted
	}
	for g[wanted] {
		wanted += suffix
	}
	g[wanted] = true
	return wanted
}
