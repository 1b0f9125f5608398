package internal_test

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// mayImport says, for each room of the house, which other rooms it may enter.
// Rooms below core are told apart by nothing: core may only enter core.
var mayImport = map[string][]string{
	"core":          {"core"},
	"store/cluster": {},
	"store":         {"core", "admission"},
	"admission":     {"core"},
	"health":        {},
	"recurring":     {},
	"cache":         {"core", "admission"},
	"origin":        {"core", "health"},
	"outbound":      {"core"},
	"graphql":       {"core"},
	"gateway":       {"core", "store", "admission", "cache", "origin", "outbound", "graphql", "health", "recurring"},
	"client":        {"core", "store", "cache", "gateway"},
	"server":        {"core", "store", "cache", "graphql", "gateway"},
	"standin":       {"core", "outbound"},
	"service":       {"core", "admission", "store", "store/cluster", "cache", "origin", "outbound", "gateway", "server"},
	"demo":          {"core", "store", "store/cluster", "origin", "outbound", "gateway", "client", "server", "service", "standin"},
	"cli":           {"core", "store", "cache", "origin", "outbound", "gateway", "client", "server", "service", "demo"},
	"testkit":       {"core", "store", "store/cluster", "demo"},
}

// pureOnly are the standard packages that the computation has no business with.
var pureOnly = []string{"os", "os/exec", "net", "database/sql", "log", "log/slog", "sync/atomic"}

// mayUse are exceptions to pureOnly, with their reason: net/http for its
// Header type alone, sync for an index that many use at once, for buffers that go from
// hand to hand, and for meters that many count with.
var mayUse = map[string][]string{"event": {"net/http"}, "depend": {"sync"}, "query": {"sync"}, "access": {"sync", "sync/atomic"}}

func TestImportsFollowTheArrows(t *testing.T) {
	// The sources are looked at here too, so that go test knows of them, and does not
	// take an old outcome for a new one.
	if err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".go") {
			_, err = os.ReadFile(path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		path := strings.TrimPrefix(p.ImportPath, "ubiquon/internal/")
		here := room(path)
		if here == "" {
			continue
		}
		allowed, known := mayImport[here]
		if !known {
			t.Errorf("%s is a room that has no arrows yet; add it to mayImport", path)
			continue
		}
		seen++
		for _, i := range p.Imports {
			if other, ours := strings.CutPrefix(i, "ubiquon/internal/"); ours {
				if to := room(other); to != here && !slices.Contains(allowed, to) {
					t.Errorf("%s must not import %s", path, other)
				}
			}
			if here == "core" && (slices.Contains(pureOnly, i) || i == "net/http" || i == "sync") && !slices.Contains(mayUse[strings.TrimPrefix(path, "core/")], i) {
				t.Errorf("%s computes, and must not import %s", path, i)
			}
		}
	}
	if seen < 15 {
		t.Errorf("only %d rooms were looked at", seen)
	}
}

// room is the part of a path that has arrows.
func room(path string) string {
	if path == "store/cluster" {
		return path
	}
	first, _, _ := strings.Cut(path, "/")
	if strings.HasPrefix(path, "ubiquon") {
		return ""
	}
	return first
}
