package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"ubiquon/internal/demo"
	"ubiquon/internal/testkit/skerry"
)

var line *demo.Demo

func TestMain(m *testing.M) { skerry.Main(m, &line) }

// run runs a command against the demo.
func run(t *testing.T, args ...string) (code int, out, errOut string) {
	t.Helper()
	t.Setenv("UBIQUON_ADDRESS", line.Card.Gateway)
	t.Setenv("UBIQUON_KEY", line.Card.Keys.Admin)
	var o, e bytes.Buffer
	code = Run(args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// command is a run of the program, with how it ends and some of what it says.
type command struct {
	args []string
	code int
	says []string
}

func runAll(t *testing.T, all []command) {
	t.Helper()
	for _, c := range all {
		code, out, errOut := run(t, c.args...)
		if code != c.code {
			t.Errorf("%q: exit code %d, not %d\n%s%s", c.args, code, c.code, out, errOut)
			continue
		}
		for _, says := range c.says {
			if !strings.Contains(out+errOut, says) {
				t.Errorf("%q does not say %q:\n%s%s", c.args, says, out, errOut)
			}
		}
	}
}

func TestCommands(t *testing.T) {
	_, found, _ := run(t, "entry", "list", "--search", "fog week", "--output", "json")
	var entries struct{ Items []struct{ ID string } }
	if err := json.Unmarshal([]byte(found), &entries); err != nil || len(entries.Items) != 1 {
		t.Fatalf("%v: %s", err, found)
	}
	for _, c := range []struct {
		args []string
		want []string
	}{
		{[]string{"read", "/dispatches?limit=1&fields=title"}, []string{`"items"`, `"title": "First ice at Mella"`}},
		{[]string{"read", "dispatches/fog-week?fields=title", "--headers"}, []string{"200 OK", "Cache-Status: Ubiquon; ", "Ubiquon-Sequence: ", `"Fog week"`}},
		{[]string{"read", "{ notices(first: 1) { totalCount } }"}, []string{`"totalCount": 12`}},
		{[]string{"read", "/notices?fields=title&limit=1", "--edition", "preview", "-o", "yaml"}, []string{"items:", "window:"}},
		{[]string{"entry", "list", "--type", "pier"}, []string{"ID", "Kvalholm", "published", "en ja nb"}},
		{[]string{"entry", "list", "--state", "draft"}, []string{"Draft - easter timetable"}},
		{[]string{"entry", "show", entries.Items[0].ID}, []string{"Fog week", "harbour-office R-1009", "SEQUENCE", "edit at"}},
		{[]string{"event", "list"}, []string{"ACCEPTED", "FRESH"}},
		{[]string{"build", "list"}, []string{"SITE", "skerry-web"}},
		{[]string{"cache", "stats"}, []string{"responses", "hits", "applied sequence"}},
		{[]string{"cache", "purge", "--yes"}, []string{"answers thrown away"}},
		{[]string{"key", "create", "board", "--grant", "read published notice", "--days", "3"}, []string{"secret", "ubq_", "shown only now"}},
		{[]string{"key", "list"}, []string{"board", "read published notice", "skerry-web"}},
		{[]string{"version"}, []string{"ubiquon "}},
		{[]string{"completion", "bash"}, []string{"__start_ubiquon"}},
	} {
		code, out, errOut := run(t, c.args...)
		if code != exitFine {
			t.Errorf("%v: exit %d: %s", c.args, code, errOut)
		}
		for _, want := range c.want {
			if !strings.Contains(out, want) {
				t.Errorf("%v: %q is missing in\n%s", c.args, want, out)
			}
		}
		if c.args[len(c.args)-1] == "bash" || c.args[0] == "read" {
			continue
		}
		for l := range strings.SplitSeq(out, "\n") {
			if n := utf8.RuneCountInString(l); n > 100 {
				t.Errorf("%v: a line of %d columns: %s", c.args, n, l)
			}
		}
	}
}

func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"read", "/dispatchs"}, exitFailed, `did you mean "dispatches"?`},
		{[]string{"entry", "show", "nobody"}, exitFailed, "not found"},
		{[]string{"entry", "list", "--address", "http://127.0.0.1:1"}, exitFailed, "no service answers at http://127.0.0.1:1"},
		{[]string{"entry", "list", "--key", "ubq_x"}, exitFailed, "copied whole"},
		{[]string{"entry", "show"}, exitMisuse, "accepts 1 arg"},
		{[]string{"entry"}, exitMisuse, "--help"},
		{[]string{"entry", "list", "--stat", "draft"}, exitMisuse, "unknown flag"},
		{[]string{"entry", "list", "--state", "drafty"}, exitMisuse, "published, revised or retired"},
		{[]string{"entry", "list", "-o", "xml"}, exitMisuse, "table, json or yaml"},
		{[]string{"entri"}, exitMisuse, "unknown command"},
		{[]string{"preview", "notice/ice"}, exitMisuse, "unknown command"},
		{[]string{"document", "piers"}, exitMisuse, "unknown command"},
		{[]string{"key", "create", "x"}, exitMisuse, "at least one grant"},
		{[]string{"key", "create", "x", "--grant", "read it all"}, exitFailed, "published, preview or *"},
		{[]string{"serve", "--config", "nowhere.yaml"}, exitMisuse, "nowhere.yaml"},
		{[]string{"demo", "--log-level", "loud"}, exitMisuse, "debug, info, warn or error"},
	} {
		code, out, errOut := run(t, c.args...)
		if code != c.code || !strings.Contains(errOut, c.want) {
			t.Errorf("%v: exit %d, want %d: %s%s", c.args, code, c.code, out, errOut)
		}
	}
}

