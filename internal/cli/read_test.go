package cli

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestReadReportsDependencies goes through what a front-end developer asks of
// a read on a terminal.
func TestReadReportsDependencies(t *testing.T) {
	dir := t.TempDir()
	query := filepath.Join(dir, "piers.graphql")
	if err := os.WriteFile(query, []byte("query Piers { piers(first: 1) { nodes { name } } }\nquery Routes { "+
		"routes(first: 1) { nodes { name } } }"), 0o600); err != nil {
		t.Fatal(err)
	}
	runAll(t, []invocation{
		{
			[]string{"read", "/notices?fields=title,routes(name)&limit=2&sort=title", "--explain"},
			0,
			[]string{
				"effort", "SQL", "read published route in en", "the list of notice in en, by title", "2. select",
			},
		},
		{[]string{"read", "/notices?fields=title&limit=2&sort=title", "--plans"}, 0, []string{"actual rows="}},
		{
			[]string{"read", "/notices?fields=title", "--as", "everyone"},
			exitRefused,
			[]string{"read published notice"},
		},
		{
			[]string{"read", "/notices?fields=title", "--explain", "--as", "nobody at all"},
			1,
			[]string{"nobody at all"},
		},
		{[]string{"read", "/pages?fields=slug&limit=2", "--all"}, 0, []string{"\"slug\":\"welcome\""}},
		{[]string{"read", "@" + query, "--operation", "Piers"}, 0, []string{`"piers"`}},
		{[]string{"read", "@" + query}, 1, []string{"Piers", "Routes"}},
		{[]string{"read", "/pages?fields=slug&filter=titel = 'x'"}, 1, []string{"titel", "title"}},
		{[]string{"read", "/piers?fields=name&limit=1", "--save", "a pier"}, 0, []string{"a pier"}},
		{[]string{"read", "--saved", "a pier"}, 0, []string{`"items"`}},
		{[]string{"read", "--saved", "a peer"}, 2, []string{"a pier"}},
		{[]string{"document", "add", query}, 0, []string{"sha256:"}},
		{[]string{"document", "list"}, 0, []string{"piers"}},
		{[]string{"read", "--document", documentID(t, query), "--operation", "Routes"}, 0, []string{`"routes"`}},
		{[]string{"document", "remove", documentID(t, query)}, 0, nil},
		{[]string{"read", "--document", documentID(t, query), "--operation", "Routes"}, 1, []string{"sha256:"}},
	})
	_, all, _ := run(t, "read", "/notices?fields=id&limit=3", "--all")
	_, one, _ := run(t, "read", "/notices?fields=id&limit=200&count=true")
	var page struct {
		Items  []struct{ ID string }
		Window struct{ Total int }
	}
	if err := json.Unmarshal([]byte(one), &page); err != nil || page.Window.Total < 6 ||
		strings.Count(all, "\n") != page.Window.Total {
		t.Errorf("page by page %d lines, of %d: %v", strings.Count(all, "\n"), page.Window.Total, err)
	}
}

func documentID(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("sha256:%x", sha256.Sum256(text))
}
