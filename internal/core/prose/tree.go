package prose

import (
	"net/url"
	"slices"
	"strings"
	"unicode"

	"github.com/yuin/goldmark/ast"
	extended "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/util"
)

// Node is one node of the tree form. Kind is document, paragraph, heading (with
// Level), quote, list (Ordered, Start), item (Checked, for a task), rule,
// codeBlock (Text, Language), table, row (Header), cell (Align), or, within
// those, text (Text), code (Text), emphasis, strong, strikethrough, superscript,
// subscript, break, link (Href, Title; Entry, when it leads to one), image (Src,
// Alt, Title) and entry (an entry embedded in the text: Entry, Href, Alt). HTML
// in the text is no part of the tree.
type Node struct {
	Kind     string  `json:"kind"`
	Text     string  `json:"text,omitempty"`
	Level    int     `json:"level,omitempty"`
	Language string  `json:"language,omitempty"`
	Ordered  bool    `json:"ordered,omitempty"`
	Start    int     `json:"start,omitempty"`
	Checked  *bool   `json:"checked,omitempty"`
	Header   bool    `json:"header,omitempty"`
	Align    string  `json:"align,omitempty"`
	Href     string  `json:"href,omitempty"`
	Src      string  `json:"src,omitempty"`
	Alt      string  `json:"alt,omitempty"`
	Title    string  `json:"title,omitempty"`
	Entry    string  `json:"entry,omitempty"`
	Children []*Node `json:"children,omitempty"`
}

type treeBuilder struct{ src []byte }

func (b *treeBuilder) children(n ast.Node) []*Node {
	var out []*Node
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		for _, node := range b.node(c) {
			// Neighbouring texts are one.
			if last := len(out) - 1; node.Kind == "text" && last >= 0 && out[last].Kind == "text" {
				out[last].Text += node.Text
				continue
			}
			out = append(out, node)
		}
	}
	return out
}

func (b *treeBuilder) node(n ast.Node) []*Node {
	one := func(node Node) []*Node {
		if n.HasChildren() && node.Children == nil && node.Kind != "image" && node.Kind != "entry" &&
			node.Kind != "code" {
			node.Children = b.children(n)
		}
		return []*Node{&node}
	}
	switch n := n.(type) {
	case *ast.Paragraph:
		return one(Node{Kind: "paragraph"})
	case *ast.TextBlock:
		return b.children(n)
	case *ast.Heading:
		return one(Node{Kind: "heading", Level: n.Level})
	case *ast.Blockquote:
		return one(Node{Kind: "quote"})
	case *ast.List:
		node := Node{Kind: "list", Ordered: n.IsOrdered()}
		if n.IsOrdered() {
			node.Start = n.Start
		}
		return one(node)
	case *ast.ListItem:
		node := Node{Kind: "item"}
		if box := taskBox(n); box != nil {
			node.Checked = &box.IsChecked
		}
		return one(node)
	case *ast.ThematicBreak:
		return one(Node{Kind: "rule"})
	case *ast.FencedCodeBlock:
		return one(Node{Kind: "codeBlock", Text: b.lines(n), Language: string(n.Language(b.src))})
	case *ast.CodeBlock:
		return one(Node{Kind: "codeBlock", Text: b.lines(n)})
	case *extended.Table:
		return one(Node{Kind: "table"})
	case *extended.TableHeader:
		return one(Node{Kind: "row", Header: true})
	case *extended.TableRow:
		return one(Node{Kind: "row"})
	case *extended.TableCell:
		node := Node{Kind: "cell"}
		if n.Alignment != extended.AlignNone {
			node.Align = n.Alignment.String()
		}
		return one(node)
	}
	return b.inline(n, one)
}

