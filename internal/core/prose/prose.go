// Package prose turns CommonMark, the form in which prose is stored, into the
// forms in which it is delivered. Whatever comes out is safe to put on a page:
// HTML is sanitised, always.
package prose

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/text"
)

// Forms holds one piece of prose in every form of delivery.
type Forms struct {
	HTML       string `json:"html"`
	Inline     string `json:"inline"` // no wrapping paragraph
	CommonMark string `json:"commonmark"`
	Plain      string `json:"plain"`
}

// Names lists the forms as they are asked for.
var Names = []string{"html", "inline", "commonmark", "plain"}

var (
	markdown = goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough, extension.TaskList))
	policy   = newPolicy()
)

func newPolicy() *bluemonday.Policy {
	p := bluemonday.UGCPolicy()
	p.AllowAttrs("class").Matching(regexp.MustCompile(`^language-[\w+-]+$`)).OnElements("code")
	p.AllowAttrs("type").Matching(regexp.MustCompile(`^checkbox$`)).OnElements("input")
	p.AllowAttrs("checked", "disabled").Matching(regexp.MustCompile(`^$`)).OnElements("input")
	p.AllowAttrs("style").OnElements("td", "th")
	p.AllowStyles("text-align").MatchingEnum("left", "center", "right").OnElements("td", "th")
	return p
}

// Render gives all forms of a CommonMark text.
func Render(source string) Forms {
	src := []byte(source)
	tree := markdown.Parser().Parse(text.NewReader(src))
	var html bytes.Buffer
	// Writing to a bytes.Buffer cannot fail.
	_ = markdown.Renderer().Render(&html, src, tree)
	safe := strings.TrimSpace(string(policy.SanitizeBytes(html.Bytes())))
	return Forms{HTML: safe, Inline: inline(safe), CommonMark: source, Plain: plain(tree, src)}
}

// inline takes the paragraph tags off: a single paragraph loses its wrapping,
// several are parted by line breaks. Other blocks stay as they are.
func inline(html string) string {
	html = strings.ReplaceAll(html, "</p>\n<p>", "<br><br>")
	html = strings.ReplaceAll(html, "<p>", "")
	return strings.ReplaceAll(html, "</p>", "")
}

func plain(tree ast.Node, src []byte) string {
	var out strings.Builder
	// The walk's function returns no error.
	_ = ast.Walk(tree, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if !entering {
			if n.Type() == ast.TypeBlock && n.NextSibling() != nil {
				out.WriteString("\n")
				if n.Kind() == ast.KindParagraph || n.Kind() == ast.KindHeading {
					out.WriteString("\n")
				}
			}
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.Text:
			out.Write(n.Segment.Value(src))
			if n.SoftLineBreak() || n.HardLineBreak() {
				out.WriteByte(' ')
			}
		case *ast.String:
			out.Write(n.Value)
		case *ast.AutoLink:
			out.Write(n.URL(src))
		case *ast.CodeBlock, *ast.FencedCodeBlock:
			for i := range n.Lines().Len() {
				line := n.Lines().At(i)
				out.Write(line.Value(src))
			}
		}
		return ast.WalkContinue, nil
	})
	return strings.TrimSpace(out.String())
}
