// Package prose renders CommonMark, the form in which prose is stored, as sanitised HTML, plain
// text or a tree, and converts HTML to it. All work is bounded.
package prose

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"
)

// Names lists the forms of delivery as they are asked for.
var Names = []string{"html", "inline", "tree", "commonmark", "plain"}

var policy = newPolicy()

func newPolicy() *bluemonday.Policy {
	p := bluemonday.UGCPolicy()
	p.RequireNoFollowOnLinks(false) // links within the site are its own
	p.RequireNoFollowOnFullyQualifiedLinks(true)
	p.AllowURLSchemes("http", "https", "mailto", "tel", "ref") // ref: is followed before anybody gets it
	p.AllowAttrs("class").Matching(regexp.MustCompile(`^language-[\w+-]+$`)).OnElements("code")
	p.AllowAttrs("type").Matching(regexp.MustCompile(`^checkbox$`)).OnElements("input")
	p.AllowAttrs("checked", "disabled").Matching(regexp.MustCompile(`^$`)).OnElements("input")
	p.AllowAttrs("style").OnElements("td", "th")
	p.AllowStyles("text-align").MatchingEnum("left", "center", "right").OnElements("td", "th")
	return p
}

// parse reads CommonMark with tables, strikethrough, tasks and the extra marks.
func parse(src []byte, marks []string) (goldmark.Markdown, ast.Node) {
	m := readers[markSet(marks)]
	return m, m.Parser().Parse(text.NewReader(src))
}

// Target is what a link to an entry leads to, for a reader of one edition and locale.
type Target struct {
	// Path where it lives; "" if it has none.
	Path string
	// Visible says that such a reader can see the entry at all.
	Visible bool
}

// Rendered is a CommonMark text in all forms, but for where the links to entries lead.
// It does not change.
type Rendered struct {
	html, commonmark, plain string
	tree                    *Node
	// Targets are the ids of the entries that it links to, each once.
	Targets []string
}

// Render renders a CommonMark text. Marks are the extra marks that count in it. A text
// that Check refuses becomes one paragraph of plain text, so that the time it takes is
// bounded.
func Render(source string, marks []string) *Rendered {
	if Check(source) != nil {
		source = escapeAll(source)
	}
	src := []byte(source)
	m, doc := parse(src, marks)
	b := treeBuilder{src: src}
	out := &Rendered{
		tree:       &Node{Kind: "document", Children: b.children(doc)},
		plain:      plain(doc, src),
		commonmark: source,
	}
	out.tree.walk(func(n *Node) {
		if n.Entry != "" && !slices.Contains(out.Targets, n.Entry) {
			out.Targets = append(out.Targets, n.Entry)
		}
	})
	raw := unsafe(doc, src)
	embeddedToLinks(doc)
	var html bytes.Buffer
	_ = m.Renderer().Render(&html, src, doc) // writing to a bytes.Buffer cannot fail
	out.html = string(policy.SanitizeBytes(bytes.TrimSpace(html.Bytes())))
	if raw {
		out.commonmark = sanitised(out.html, out.plain, marks)
	}
	return out
}

// Forms gives all forms by name: the tree as encoding/json decodes it, the others as
// texts. find says where a link to an entry leads; of an entry that is not visible
// nothing is told, not even its id.
func (r *Rendered) Forms(find func(id string) Target) map[string]any {
	path := func(id string) string { return find(id).Path }
	html := string(resolveLinks([]byte(r.html), path))
	return map[string]any{
		"html":       html,
		"inline":     inline(html),
		"tree":       r.tree.decoded(find),
		"commonmark": string(resolveLinks([]byte(r.commonmark), path)),
		"plain":      r.plain,
	}
}

// embeddedToLinks makes links of embedded entries, which are written as images:
// HTML can only point to them.
func embeddedToLinks(tree ast.Node) {
	var found []*ast.Image
	_ = ast.Walk(tree, func(n ast.Node, entering bool) (ast.WalkStatus, error) { // returns no error
		if image, ok := n.(*ast.Image); ok && entering && bytes.HasPrefix(image.Destination, []byte("ref:")) {
			found = append(found, image)
		}
		return ast.WalkContinue, nil
	})
	for _, image := range found {
		link := ast.NewLink()
		link.Destination, link.Title = image.Destination, image.Title
		for c := image.FirstChild(); c != nil; {
			next := c.NextSibling()
			link.AppendChild(link, c)
			c = next
		}
		image.Parent().ReplaceChild(image.Parent(), image, link)
	}
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
			out.WriteString(textOf(n, src))
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

// textOf is what a text says: escapes and entities are resolved.
func textOf(n *ast.Text, src []byte) string {
	v := n.Segment.Value(src)
	if !n.IsRaw() {
		v = util.ResolveEntityNames(util.ResolveNumericReferences(util.UnescapePunctuations(v)))
	}
	return string(v)
}
