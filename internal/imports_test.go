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

// mayImport lists, for each package below internal, which others it may import. Packages
// below core count as one, and may import nothing but core; "store..." stands for store and
// all below it.
var mayImport = map[string][]string{
	"core":       {"core"},
	"api":        {"core", "health"},
	"admission":  {"core"},
	"health":     {},
	"recurring":  {},
	"background": {"recurring"},
	"cache":      {"api", "core", "admission"},
	"gitssh":     {},
	"origin":     {"core", "health", "gitssh"},
	"outbound":   {"core"},
	"mailer":     {},
	"blob":       {},
	"rendering":  {"admission", "core"},
	"graphql":    {"core"},

	"store/cluster":   {},
	"store/db":        {"api", "core", "admission"},
	"store/clause":    {"core"},
	"store/audit":     {"api", "core", "store/db", "store/clause"},
	"store/changelog": {"api", "core", "store/db", "store/clause"},
	"store/once":      {"store/db"},
	"store/writing": {
		"api", "core", "admission", "store/db", "store/clause", "store/audit", "store/changelog", "store/once",
	},
	"store/reading":  {"core", "admission", "store/db", "store/clause", "store/changelog"},
	"store/accounts": {"api", "core", "store/db", "store/audit", "store/changelog"},
	"store/builds":   {"api", "core", "store/db", "store/changelog", "store/pages"},
	"store/pages":    {"api", "core", "store/db"},
	"store/runs":     {"api", "core", "store/db", "store/changelog"},
	"store/outbox":   {"api", "store/db"},
	"store/settings": {"api", "core", "store/db", "store/audit", "store/changelog"},
	"store/events":   {"api", "core", "store/db", "store/clause", "store/changelog"},
	"store/files":    {"api", "core", "store/db"},
	"store/entries":  {"api", "core", "store/db", "store/clause", "store/audit", "store/changelog", "store/writing"},
	"store": {
		"api", "core", "store/db", "store/audit", "store/changelog", "store/writing", "store/reading", "store/accounts",
		"store/builds", "store/events", "store/once", "store/entries", "store/runs", "store/outbox", "store/settings",
		"store/files", "store/pages",
	},

	"replication": {"api", "core", "store...", "cache", "background"},
	"delivery":    {"core", "api", "admission", "store...", "cache", "graphql", "background", "replication"},
	"authoring":   {"core", "api", "admission", "health", "store...", "cache", "background", "replication"},
	"files": {
		"admission",
		"api",
		"core",
		"store...",
		"blob",
		"rendering",
		"outbound",
		"background",
		"replication",
	},
	"ingest":   {"core", "api", "health", "store...", "origin", "outbound", "background", "replication"},
	"settings": {"api", "core", "store...", "origin", "outbound", "background", "replication"},
	"pages":    {"api", "core", "store...", "delivery", "outbound", "background", "replication", "settings"},
	"automation": {
		"api", "core", "health", "store...", "cache", "mailer", "outbound", "background", "replication", "settings",
	},
	"identity": {"core", "api", "admission", "store...", "background", "replication"},
	"diagnose": {
		"core", "api", "store...", "cache", "background", "replication",
		"delivery", "authoring", "ingest", "automation", "identity", "pages",
	},
	"environment": {
		"core", "api", "admission", "health", "store...", "cache", "settings", "outbound", "background", "replication",
		"delivery", "authoring", "ingest", "automation", "identity", "diagnose", "files", "blob", "pages",
	},

	"server/guard": {
		"core", "api", "admission", "store...", "cache", "background", "replication", "settings",
		"delivery", "authoring", "ingest", "automation", "identity", "diagnose", "environment", "files",
	},
	"server/filesapi": {"api", "core", "store...", "environment", "files", "rendering", "server/guard"},
	"server/contentapi": {
		"api", "core", "admission", "store...", "cache", "graphql", "replication",
		"delivery", "authoring", "diagnose", "environment", "pages", "server/guard",
	},
	"server/controlapi": {
		"core", "api", "health", "store...", "cache", "graphql", "replication", "settings",
		"delivery", "authoring", "ingest", "automation", "identity", "diagnose", "environment",
		"files", "server/guard", "server/operation", "server/contentapi", "server/originapi",
	},
	"server/operation": {"api", "core", "server/guard"},
	"server/originapi": {
		"core", "api", "store...", "ingest", "origin", "environment", "server/guard", "server/operation",
	},
	"server": {
		"api", "core", "store...", "ingest", "environment", "settings",
		"server/guard", "server/contentapi", "server/controlapi", "server/filesapi",
	},

	"client": {"core", "api"},
	"service": {
		"core",
		"admission",
		"store...",
		"cache",
		"outbound",
		"environment",
		"server",
		"settings",
		"blob",
		"files",
	},
	"standin": {"core", "outbound"},
	"demo": {
		"api", "core", "store...", "outbound", "settings", "delivery", "authoring", "ingest", "automation", "diagnose",
		"environment", "client", "server", "service", "standin", "files",
	},
	"cli/command": {"api", "core", "store...", "client", "demo"},
	"cli/contentcmd": {
		"api", "core", "store...", "cache", "replication", "delivery", "authoring", "diagnose", "client",
		"server", "demo", "cli/command",
	},
	"cli/accesscmd": {
		"api",
		"core",
		"store...",
		"authoring",
		"delivery",
		"identity",
		"diagnose",
		"client",
		"cli/command",
	},
	"cli/servicecmd": {
		"api", "core", "store...", "cache", "origin", "outbound", "settings", "replication", "delivery", "automation",
		"ingest", "diagnose", "client", "server", "service", "demo", "cli/command", "blob", "files",
	},
	"cli/settingscmd": {"api", "core", "client", "cli/command"},
	"cli": {
		"api", "client", "cli/command", "cli/contentcmd", "cli/accesscmd", "cli/servicecmd", "cli/settingscmd",
	},
	"testkit": {"core", "store...", "demo", "server/controlapi", "standin", "rendering"},
}

