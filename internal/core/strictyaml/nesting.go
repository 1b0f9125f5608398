package strictyaml

import "strings"

// MaxNesting bounds how deep the values of a file are nested.
const MaxNesting = 64

// tooDeep returns the line at which src is nested deeper than MaxNesting, about, or 0.
// It is looked at before the file is parsed, which takes memory for every level.
func tooDeep(src string) int {
	flow := 0
	var indents []int
	n := 0
	for line := range strings.Lines(src) {
		n++
		rest := strings.TrimLeft(line, " ")
		if strings.TrimSpace(rest) == "" {
			continue
		}
		indent := len(line) - len(rest)
		for len(indents) > 0 && indents[len(indents)-1] >= indent {
			indents = indents[:len(indents)-1]
		}
		indents = append(indents, indent)
		dashes := 0
		for strings.HasPrefix(rest, "- ") || strings.HasPrefix(rest, "? ") {
			rest = strings.TrimLeft(rest[2:], " ")
			dashes++
		}
		quote := rune(0)
		for _, r := range rest {
			switch {
			case quote != 0:
				if r == quote {
					quote = 0
				}
			case r == '"' || r == '\'':
				quote = r
			case r == '[' || r == '{':
				flow++
			case (r == ']' || r == '}') && flow > 0:
				flow--
			}
			if flow > MaxNesting {
				return n
			}
		}
		if len(indents)+dashes > MaxNesting {
			return n
		}
	}
	return 0
}
