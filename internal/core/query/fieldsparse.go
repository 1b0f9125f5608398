package query

import (
	"slices"
	"strings"
)

// node is one name of a fields parameter with what stands in its brackets.
type node struct {
	name   string
	at     int               // where it stands, the first character being 1
	args   map[string]string // in square brackets
	nested []node
	given  bool // there were round brackets, even empty ones
	// shape is the shape that the entries are asked for in, as in writer(shape=card).
	shape string
}

// parseFields reads the text of a fields parameter: names parted by commas,
// each with an optional selection in brackets.
func parseFields(text string) ([]node, error) {
	p := &fieldParser{text: text}
	out, err := p.list(0)
	if err != nil {
		return nil, err
	}
	if p.at < len(p.text) {
		return nil, failAt(p.at+1, "take the bracket out", "a closing bracket too many at character %d", p.at+1)
	}
	return out, nil
}

// failAt is the error of something in a fields parameter.
func failAt(at int, hint, format string, args ...any) *Error {
	err := failf("fields", hint, format, args...)
	err.At = at
	return err
}

type fieldParser struct {
	text string
	at   int
}

func (p *fieldParser) list(depth int) ([]node, error) {
	if depth > MaxDepth+1 {
		return nil, failf(
			"fields", "ask for the inner entries in a request of their own", "brackets are nested more than %d deep",
			MaxDepth+1,
		)
	}
	var out []node
	for {
		start := p.at
		for p.at < len(p.text) && isNameByte(p.text[p.at]) {
			p.at++
		}
		n := node{name: p.text[start:p.at], at: start + 1}
		if n.name == "" {
			return nil, failAt(
				p.at+1, "write names parted by commas, as in title,routes(name)", "a name is missing at character %d",
				p.at+1,
			)
		}
		if p.at < len(p.text) && p.text[p.at] == '[' {
			if err := p.arguments(&n); err != nil {
				return nil, err
			}
		}
		if p.at < len(p.text) && p.text[p.at] == '(' {
			p.at++
			inner, shape, err := p.within(depth)
			if err != nil {
				return nil, err
			}
			n.shape = shape
			if p.at >= len(p.text) || p.text[p.at] != ')' {
				return nil, failAt(p.at, "close it with )", "the bracket behind %q is not closed", n.name)
			}
			p.at++
			n.nested, n.given = inner, true
		}
		if slices.ContainsFunc(out, func(o node) bool { return o.name == n.name }) {
			return nil, failAt(
				n.at, "name it once, with all that is wanted of it in one bracket, as in season(value,label)",
				"%q stands there twice", n.name,
			)
		}
		out = append(out, n)
		if p.at >= len(p.text) || p.text[p.at] == ')' {
			return out, nil
		}
		if p.text[p.at] != ',' {
			return nil, failAt(
				p.at+1, "write names parted by commas, as in title,routes(name)", "unexpected %q at character %d",
				p.text[p.at:p.at+1], p.at+1,
			)
		}
		p.at++
	}
}

// within reads what stands in round brackets: a list, or shape= and the name of a shape alone.
func (p *fieldParser) within(depth int) (inner []node, shape string, err error) {
	rest, is := strings.CutPrefix(p.text[p.at:], "shape=")
	if !is {
		inner, err = p.list(depth + 1)
		return inner, "", err
	}
	end := strings.IndexByte(rest, ')')
	if end < 0 {
		end = len(rest)
	}
	p.at += len("shape=") + end
	return nil, rest[:end], nil
}

// arguments reads what stands in square brackets: name=value, parted by commas. A
// part without a name goes on with the value before it.
func (p *fieldParser) arguments(n *node) error {
	parts, end := argumentParts(p.text[p.at+1:])
	if end < 0 {
		return failAt(p.at, "close it with ]", "the square bracket behind %q is not closed", n.name)
	}
	p.at += end + 2
	n.args = map[string]string{}
	last := ""
	for _, part := range parts {
		name, value, named := strings.Cut(part, "=")
		switch {
		case named && n.args[name] != "":
			return failAt(n.at, "give it once", "%q stands twice behind %q", name, n.name)
		case named && value != "":
			n.args[name], last = value, name
		case !named && last != "" && name != "":
			n.args[last] += "," + name
		default:
			return failAt(
				n.at, "write arguments as in [limit=3,sort=-published]", "%q behind %q is no argument", part, n.name,
			)
		}
	}
	return nil
}

// argumentParts cuts what stands before the closing bracket at its commas, of
// those that are neither in quotes nor in round brackets. end is where the bracket
// is, -1 if it is missing.
func argumentParts(text string) (parts []string, end int) {
	start, depth, quoted := 0, 0, false
	for i := range len(text) {
		switch c := text[i]; {
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == ']':
			return append(parts, text[start:i]), i
		case c == ',' && depth <= 0:
			parts, start = append(parts, text[start:i]), i+1
		}
	}
	return nil, -1
}

func isNameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-'
}
