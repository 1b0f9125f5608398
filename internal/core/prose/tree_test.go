package prose

import (
	"encoding/json"
	"strings"
	"testing"
)

// at knows where two entries live.
func at(id string) Target {
	path := map[string]string{"about": "/about", "fog": "/notices/fog"}[id]
	return Target{path, path != "" || id == "nameless"}
}

func TestTree(t *testing.T) {
	tree := func(src string, marks ...string) string {
		out, err := json.Marshal(Render(src, marks).Forms(at)["tree"])
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSuffix(strings.TrimPrefix(string(out), `{"children":[`), `],"kind":"document"}`)
	}
	for src, want := range map[string]string{
		"Hi *you* **there**":       `{"children":[{"kind":"text","text":"Hi "},{"children":[{"kind":"text","text":"you"}],"kind":"emphasis"},{"kind":"text","text":" "},{"children":[{"kind":"text","text":"there"}],"kind":"strong"}],"kind":"paragraph"}`,
		"## Boats":                 `{"children":[{"kind":"text","text":"Boats"}],"kind":"heading","level":2}`,
		"a\\*b &amp; c  \nd":       `{"children":[{"kind":"text","text":"a*b \u0026 c"},{"kind":"break"},{"kind":"text","text":"d"}],"kind":"paragraph"}`,
		"- [x] done":               `{"children":[{"checked":true,"children":[{"kind":"text","text":"done"}],"kind":"item"}],"kind":"list"}`,
		"3. c":                     `{"children":[{"children":[{"kind":"text","text":"c"}],"kind":"item"}],"kind":"list","ordered":true,"start":3}`,
		"```go\nx\n```":            `{"kind":"codeBlock","language":"go","text":"x\n"}`,
		"> q":                      `{"children":[{"children":[{"kind":"text","text":"q"}],"kind":"paragraph"}],"kind":"quote"}`,
		"[about](ref:about)":       `{"children":[{"children":[{"kind":"text","text":"about"}],"entry":"about","href":"/about","kind":"link"}],"kind":"paragraph"}`,
		"[gone](ref:gone)":         `{"children":[{"children":[{"kind":"text","text":"gone"}],"href":"","kind":"link"}],"kind":"paragraph"}`,
		"[it](ref:nameless)":       `{"children":[{"children":[{"kind":"text","text":"it"}],"entry":"nameless","href":"","kind":"link"}],"kind":"paragraph"}`,
		"![the fog](ref:fog)":      `{"children":[{"alt":"the fog","entry":"fog","href":"/notices/fog","kind":"entry"}],"kind":"paragraph"}`,
		"![a](/p.png 'T')":         `{"children":[{"alt":"a","kind":"image","src":"/p.png","title":"T"}],"kind":"paragraph"}`,
		"[x](javascript:alert(1))": `{"children":[{"children":[{"kind":"text","text":"x"}],"kind":"link"}],"kind":"paragraph"}`,
		"<b onclick=x>y</b>":       `{"children":[{"kind":"text","text":"y"}],"kind":"paragraph"}`,
		"---":                      `{"kind":"rule"}`,
		"|a|\n|:-:|\n|1|":          `{"children":[{"children":[{"align":"center","children":[{"kind":"text","text":"a"}],"kind":"cell"}],"header":true,"kind":"row"},{"children":[{"align":"center","children":[{"kind":"text","text":"1"}],"kind":"cell"}],"kind":"row"}],"kind":"table"}`,
	} {
		if got := tree(src); got != want {
			t.Errorf("%q:\n got %s\nwant %s", src, got, want)
		}
	}
	if got := tree("CO~2~ and x^2^", Superscript, Subscript); !strings.Contains(got, `"kind":"subscript"`) ||
		!strings.Contains(got, `"kind":"superscript"`) {
		t.Errorf("marks: %s", got)
	}
	if got := tree("CO~2~ and x^2^"); strings.Contains(got, "script") {
		t.Errorf("marks that are not declared: %s", got)
	}
}

func TestLinksAreFollowedInEveryForm(t *testing.T) {
	r := Render("See [it](ref:about), [that](ref:nobody) and ![fog](ref:fog). Not \"ref:about\".", nil)
	f := r.Forms(at)
	for form, want := range map[string]string{
		"inline":     `See <a href="/about">it</a>, <a>that</a> and <a href="/notices/fog">fog</a>. Not &#34;ref:about&#34;.`,
		"commonmark": `See [it](/about), [that]() and ![fog](/notices/fog). Not "ref:about".`,
		"plain":      `See it, that and fog. Not "ref:about".`,
	} {
		if f[form] != want {
			t.Errorf("%s: %s", form, f[form])
		}
	}
	if strings.Join(r.Targets, " ") != "about nobody fog" {
		t.Errorf("links to %v", r.Targets)
	}
}

func TestMarks(t *testing.T) {
	html := func(src string, marks ...string) string { return Render(src, marks).Forms(at)["inline"].(string) }
	for _, c := range [][3]string{
		{"x^2^", Superscript, "x<sup>2</sup>"},
		{"CO~2~", Subscript, "CO<sub>2</sub>"},
		{"~~gone~~ H~2~O", Subscript, "<del>gone</del> H<sub>2</sub>O"},
		{"x^2^", Subscript, "x^2^"},
		{"a ^ b ^ c", Superscript, "a ^ b ^ c"},
		{"^<script>^", Superscript, "^^"},
	} {
		if got := html(c[0], c[1]); got != c[2] && !(c[0] == "^<script>^" && !strings.Contains(got, "<script")) {
			t.Errorf("%s with %s: %s, want %s", c[0], c[1], got, c[2])
		}
	}
}

func FuzzForms(f *testing.F) {
	f.Add("# a\n\n[x](ref:about) ^2^ | a |\n|---|")
	f.Add("![](ref:fog)\n- [ ] x\n```\"\n")
	f.Fuzz(func(t *testing.T, src string) {
		forms := Render(src, []string{Superscript, Subscript}).Forms(at)
		tree, err := json.Marshal(forms["tree"])
		if err != nil || forms["tree"] == nil {
			t.Fatalf("%q: no tree: %v", src, err)
		}
		if low := strings.ToLower(forms["html"].(string)); strings.Contains(low, "<script") ||
			strings.Contains(low, "javascript:") && strings.Contains(low, "href=\"javascript") {
			t.Errorf("%q gives %s", src, forms["html"])
		}
		if strings.Contains(strings.ToLower(string(tree)), `"href":"javascript`) ||
			strings.Contains(strings.ToLower(string(tree)), `"src":"javascript`) {
			t.Errorf("%q gives the tree %s", src, tree)
		}
	})
}
