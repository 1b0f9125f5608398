package prose

import (
	"strings"

	"github.com/JohannesKaufmann/html-to-markdown/v2/converter"
	"github.com/JohannesKaufmann/html-to-markdown/v2/plugin/base"
	"github.com/JohannesKaufmann/html-to-markdown/v2/plugin/commonmark"
	"github.com/JohannesKaufmann/html-to-markdown/v2/plugin/strikethrough"
	"github.com/JohannesKaufmann/html-to-markdown/v2/plugin/table"
	"github.com/yuin/goldmark/ast"
)

// unsafe tells whether a text has markup that is not delivered as it is: HTML, and
// links to what is no web address.
func unsafe(doc ast.Node, src []byte) bool {
	found := false
	leads := func(destination []byte) {
		href, entry := target(string(destination))
		found = found || href == "" && entry == "" && len(destination) > 0
	}
	_ = ast.Walk(doc, func(n ast.Node, entering bool) (ast.WalkStatus, error) { // returns no error
		switch n := n.(type) {
		case *ast.RawHTML, *ast.HTMLBlock:
			found = true
		case *ast.Link:
			leads(n.Destination)
		case *ast.Image:
			leads(n.Destination)
		case *ast.AutoLink:
			if n.AutoLinkType != ast.AutoLinkEmail {
				leads(n.URL(src))
			}
		}
		if found {
			return ast.WalkStop, nil
		}
		return ast.WalkContinue, nil
	})
	return found
}

var toCommonMark = converter.NewConverter(
	converter.WithPlugins(
		base.NewBasePlugin(), commonmark.NewCommonmarkPlugin(), strikethrough.NewStrikethroughPlugin(),
		table.NewTablePlugin(),
	),
)

// sanitised is the CommonMark of a text that has markup which is not delivered: made
// from its sanitised HTML, or, should that still hold something of the kind, its plain
// text.
func sanitised(html, plain string, marks []string) string {
	out, err := toCommonMark.ConvertString(html)
	if err == nil && Check(out) == nil {
		src := []byte(out)
		if _, doc := parse(src, marks); !unsafe(doc, src) {
			return out
		}
	}
	paragraphs := strings.Split(plain, "\n\n")
	for i, p := range paragraphs {
		paragraphs[i] = escapeAll(p)
	}
	return strings.Join(paragraphs, "\n\n")
}
