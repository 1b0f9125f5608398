package prose

import (
	"strings"
	"testing"
	"time"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/renderer/html"
)

type forms struct{ HTML, Inline, Plain, CommonMark string }

func render(src string) forms {
	f := Render(src, nil).Forms(func(string) Target { return Target{} })
	return forms{f["html"].(string), f["inline"].(string), f["plain"].(string), f["commonmark"].(string)}
}

// elsewhere renders CommonMark as somebody might who trusts it.
func elsewhere(t *testing.T, src string) string {
	t.Helper()
	var out strings.Builder
	if err := goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough),
		goldmark.WithRendererOptions(html.WithUnsafe())).Convert([]byte(src), &out); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestForms(t *testing.T) {
	f := render("First *line*\nsame paragraph.\n\nSecond.")
	if f.HTML != "<p>First <em>line</em>\nsame paragraph.</p>\n<p>Second.</p>" {
		t.Errorf("html %q", f.HTML)
	}
	if f.Inline != "First <em>line</em>\nsame paragraph.<br><br>Second." {
		t.Errorf("inline %q", f.Inline)
	}
	if f.Plain != "First line same paragraph.\n\nSecond." {
		t.Errorf("plain %q", f.Plain)
	}
	if f := render("| a |\n|:-:|\n| 1 |\n\n```go\nx := 1\n```\n\n- [x] done"); !strings.Contains(
		f.HTML, "language-go",
	) ||
		!strings.Contains(f.HTML, "<table>") ||
		!strings.Contains(f.HTML, "checkbox") {
		t.Errorf("tables, code and tasks: %q", f.HTML)
	}
}

func TestNoScriptSurvives(t *testing.T) {
	for _, attack := range []string{
		"<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "[a](javascript:alert(1))",
		"<a href='javascript:alert(1)'>a</a>",
		"<svg onload=alert(1)>", "<iframe src=//evil></iframe>",
		"<p style='background:url(javascript:alert(1))'>a</p>", "![a](data:text/html,<script>alert(1)</script>)",
		"<a href=\"  jAvAsCrIpT:alert(1)\">a</a>", "<input type=checkbox onfocus=alert(1) autofocus>",
		"<math><mi xlink:href='javascript:alert(1)'>a",
		"[a](javascript&colon;alert(1))", "[a](&#106;avascript:alert(1))", "[a](java\\script:alert(1))",
		"![a](vbscript:x)", "a <script>alert(1)</script> b", "<<script>script>alert(1)</script>",
		"<div>\n[x](javascript:alert(1))\n</div>", "[a]: javascript:alert(1)\n\n[a]",
		"\\<script>alert(1)</script>\n<b onclick=alert(1)>x</b>", "&lt;script&gt;alert(1)&lt;/script&gt; <i>x</i>",
		"`<script>` <i onload=alert(1)>x</i>",
		"<details open ontoggle=alert(1)>", "<form action=javascript:alert(1)><button>a</button></form>",
		"```\"onmouseover=alert(1)\nx\n```",
	} {
		f := render(attack)
		for name, out := range map[string]string{"html": f.HTML, "inline": f.Inline, "commonmark rendered " +
			"elsewhere": elsewhere(t, f.CommonMark)} {
			low := strings.ToLower(out)
			for _, bad := range []string{"<script", "javascript:", "<svg", "<iframe", "<form", "<math", "data:text"} {
				if strings.Contains(low, bad) {
					t.Errorf("%s of %q lets %q through: %q", name, attack, bad, out)
				}
			}
			for _, tag := range strings.SplitAfter(low, "<") {
				inside, _, _ := strings.Cut(tag, ">")
				if strings.Contains(inside, " on") && strings.Contains(inside, "alert") &&
					!strings.Contains(inside, "&quot;") {
					t.Errorf("%s of %q keeps a handler: %q", name, attack, out)
				}
			}
		}
	}
}

func FuzzRender(f *testing.F) {
	f.Add("# a\n\n<b>x</b>")
	f.Fuzz(func(t *testing.T, src string) {
		if out := render(src); strings.Contains(strings.ToLower(out.HTML), "<script") {
			t.Errorf("%q gives %q", src, out.HTML)
		}
	})
}

// dear are texts that are small and were dear to render.
func dear() map[string]string {
	staircase := ""
	for i := range 300 {
		staircase += strings.Repeat("  ", i) + "- a\n"
	}
	return map[string]string{
		"emphasis that never ends": strings.Repeat(
			"_a*", 33_000,
		), "links that never end": strings.Repeat("[a](", 25_000), "references that never " +
			"end": strings.Repeat("[a][", 25_000),
		"images that never end": strings.Repeat(
			"![", 50_000,
		), "quotes in quotes": strings.Repeat(">", 100_000) + "a",
		"lists in lists": strings.Repeat("- ", 50_000) + "a", "a staircase": staircase,
		"a table that is wide": "|" + strings.Repeat(
			"a|", 3000,
		) + "\n|" + strings.Repeat(
			"-|", 3000,
		) + "\n" + strings.Repeat(
			"|a\n", 20_000,
		), "a line each": strings.Repeat("*a\n", 33_000),
		"comments": strings.Repeat(
			"<!--", 25_000,
		), "tags": strings.Repeat("<a ", 33_000), "code": strings.Repeat("`a``b", 20_000),
		"numbers": strings.Repeat("1. ", 30_000) + "a", "much": strings.Repeat("a", MaxBytes+1),
		"paragraphs of emphasis that never ends": strings.Repeat(strings.Repeat("_a*", 1_300)+"\n\n", 120),
		"paragraphs":                             strings.Repeat("*a _b [c](d\n\n", 7_000),
	}
}

// TestRenderingIsBounded renders texts that are made to be dear: what Check lets through
// takes little, and so does what it does not.
func TestRenderingIsBounded(t *testing.T) {
	for name, src := range dear() {
		t.Run(name, func(t *testing.T) {
			begin := time.Now()
			f := render(src)
			if took := time.Since(begin); took > 5*time.Second || Check(src) == nil && took > time.Second {
				t.Errorf("it took %v", took)
			}
			if n := len(f.HTML); n > 20*len(src)+1000 {
				t.Errorf("%d bytes became %d", len(src), n)
			}
			t.Logf("%v, refused: %v", time.Since(begin), Check(src))
		})
	}
	for name, src := range map[string]string{
		"an article": strings.Repeat("A *line* of the [report](/r) that "+
			"__goes__ on.\n\n", 1500), "a table": "| a | b |\n|---|---|\n" + strings.Repeat("| 1 | 2 |\n", 2000),
		"rules": "---\n\n***\n\n" + strings.Repeat("- ", 50), "a nested list": "- a\n  - b\n    - c\n      1. d\n",
	} {
		if err := Check(src); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if f := render(strings.Repeat(">", 100) + " <b>a</b> [x](y)"); f.Plain != strings.Repeat(
		">", 100,
	)+" <b>a</b> [x](y)" {
		t.Errorf("what is refused is shown as it was written: %q", f.Plain)
	}
}
