package prose

import (
	"bytes"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/yuin/goldmark/ast"
	"golang.org/x/net/html"
)

// MostHTML bounds HTML that is converted, in bytes.
const MostHTML = 1 << 20

// dropped are the elements that CommonMark has nothing for, and that are not safe, or mean
// nothing, without what belongs to them.
var dropped = map[string]bool{
	"script":   true,
	"style":    true,
	"iframe":   true,
	"object":   true,
	"embed":    true,
	"applet":   true,
	"form":     true,
	"input":    true,
	"button":   true,
	"select":   true,
	"textarea": true,
	"video":    true,
	"audio":    true,
	"canvas":   true,
	"svg":      true,
	"math":     true,
	"template": true,
	"link":     true,
	"meta":     true,
	"base":     true,
}

// FromHTML converts HTML to CommonMark: headings, lists, tables, quotes, code, links,
// images and figures are kept, entities decoded, and addresses made absolute by the base,
// if there is one. What cannot be kept is told, each kind once, with how often.
func FromHTML(source string, base *url.URL) (text string, lost []string, err error) {
	if len(source) > MostHTML {
		return "", nil, fmt.Errorf("the HTML has %d bytes, at most %d are taken", len(source), MostHTML)
	}
	doc, err := html.Parse(strings.NewReader(source))
	if err != nil {
		return "", nil, fmt.Errorf("the HTML cannot be read: %w", err)
	}
	counts := map[string]int{}
	clean(doc, base, counts)
	var cleaned bytes.Buffer
	if err := html.Render(&cleaned, doc); err != nil {
		return "", nil, fmt.Errorf("the HTML cannot be read: %w", err)
	}
	out, err := toCommonMark.ConvertString(cleaned.String())
	if err != nil {
		return "", nil, fmt.Errorf("the HTML cannot be converted: %w", err)
	}
	return out, tell(counts), nil
}

// clean takes out what cannot be kept, and makes addresses absolute.
func clean(n *html.Node, base *url.URL, counts map[string]int) {
	for c := n.FirstChild; c != nil; {
		next := c.NextSibling
		switch {
		case c.Type == html.CommentNode:
			n.RemoveChild(c)
		case c.Type == html.ElementNode && dropped[c.Data]:
			counts["<"+c.Data+">"]++
			n.RemoveChild(c)
		default:
			clean(c, base, counts)
			if !address(c, base, counts) { // its text stays
				for inner := c.FirstChild; inner != nil; inner = c.FirstChild {
					c.RemoveChild(inner)
					n.InsertBefore(inner, c)
				}
				n.RemoveChild(c)
			}
		}
		c = next
	}
}

// address looks after the address of a link or an image. It returns false if that leads
// nowhere that is safe.
func address(n *html.Node, base *url.URL, counts map[string]int) bool {
	name := map[string]string{"a": "href", "img": "src"}[n.Data]
	for i, a := range n.Attr {
		if name == "" || a.Key != name {
			continue
		}
		href, entry := target(a.Val)
		if href == "" && a.Val != "" {
			counts["a link to "+schemeOf(a.Val)]++
			return false
		}
		if u, err := url.Parse(href); err == nil && base != nil && entry == "" && !strings.HasPrefix(href, "#") {
			n.Attr[i].Val = base.ResolveReference(u).String()
		}
		break
	}
	return true
}

func schemeOf(address string) string {
	scheme, _, colon := strings.Cut(strings.TrimSpace(address), ":")
	if !colon || len(scheme) > 20 {
		return "no address"
	}
	return strings.ToLower(scheme) + ":"
}

func tell(counts map[string]int) []string {
	var out []string
	for _, what := range slices.Sorted(maps.Keys(counts)) {
		if counts[what] > 1 {
			what += fmt.Sprintf(" (%d times)", counts[what])
		}
		out = append(out, what)
	}
	return out
}

// Lost tells what of a CommonMark text is not delivered, since it is not safe or HTML: each
// kind once, with how often.
func Lost(source string, marks []string) []string {
	if !strings.ContainsAny(source, "<(]") || Check(source) != nil {
		return nil
	}
	src := []byte(source)
	_, doc := parse(src, marks)
	counts := map[string]int{}
	tags := func(raw []byte) {
		z := html.NewTokenizer(bytes.NewReader(raw))
		for {
			switch z.Next() {
			case html.ErrorToken:
				return
			case html.StartTagToken, html.SelfClosingTagToken:
				name, _ := z.TagName()
				counts["<"+string(name)+">"]++
			}
		}
	}
	leads := func(destination []byte) {
		if href, entry := target(string(destination)); href == "" && entry == "" && len(destination) > 0 {
			counts["a link to "+schemeOf(string(destination))]++
		}
	}
	_ = ast.Walk(doc, func(n ast.Node, entering bool) (ast.WalkStatus, error) { // returns no error
		if !entering {
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.RawHTML:
			for i := range n.Segments.Len() {
				segment := n.Segments.At(i)
				tags(segment.Value(src))
			}
		case *ast.HTMLBlock:
			var block []byte
			for i := range n.Lines().Len() {
				line := n.Lines().At(i)
				block = append(block, line.Value(src)...)
			}
			tags(block)
		case *ast.Link:
			leads(n.Destination)
		case *ast.Image:
			leads(n.Destination)
		}
		return ast.WalkContinue, nil
	})
	return tell(counts)
}