// pureOnly are standard packages that core must not import: it computes, and does no input or
// output.
var pureOnly = []string{"os", "os/exec", "net", "database/sql", "log", "log/slog", "sync/atomic"}

// mayUse are exceptions to pureOnly, with their reason: net/http for its
// Header type alone, sync for an index that many use at once, for buffers that go from
// hand to hand, and for meters that many count with.
var mayUse = map[string][]string{
	"event":        {"net/http"},
	"proof":        {"net/http"},
	"invalidation": {"sync"},
	"query":        {"sync"},
	"rebuild":      {"net/http"},
	"access":       {"sync", "sync/atomic"},
}

func TestImports(t *testing.T) {
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
		here := layer(path)
		if here == "" {
			continue
		}
		allowed, known := mayImport[here]
		if !known {
			t.Errorf("%s is not in mayImport yet; add it with what it may import", path)
			continue
		}
		seen++
		for _, i := range p.Imports {
			if other, ours := strings.CutPrefix(i, "ubiquon/internal/"); ours {
				if to := layer(other); to != here && !slices.Contains(allowed, to) &&
					!(strings.HasPrefix(to, "store") && slices.Contains(allowed, "store...")) {
					t.Errorf("%s must not import %s", path, other)
				}
			}
			if here == "core" && (slices.Contains(pureOnly, i) || i == "net/http" || i == "sync") &&
				!slices.Contains(mayUse[strings.TrimPrefix(path, "core/")], i) {
				t.Errorf("%s computes, and must not import %s", path, i)
			}
		}
	}
	if seen < 15 {
		t.Errorf("only %d packages were checked", seen)
	}
}

// layer returns the part of a package's path that mayImport names; empty for packages
// outside internal.
func layer(path string) string {
	if strings.HasPrefix(path, "store/") || strings.HasPrefix(path, "server/") || strings.HasPrefix(path, "cli/") {
		return path
	}
	first, _, _ := strings.Cut(path, "/")
	if strings.HasPrefix(path, "ubiquon") {
		return ""
	}
	return first
}
