package filter

import (
	"strings"

	"golang.org/x/text/cases"
	"golang.org/x/text/language"
	"golang.org/x/text/unicode/norm"
)

// fold is what CASEI and ACCENTI make of a text.
func fold(s string, caseI, accentI bool) string {
	if accentI {
		s = strings.Map(func(r rune) rune {
			if r >= 0x300 && r <= 0x36f {
				return -1
			}
			return r
		}, norm.NFD.String(s))
	}
	if caseI {
		s = cases.Lower(language.Und).String(s)
	}
	return s
}

// like holds a text against a pattern; the pattern ends in no lone backslash.
func like(s, pattern string) bool {
	text, p := []rune(s), []rune(pattern)
	// At star the pattern may begin again, one character on.
	i, j, star, mark := 0, 0, -1, 0
	for i < len(text) {
		switch {
		case j < len(p) && p[j] == '%':
			star, mark = j, i
			j++
		case j < len(p) && p[j] == '_':
			i, j = i+1, j+1
		case j < len(p) && p[j] == '\\' && p[j+1] == text[i]:
			i, j = i+1, j+2
		case j < len(p) && p[j] != '\\' && p[j] == text[i]:
			i, j = i+1, j+1
		case star >= 0:
			mark++
			i, j = mark, star+1
		default:
			return false
		}
	}
	for j < len(p) && p[j] == '%' {
		j++
	}
	return j == len(p)
}
