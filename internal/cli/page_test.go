package cli

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/testkit"
)

// TestPagesByCommandLine publishes what one page of the site shows, and sees that this page was
// built and no other, and why; and what the pages of the pier displays read.
func TestPagesByCommandLine(t *testing.T) {
	type pageList struct {
		Items []struct {
			Page       string
			Reads      []string
			StaleSince *int64
		}
		Ledger struct{ Pages, Stale int }
	}
	list := func(args ...string) (out pageList) {
		t.Helper()
		if err := json.Unmarshal([]byte(must(t, append([]string{"page", "list", "skerry-web", "-o", "json"}, args...)...)),
			&out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	testkit.Eventually(t, "the pages of the site are known", func() bool { return list().Ledger.Pages > 40 })
	const route = "route/north-line"
	if out := must(t, "change", "simulate", route); !strings.Contains(out, "pages of skerry-web") {
		t.Error(out)
	}
	showing := list("--entry", route)
	var paths []string
	for _, p := range showing.Items {
		paths = append(paths, p.Page)
	}
	if !slices.Contains(paths, "/routes") || !slices.Contains(paths, "/routes/north-line") ||
		slices.Contains(paths, "/piers") {
		t.Fatalf("shown on %v", paths)
	}
	before := lastBuild(t).Number
	must(t, "entry", "edit", route, "--set", "minutes=48")
	must(t, "entry", "publish", route)
	testkit.Eventually(t, "its page is built", func() bool {
		b := lastBuild(t)
		return b.Number > before && b.State == rebuild.Finished && strings.Join(b.Pages, " ") == "/routes/north-line"
	})
	if out := must(t, "build", "list", "--site", "skerry-web", "--limit", "1"); !strings.Contains(out, "PAGES") {
		t.Error(out)
	}
	testkit.Eventually(t, "it is stale no more", func() bool {
		out := must(t, "page", "show", "skerry-web", "/routes/north-line")
		return strings.Contains(out, "/routes/north-line?fields=") && strings.Contains(out, "stale       no")
	})
	if out := must(t, "page", "check", "skerry-web"); !strings.Contains(out, " 0 give something else") {
		t.Error(out)
	}
	refused(t, "skerry-web has no page /nowhere", "page", "show", "skerry-web", "/nowhere")
	refused(t, "site skerry-wb", "page", "list", "skerry-wb")
}

func lastBuild(t *testing.T) (b rebuild.Build) {
	t.Helper()
	var all struct{ Items []rebuild.Build }
	if err := json.Unmarshal([]byte(must(t, "build", "list", "--site", "skerry-web", "-o", "json", "--limit", "1")),
		&all); err != nil {
		t.Fatal(err)
	}
	if len(all.Items) > 0 {
		b = all.Items[0]
	}
	return b
}
