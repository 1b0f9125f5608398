package prose_test

import (
	"strings"
	"testing"

	"ubiquon/internal/core/prose"
)

func TestRelink(t *testing.T) {
	to := func(at string, image bool) string {
		if image || !strings.HasSuffix(at, ".md") {
			return ""
		}
		return "ref:" + strings.TrimSuffix(at, ".md")
	}
	for source, want := range map[string]string{
		"See [the ramp](ramp.md).":                         "See [the ramp](ref:ramp).",
		"[a](<ramp.md>) [b](ramp.md \"Ramp\") [c](x.html)": "[a](<ref:ramp>) [b](ref:ramp \"Ramp\") [c](x.html)",
		"![chart](ramp.md)":                                "![chart](ramp.md)",
		"[the ramp]\n\n[the ramp]: ramp.md\n":              "[the ramp]\n\n[the ramp]: ref:ramp\n",
		"`[a](ramp.md)` and [a](ramp.md)":                  "`[a](ramp.md)` and [a](ref:ramp)",
		"```\n[a](ramp.md)\n```\n\n[a](ramp.md)":           "```\n[a](ramp.md)\n```\n\n[a](ref:ramp)",
		"\\[a](ramp.md)":                                   "\\[a](ramp.md)",
		"ramp.md":                                          "ramp.md",
		"[a](ramp.md2) [b](ramp.md)":                       "[a](ramp.md2) [b](ref:ramp)",
	} {
		if got := prose.Relink(source, nil, to); got != want {
			t.Errorf("%q became %q, not %q", source, got, want)
		}
	}
	if long := strings.Repeat("[a](b.md) ", 100_000); prose.Relink(long, nil, to) != long {
		t.Error("a text over the bounds was changed")
	}
}
