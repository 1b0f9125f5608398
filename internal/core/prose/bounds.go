package prose

import (
	"fmt"
	"strings"
)

// The bounds of a text. Parsing takes time that grows with the square of what one block
// may begin and never end: with these bounds no text takes long.
const (
	// MaxBytes bounds the text.
	MaxBytes = 500_000
	// maxMarks bounds the signs in one block that may begin or end emphasis, a link, an
	// image or code.
	maxMarks = 4_000
	// maxWork bounds the sum of the squares of those signs over all blocks.
	maxWork = 4 * maxMarks * maxMarks
	// maxNesting bounds the quotes and lists that one line begins.
	maxNesting = 32
	// maxCells bounds the cells of a table, those that its rows leave out included.
	maxCells = 20_000
)

// Check returns why a text is not rendered, nil if it is.
func Check(source string) error {
	if len(source) > MaxBytes {
		return fmt.Errorf("the text has %d bytes, at most %d are rendered", len(source), MaxBytes)
	}
	marks, work, lines, columns, n := 0, 0, 0, 0, 0
	for line := range strings.Lines(source) {
		n++
		if strings.TrimSpace(line) == "" {
			work += marks * marks
			marks, lines, columns = 0, 0, 0
			continue
		}
		lines++
		bars, nesting, begun := 0, 0, false
		for i := 0; i < len(line); i++ {
			switch c := line[i]; c {
			case '*', '_', '~', '^', '[', ']', '!', '`', '<':
				marks++
				if !begun && c == '*' {
					nesting++
				} else {
					begun = true
				}
			case '>', '-', '+':
				if !begun {
					nesting++
				}
			case '|':
				bars++
				begun = true
			case ' ', '\t':
			default:
				if !begun && (c < '0' || c > '9') && c != '.' && c != ')' {
					begun = true
				} else if !begun && (c == '.' || c == ')') {
					nesting++
				}
			}
		}
		columns = max(columns, bars+1)
		switch {
		case nesting > maxNesting && strings.Trim(line, "-*_ \t\r\n") != "":
			return fmt.Errorf(
				"line %d begins %d quotes or lists in each other, at most %d are allowed", n, nesting, maxNesting,
			)
		case marks > maxMarks:
			return fmt.Errorf(
				"the paragraph that line %d is in has more than %d signs of markup; part it with an empty line", n,
				maxMarks,
			)
		case work+marks*marks > maxWork:
			return fmt.Errorf(
				"up to line %d there are too many paragraphs with thousands of signs of markup; part them with "+
					"empty lines",
				n,
			)
		case columns > 1 && columns*lines > maxCells:
			return fmt.Errorf("the table that line %d is in has more than %d cells", n, maxCells)
		}
	}
	return nil
}

var escapes = strings.NewReplacer(
	`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "~", `\~`, "^", `\^`, "[", `\[`, "]", `\]`, "<", "&lt;", ">", "&gt;",
	"&", "&amp;", "#", `\#`, "+", `\+`, "-", `\-`, "|", `\|`, "!", `\!`, "=", `\=`, ".", `\.`, ")", `\)`, "\r", " ",
	"\n", " ", "\t", " ",
)

// escapeAll writes a text as CommonMark in which nothing of it is markup. It is cut to
// what can be rendered.
func escapeAll(source string) string {
	return escapes.Replace(strings.ToValidUTF8(source[:min(len(source), MaxBytes)], ""))
}
