package prose

import (
	"slices"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/renderer"
	"github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"
)

// The extra marks: ^raised^ and ~lowered~. Subscript takes the single tilde from
// strikethrough, which keeps ~~two~~.
const (
	Superscript = "superscript"
	Subscript   = "subscript"
)

// readers holds a reader for every set of extra marks.
var readers = map[int]goldmark.Markdown{}

func init() {
	for set := range 4 {
		options := []goldmark.Option{goldmark.WithExtensions(extension.Table, twoTildesOnly{}, extension.TaskList)}
		for bit, m := range []struct {
			sign byte
			tag  string
		}{{'^', "sup"}, {'~', "sub"}} {
			if set>>bit&1 == 1 {
				mark := newMark(m.sign, m.tag)
				options = append(
					options, goldmark.WithParserOptions(parser.WithInlineParsers(util.Prioritized(mark, 400))),
					goldmark.WithRendererOptions(renderer.WithNodeRenderers(util.Prioritized(mark, 400))),
				)
			}
		}
		readers[set] = goldmark.New(options...)
	}
}

// twoTildesOnly is the strikethrough extension for two tildes: a single one, as in H~2~O,
// is no mark unless Subscript counts.
type twoTildesOnly struct{}

// Extend implements goldmark.Extender.
func (twoTildesOnly) Extend(m goldmark.Markdown) {
	m.Parser().
		AddOptions(parser.WithInlineParsers(util.Prioritized(twoTildes{extension.NewStrikethroughParser()}, 500)))
	m.Renderer().
		AddOptions(renderer.WithNodeRenderers(util.Prioritized(extension.NewStrikethroughHTMLRenderer(), 500)))
}

type twoTildes struct{ parser.InlineParser }

// Parse implements parser.InlineParser.
func (p twoTildes) Parse(parent ast.Node, block text.Reader, pc parser.Context) ast.Node {
	line, _ := block.PeekLine()
	if len(line) < 2 || line[1] != '~' {
		return nil
	}
	return p.InlineParser.Parse(parent, block, pc)
}

func markSet(marks []string) int {
	set := 0
	for bit, name := range []string{Superscript, Subscript} {
		if slices.Contains(marks, name) {
			set |= 1 << bit
		}
	}
	return set
}

// mark reads and writes one extra mark.
type mark struct {
	sign byte
	tag  string
	kind ast.NodeKind
}

var markKinds = map[string]ast.NodeKind{"sup": ast.NewNodeKind("Superscript"), "sub": ast.NewNodeKind("Subscript")}

func newMark(sign byte, tag string) *mark { return &mark{sign: sign, tag: tag, kind: markKinds[tag]} }

type markNode struct {
	ast.BaseInline
	kind ast.NodeKind
}

// Kind implements ast.Node.
func (n *markNode) Kind() ast.NodeKind { return n.kind }

// Dump implements ast.Node.
func (n *markNode) Dump(source []byte, level int) { ast.DumpHelper(n, source, level, nil, nil) }

// Trigger implements parser.InlineParser.
func (m *mark) Trigger() []byte { return []byte{m.sign} }

// Parse implements parser.InlineParser.
func (m *mark) Parse(_ ast.Node, block text.Reader, pc parser.Context) ast.Node {
	before := block.PrecendingCharacter()
	line, segment := block.PeekLine()
	node := parser.ScanDelimiter(line, before, 1, m)
	if node == nil || node.OriginalLength > 1 || before == rune(m.sign) {
		return nil
	}
	node.Segment = segment.WithStop(segment.Start + node.OriginalLength)
	block.Advance(node.OriginalLength)
	pc.PushDelimiter(node)
	return node
}

// IsDelimiter implements parser.DelimiterProcessor.
func (m *mark) IsDelimiter(b byte) bool { return b == m.sign }

// CanOpenCloser implements parser.DelimiterProcessor.
func (m *mark) CanOpenCloser(opener, closer *parser.Delimiter) bool {
	return opener.Char == closer.Char && opener.OriginalLength == closer.OriginalLength
}

// OnMatch implements parser.DelimiterProcessor.
func (m *mark) OnMatch(int) ast.Node { return &markNode{kind: m.kind} }

// RegisterFuncs implements renderer.NodeRenderer.
func (m *mark) RegisterFuncs(r renderer.NodeRendererFuncRegisterer) {
	r.Register(m.kind, func(w util.BufWriter, _ []byte, _ ast.Node, entering bool) (ast.WalkStatus, error) {
		open := "<"
		if !entering {
			open = "</"
		}
		_, err := w.WriteString(open + m.tag + ">")
		return ast.WalkContinue, err
	})
}
