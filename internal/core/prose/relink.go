package prose

import (
	"regexp"
	"slices"
	"strings"

	"github.com/yuin/goldmark/ast"
)

// Relink replaces the destinations of links in a CommonMark text: to says by what, "" to leave one as it is.
// Code is left alone. A text that Check refuses is returned as it is.
func Relink(source string, marks []string, to func(destination string, image bool) string) string {
	if !strings.Contains(source, "](") && !strings.Contains(source, "]:") || Check(source) != nil {
		return source
	}
	src := []byte(source)
	_, doc := parse(src, marks)
	others := map[string]string{}
	var code [][2]int
	note := func(destination []byte, image bool) {
		at := string(destination)
		if _, known := others[at]; known || at == "" {
			return
		}
		if other := to(at, image); other != "" {
			others[at] = other
		}
	}
	_ = ast.Walk(doc, func(n ast.Node, entering bool) (ast.WalkStatus, error) { // returns no error
		if !entering {
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.Link:
			note(n.Destination, false)
		case *ast.Image:
			note(n.Destination, true)
		case *ast.CodeSpan:
			for c := n.FirstChild(); c != nil; c = c.NextSibling() {
				if text, is := c.(*ast.Text); is {
					code = append(code, [2]int{text.Segment.Start, text.Segment.Stop})
				}
			}
		case *ast.FencedCodeBlock, *ast.CodeBlock:
			for i := range n.Lines().Len() {
				line := n.Lines().At(i)
				code = append(code, [2]int{line.Start, line.Stop})
			}
		}
		return ast.WalkContinue, nil
	})
	if len(others) == 0 {
		return source
	}
	var quoted []string
	for at := range others {
		quoted = append(quoted, regexp.QuoteMeta(at))
	}
	slices.SortFunc(quoted, func(a, b string) int { return len(b) - len(a) })
	places := regexp.MustCompile(`(?m)(?:\]\([ \t]*<?|^ {0,3}\[[^\]\n]+\]:[ \t]*<?)(` + strings.Join(quoted, "|") +
		`)(?:[>) \t]|$)`)
	var out strings.Builder
	done := 0
	for _, at := range places.FindAllStringSubmatchIndex(source, -1) {
		within := func(c [2]int) bool { return at[2] >= c[0] && at[3] <= c[1] }
		if slices.ContainsFunc(code, within) {
			continue
		}
		out.WriteString(source[done:at[2]])
		out.WriteString(others[source[at[2]:at[3]]])
		done = at[3]
	}
	out.WriteString(source[done:])
	return out.String()
}