// write makes a configuration with its files and returns its path.
func write(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(dir, "ubiquon.yaml")
}

const smallModel = "types: {pier: {fields: {name: {kind: text}}}}\n"

func TestConfigurationPrecedence(t *testing.T) {
	file := write(t, map[string]string{"ubiquon.yaml": "listen: 127.0.0.1:1\nenvironment: fromfile\ndata: d\nmodel: model\ncache: {bytes: 64MB}\nlog: {level: warn}\n", "model/m.yaml": smallModel})
	t.Setenv("UBIQUON_ENVIRONMENT", "fromvariable")
	t.Setenv("UBIQUON_LISTEN", "127.0.0.1:2")
	c, err := loadConfig(file, map[string]string{"listen": "127.0.0.1:3"})
	if err != nil {
		t.Fatal(err)
	}
	if c.Listen != "127.0.0.1:3" || c.Environment != "fromvariable" || c.Log.Level != "warn" || c.cacheBytes != 64<<20 || c.Data != filepath.Join(filepath.Dir(file), "d") {
		t.Errorf("%+v", c)
	}
	t.Setenv("UBIQUON_LISTN", "x")
	if _, err := loadConfig(file, nil); err == nil || !strings.Contains(err.Error(), `did you mean "UBIQUON_LISTEN"?`) {
		t.Errorf("an unknown variable: %v", err)
	}
}

func TestConfigurationMistakes(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"unknown key":        {map[string]string{"ubiquon.yaml": "listn: x\n"}, `did you mean "listen"?`},
		"unknown inner key":  {map[string]string{"ubiquon.yaml": "log: {levle: x}\n"}, `ubiquon.yaml:1:7: unknown key "levle" in log; did you mean "level"?`},
		"no such model":      {map[string]string{"ubiquon.yaml": "model: nowhere\n"}, "nowhere"},
		"empty model":        {map[string]string{"ubiquon.yaml": "model: m\n", "m/readme.txt": ""}, "no .yaml files"},
		"bad size":           {map[string]string{"ubiquon.yaml": "model: m\ncache: {bytes: lots}\n", "m/m.yaml": smallModel}, "256MB"},
		"unset secret below": {map[string]string{"ubiquon.yaml": "model: m\ndownstream: {edge: {call: \"http://a\", secret: \"env:NOT_SET_HERE\"}}\n", "m/m.yaml": smallModel}, "downstream: the variable NOT_SET_HERE is not set"},
		"unset secret":       {map[string]string{"ubiquon.yaml": "model: m\nsites: s.yaml\n", "m/m.yaml": smallModel, "s.yaml": "sites: {web: {address: http://a, build: {call: http://a, secret: \"env:NOT_SET_HERE\"}}}\n"}, "NOT_SET_HERE is not set"},
		"bad rules":          {map[string]string{"ubiquon.yaml": "model: m\nrules: r.yaml\n", "m/m.yaml": smallModel, "r.yaml": "rules: [{nmae: x}]\n"}, `did you mean "name"?`},
	} {
		if _, err := loadConfig(write(t, c.files), nil); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}