// inline makes nodes of what stands within a line.
func (b *treeBuilder) inline(n ast.Node, one func(Node) []*Node) []*Node {
	switch n := n.(type) {
	case *ast.Emphasis:
		kind := "emphasis"
		if n.Level == 2 {
			kind = "strong"
		}
		return one(Node{Kind: kind})
	case *extended.Strikethrough:
		return one(Node{Kind: "strikethrough"})
	case *markNode:
		return one(Node{Kind: map[ast.NodeKind]string{
			markKinds["sup"]: Superscript,
			markKinds["sub"]: Subscript,
		}[n.kind]})
	case *ast.CodeSpan:
		return one(Node{Kind: "code", Text: plain(n, b.src)})
	case *ast.Link:
		href, entry := target(string(n.Destination))
		return one(Node{Kind: "link", Href: href, Entry: entry, Title: string(n.Title)})
	case *ast.AutoLink:
		address := string(n.URL(b.src))
		href, _ := target(address)
		if n.AutoLinkType == ast.AutoLinkEmail {
			href = "mailto:" + address
		}
		return one(Node{Kind: "link", Href: href, Children: []*Node{{Kind: "text", Text: string(n.Label(b.src))}}})
	case *ast.Image:
		href, entry := target(string(n.Destination))
		if entry != "" {
			return one(Node{Kind: "entry", Entry: entry, Href: href, Alt: plain(n, b.src)})
		}
		return one(Node{Kind: "image", Src: href, Alt: plain(n, b.src), Title: string(n.Title)})
	case *ast.Text:
		out := []*Node{{Kind: "text", Text: textOf(n, b.src)}}
		if n.HardLineBreak() {
			return append(out, &Node{Kind: "break"})
		}
		if n.SoftLineBreak() {
			out[0].Text += " "
		}
		return out
	case *ast.String:
		return one(Node{Kind: "text", Text: string(n.Value)})
	}
	return nil // HTML, and the box of a task, which its item has
}

func (b *treeBuilder) lines(n ast.Node) string {
	var out strings.Builder
	for i := range n.Lines().Len() {
		line := n.Lines().At(i)
		out.Write(line.Value(b.src))
	}
	return out.String()
}

func taskBox(item *ast.ListItem) *extended.TaskCheckBox {
	if first := item.FirstChild(); first != nil {
		box, _ := first.FirstChild().(*extended.TaskCheckBox)
		return box
	}
	return nil
}

// target says where a link leads: nowhere, when that would not be safe; to an
// entry, when it is a ref. It is read as a browser would: escapes and entities count for
// what they stand for.
func target(destination string) (href, entry string) {
	resolved := string(
		util.ResolveEntityNames(util.ResolveNumericReferences(util.UnescapePunctuations([]byte(destination)))),
	)
	u, err := url.Parse(strings.TrimSpace(resolved))
	switch {
	case err != nil || strings.ContainsFunc(resolved, unicode.IsControl):
		return "", ""
	case u.Scheme == "ref":
		return resolved, u.Opaque
	case u.Scheme == "" && !schemeLike(resolved) ||
		slices.Contains([]string{"http", "https", "mailto", "tel"}, u.Scheme):
		return resolved, ""
	}
	return "", ""
}

// schemeLike tells whether somebody might take the beginning of an address for a
// scheme, whatever RFC 3986 says.
func schemeLike(address string) bool {
	before, _, colon := strings.Cut(address, ":")
	return colon && !strings.ContainsAny(before, "/?#")
}

// walk calls f for the node and all below it.
func (n *Node) walk(f func(*Node)) {
	f(n)
	for _, c := range n.Children {
		c.walk(f)
	}
}

// decoded is the node as encoding/json decodes it, with links to entries resolved.
func (n *Node) decoded(find func(id string) Target) map[string]any {
	out := map[string]any{"kind": n.Kind}
	put := func(name, value string) {
		if value != "" {
			out[name] = value
		}
	}
	put("text", n.Text)
	put("language", n.Language)
	put("align", n.Align)
	put("src", n.Src)
	put("alt", n.Alt)
	put("title", n.Title)
	if n.Level != 0 {
		out["level"] = float64(n.Level)
	}
	if n.Start != 0 {
		out["start"] = float64(n.Start)
	}
	if n.Ordered {
		out["ordered"] = true
	}
	if n.Header {
		out["header"] = true
	}
	if n.Checked != nil {
		out["checked"] = *n.Checked
	}
	if n.Entry == "" {
		put("href", n.Href)
	} else {
		to := find(n.Entry)
		if out["href"] = to.Path; to.Visible {
			out["entry"] = n.Entry
		}
	}
	if len(n.Children) > 0 {
		children := make([]any, len(n.Children))
		for i, c := range n.Children {
			children[i] = c.decoded(find)
		}
		out["children"] = children
	}
	return out
}
