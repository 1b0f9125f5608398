package prose

import (
	"strings"
	"testing"
)

type forms struct{ HTML, Inline, Plain string }

func render(src string) forms {
	f := Forms(src, nil, func(string) string { return "" })
	return forms{f["html"].(string), f["inline"].(string), f["plain"].(string)}
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
	if f := render("| a |\n|:-:|\n| 1 |\n\n```go\nx := 1\n```\n\n- [x] done"); !strings.Contains(f.HTML, "language-go") || !strings.Contains(f.HTML, "<table>") || !strings.Contains(f.HTML, "checkbox") {
		t.Errorf("tables, code and tasks: %q", f.HTML)
	}
}

func TestNoScriptSurvives(t *testing.T) {
	for _, attack := range []string{
		"<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "[a](javascript:alert(1))", "<a href='javascript:alert(1)'>a</a>",
		"<svg onload=alert(1)>", "<iframe src=//evil></iframe>", "<p style='background:url(javascript:alert(1))'>a</p>", "![a](data:text/html,<script>alert(1)</script>)",
		"<a href=\"  jAvAsCrIpT:alert(1)\">a</a>", "<input type=checkbox onfocus=alert(1) autofocus>", "<math><mi xlink:href='javascript:alert(1)'>a",
		"<details open ontoggle=alert(1)>", "<form action=javascript:alert(1)><button>a</button></form>", "```\"onmouseover=alert(1)\nx\n```",
	} {
		f := render(attack)
		for name, out := range map[string]string{"html": f.HTML, "inline": f.Inline} {
			low := strings.ToLower(out)
			for _, bad := range []string{"<script", "javascript:", "<svg", "<iframe", "<form", "<math", "data:text"} {
				if strings.Contains(low, bad) {
					t.Errorf("%s of %q lets %q through: %q", name, attack, bad, out)
				}
			}
			for _, tag := range strings.SplitAfter(low, "<") {
				inside, _, _ := strings.Cut(tag, ">")
				if strings.Contains(inside, " on") && strings.Contains(inside, "alert") && !strings.Contains(inside, "&quot;") {
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
