package prose

import (
	"net/url"
	"slices"
	"strings"
	"testing"
)

func TestHTMLBecomesCommonMark(t *testing.T) {
	base, err := url.Parse("https://office.example/reports/")
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		html, want string
		lost       []string
	}{
		"entities":  {"<p>Caf&eacute; &amp; kiosk&nbsp;&#8211; open</p>", "Café & kiosk\u00a0– open", nil},
		"a heading": {"<h2>Winter</h2><p>It <b>is</b> <em>cold</em>.</p>", "## Winter\n\nIt **is** *cold*.", nil},
		"lists": {"<ul><li>one</li><li>two<ol><li>deep</li></ol></li></ul>", "- one\n- two\n  \n  1. " +
			"deep", nil},
		"a table": {"<table><thead><tr><th>Pier</th><th>Berths</th></tr></thead>" +
			"<tbody><tr><td>Mella</td><td>3</td></tr></tbody></table>", "| Pier | Berths |\n|--|--|\n| Mella | 3 |", nil},
		"code": {"<pre><code class=\"language-go\">a := 1 &lt; 2\n</code></pre>", "```go\na := 1 < " +
			"2\n```", nil},
		"a quote":         {"<blockquote><p>Fog.</p></blockquote>", "> Fog.", nil},
		"a relative link": {`<a href="../map?x=1">Map</a> <a href="#top">up</a> <a href="ref:abc">us</a> <a href="mailto:a@b.example">mail</a>`, "[Map](https://office.example/map?x=1) [up](#top) [us](ref:abc) [mail](mailto:a@b.example)", nil},
		"a figure": {
			`<figure><img src="/p.jpg" alt="Pier"><figcaption>The pier</figcaption></figure>`,
			"![Pier](https://office.example/p.jpg)\n\nThe pier", nil,
		},
		"what is dropped": {`<p onclick="x()">Hi<script>alert(1)</script><iframe src="//x"></iframe><iframe></iframe><a href="javascript:x()">there</a></p>`, "Hithere", []string{"<iframe> (2 times)", "<script>", "a link to javascript:"}},
		"no HTML":         {"Just text with * and _", `Just text with * and _`, nil},
	} {
		got, lost, err := FromHTML(c.html, base)
		squeeze := func(s string) string {
			s = strings.ReplaceAll(s, "---", "--")
			for strings.Contains(s, "---") || strings.Contains(s, "  |") {
				s = strings.ReplaceAll(strings.ReplaceAll(s, "---", "--"), "  |", " |")
			}
			return s
		}
		if err != nil || squeeze(got) != squeeze(c.want) || !slices.Equal(lost, c.lost) {
			t.Errorf("%s: %q, want %q; lost %q, want %q; %v", name, got, c.want, lost, c.lost, err)
		}
	}
	if _, _, err := FromHTML(strings.Repeat("x", MostHTML+1), nil); err == nil {
		t.Error("too much is taken")
	}
	if _, _, err := FromHTML(strings.Repeat("<div>", 20_000), nil); err == nil {
		t.Error("what is nested for ever is taken")
	}
}

func TestConversionReportsLosses(t *testing.T) {
	for source, want := range map[string][]string{
		"Fog, **thick**; see [the map](/map).": nil, "a < b and c > d": nil,
		"<div>\n<p>Pasted</p>\n</div>\n\nmore": {"<div>", "<p>"}, "in <b>the</b> line": {"<b>"},
		"[x](javascript:alert(1))": {"a link to javascript:"}, "`<b>` is code": nil,
	} {
		if got := Lost(source, nil); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", source, got, want)
		}
	}
}
