package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/spf13/pflag"

	"ubiquon/internal/cli/servicecmd"
	"ubiquon/internal/demo"
	"ubiquon/internal/testkit/skerry"
)

var line *demo.Demo

func TestMain(m *testing.M) { skerry.Main(m, &line) }

// run runs a command against the demo.
func run(t *testing.T, args ...string) (code int, out, errOut string) {
	t.Helper()
	t.Setenv("UBIQUON_ADDRESS", line.Connection.Gateway)
	t.Setenv("UBIQUON_KEY", line.Connection.Keys.Admin)
	if os.Getenv("COLUMNS") == "" {
		t.Setenv("COLUMNS", "100")
	}
	var o, e bytes.Buffer
	code = Run(args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// invocation is a run of the program, with how it ends and some of what it says.
type invocation struct {
	args []string
	code int
	says []string
}

func runAll(t *testing.T, all []invocation) {
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
		{
			[]string{"read", "dispatches/fog-week?fields=title", "--headers"},
			[]string{"200 OK", "Cache-Status: Ubiquon; ", "Ubiquon-Sequence: ", `"Fog week"`},
		},
		{[]string{"read", "{ notices(first: 1) { totalCount } }"}, []string{`"totalCount": 12`}},
		{
			[]string{"read", "/notices?fields=title&limit=1", "--edition", "preview", "-o", "yaml"},
			[]string{"items:", "window:"},
		},
		{[]string{"entry", "list", "--type", "pier"}, []string{"ID", "Kvalholm", "published", "en ja nb"}},
		{[]string{"entry", "list", "--state", "draft"}, []string{"Draft - easter timetable"}},
		{[]string{"entry", "show", entries.Items[0].ID}, []string{"Fog week", "harbour-office " +
			"R-1009", "SEQUENCE", "edit at"}},
		{[]string{"event", "list"}, []string{"ACCEPTED", "FRESH"}},
		{[]string{"build", "list"}, []string{"SITE", "skerry-web"}},
		{[]string{"cache", "stats"}, []string{"responses", "hits", "applied sequence"}},
		{[]string{"cache", "purge", "--yes"}, []string{"answers thrown away"}},
		{
			[]string{"key", "create", "board", "--grant", "read published notice", "--days", "3"},
			[]string{"secret", "ubq_", "shown only now"},
		},
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
		{[]string{"read", "/dispatchs"}, exitNotFound, `did you mean "dispatches"?`},
		{[]string{"entry", "show", "nobody"}, exitNotFound, "not found"},
		{[]string{"entry", "list", "--address", "http://127.0.0.1:1"}, exitUnreachable, "no service answers at " +
			"http://127.0.0.1:1"},
		{[]string{"entry", "list", "--key", "ubq_x"}, exitRefused, "copied whole"},
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

// TestErrorsAsJSON has errors come as problem documents where the output is JSON.
func TestErrorsAsJSON(t *testing.T) {
	for _, c := range []struct {
		args   []string
		status float64
		detail string
	}{
		{[]string{"entry", "show", "nobody", "-o", "json"}, 404, "not found"},
		{[]string{"entry", "list", "--state", "drafty", "-o", "json"}, 0, "published, revised or retired"},
	} {
		_, out, errOut := run(t, c.args...)
		var p struct {
			Status float64
			Detail string
		}
		if err := json.Unmarshal([]byte(errOut), &p); err != nil || out != "" || p.Status != c.status ||
			!strings.Contains(p.Detail, c.detail) {
			t.Errorf("%v: %s %s, %v", c.args, out, errOut, err)
		}
	}
	for _, args := range [][]string{
		{"document", "list"},
		{"key", "list"},
		{"entry", "list"},
		{"event", "list"},
		{"build", "list"},
		{"schedule", "list"},
		{"origin", "list"},
		{"cache", "list"},
		{"preview", "list"},
		{"account", "list"},
		{"change", "list"},
		{"key", "refused"},
		{"audit"},
		{"context", "list"},
		{"locale", "list"},
	} {
		code, out, errOut := run(t, append(args, "-o", "json")...)
		var list struct{ Items []any }
		if err := json.Unmarshal([]byte(out), &list); code != 0 || err != nil ||
			!strings.Contains(out, `"items": [`) {
			t.Errorf("%v: %d %s %s, %v", args, code, out, errOut, err)
		}
	}
}

// TestContexts remembers services by names.
func TestContexts(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("UBIQUON_ADDRESS", line.Connection.Gateway+"/content/main/published") // as a site has it
	plain := func(args ...string) (int, string, string) {
		var o, e bytes.Buffer
		code := Run(args, strings.NewReader(""), &o, &e)
		return code, o.String(), e.String()
	}
	if code, _, errOut := plain("context", "add", "line", "--key", line.Connection.Keys.Admin); code != 0 {
		t.Fatal(errOut)
	}
	if code, _, errOut := plain("context", "add", "away", "--address", "http://127.0.0.1:1", "--key",
		line.Connection.Keys.Preview); code != 0 {
		t.Fatal(errOut)
	}
	key := filepath.Join(dir, "ubiquon", "keys", "line")
	if info, err := os.Stat(key); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v %v", info, err)
	}
	os.Unsetenv("UBIQUON_ADDRESS")
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"entry", "list", "--limit", "1"}, exitFine, ""},
		{[]string{"entry", "list", "--context", "away"}, exitUnreachable, "127.0.0.1:1"},
		{[]string{"entry", "list", "--context", "awya"}, exitMisuse, `did you mean "away"?`},
		{[]string{"context", "use", "away"}, exitFine, ""},
		{[]string{"entry", "list"}, exitUnreachable, ""},
		{[]string{"context", "add", "Not A Name", "--key", "ubq_x"}, exitMisuse, "no name for a context"},
		{[]string{"context", "remove", "away"}, exitFine, ""},
		{[]string{"context", "use", "line"}, exitFine, ""},
		{[]string{"status"}, exitFine, ""},
	} {
		if code, out, errOut := plain(c.args...); code != c.code || !strings.Contains(errOut, c.want) {
			t.Errorf("%v: exit %d, want %d: %s%s", c.args, code, c.code, out, errOut)
		}
	}
	if err := os.Chmod(key, 0o644); err != nil {
		t.Fatal(err)
	}
	if code, _, errOut := plain("status"); code != exitFailed || !strings.Contains(errOut, "others can read") {
		t.Errorf("a key that others can read: %d %s", code, errOut)
	}
}

// TestModelFileAddsTypes plans a file with one type beside the model in force.
func TestModelFileAddsTypes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lighthouse.yaml")
	if err := os.WriteFile(file, []byte("types: {lighthouse: {fields: {name: {kind: text}, pier: {kind: "+
		"reference, types: [pier]}}}}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	code, out, errOut := run(t, "model", "diff", file, "-o", "json")
	var plan struct {
		Consequences []struct{ Where, What string }
		Warnings     []string
		Loses        bool
	}
	if err := json.Unmarshal([]byte(out), &plan); code != 0 || err != nil || len(plan.Consequences) != 1 ||
		plan.Consequences[0].What != "added" ||
		plan.Loses ||
		len(plan.Warnings) != 1 ||
		!strings.Contains(plan.Warnings[0], "not the new type lighthouse") {
		t.Errorf("%d %s %s %v", code, out, errOut, err)
	}
}

// TestTheReferenceNamesFlagsThatExist reads the page of commands.
func TestTheReferenceNamesFlagsThatExist(t *testing.T) {
	src, err := os.ReadFile("../../docs/reference/commands.md")
	if err != nil {
		t.Fatal(err)
	}
	root := newApp(nil, nil, nil).Root()
	seen := 0
	for row := range strings.Lines(string(src)) {
		quoted := regexp.MustCompile("`[^`]+`").FindAllString(row, -1)
		if !strings.HasPrefix(row, "| `ubiquon ") {
			continue
		}
		flags := map[string]bool{}
		for _, words := range quoted {
			name := strings.TrimPrefix(strings.Trim(words, "`"), "ubiquon ")
			name, _, _ = strings.Cut(name, " ")
			for _, c := range root.Commands() {
				for _, sub := range append(c.Commands(), c) {
					if c.Name() == name || slices.Contains(strings.Split(name, `\|`), sub.Name()) {
						for _, set := range []*pflag.FlagSet{
							sub.Flags(), sub.PersistentFlags(),
							root.PersistentFlags(),
						} {
							set.VisitAll(func(f *pflag.Flag) { flags["--"+f.Name] = true })
						}
					}
				}
			}
		}
		for _, words := range quoted {
			for _, flag := range regexp.MustCompile(`--[a-z][a-z-]*`).FindAllString(words, -1) {
				if seen++; !flags[flag] {
					t.Errorf("there is no %s: %s", flag, row)
				}
			}
		}
	}
	if seen < 50 {
		t.Errorf("only %d flags were found", seen)
	}
}

// TestCompletion asks for the words that may stand in a place.
func TestCompletion(t *testing.T) {
	for args, want := range map[string]string{
		"entry list --type ": "dispatch", "read / --locale ": "nb", "read / --edition p": "preview",
		"build start ": "skerry-web", "origin show ": "harbour-office",
		"entry show ": "\t", "key show ": "\t", "entry list -o j": "json",
	} {
		parts := strings.Split(args, " ")
		if _, out, errOut := run(t, append([]string{"__complete"}, parts...)...); !strings.Contains(out, want) {
			t.Errorf("%s: %s%s", args, out, errOut)
		}
	}
}

// TestTextIsWholeInPipes cuts columns for terminals alone.
func TestTextIsWholeInPipes(t *testing.T) {
	_, cut, _ := run(t, "key", "list")
	t.Setenv("COLUMNS", "0")
	_, whole, _ := run(t, "key", "list")
	if !strings.Contains(cut, "…") || strings.Contains(whole, "…") || strings.Contains(whole, "\x1b") {
		t.Errorf("cut:\n%s\nwhole:\n%s", cut, whole)
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
	file := write(
		t,
		map[string]string{
			"ubiquon.yaml": "listen: 127.0.0.1:1\nenvironment: fromfile\ndata: d\nmodel: model\ncache: {bytes: " +
				"64MB}\nlog: {level: warn}\n",
			"model/m.yaml": smallModel,
		},
	)
	t.Setenv("UBIQUON_ENVIRONMENT", "fromvariable")
	t.Setenv("UBIQUON_LISTEN", "127.0.0.1:2")
	c, err := servicecmd.LoadConfig(file, map[string]string{"listen": "127.0.0.1:3"})
	if err != nil {
		t.Fatal(err)
	}
	if c.Listen != "127.0.0.1:3" || c.Environment != "fromvariable" || c.Log.Level != "warn" ||
		c.CacheBytes != 64<<20 ||
		c.Data != filepath.Join(filepath.Dir(file), "d") {
		t.Errorf("%+v", c)
	}
	t.Setenv("UBIQUON_LISTN", "x")
	if c, err := servicecmd.LoadConfig(file, nil); err != nil || len(c.Warnings) != 1 ||
		!strings.Contains(c.Warnings[0], `did you mean "UBIQUON_LISTEN"?`) {
		t.Errorf("an unknown variable: %v %v", c, err)
	}
	for name, code := range map[string]int{"UBIQUON_SERVICE_HOST": exitMisuse, "": exitFine} {
		os.Unsetenv("UBIQUON_LISTN")
		if name != "" {
			t.Setenv(name, "10.0.0.7")
		}
		if got, out, errOut := run(t, "config", "check", "--config", file); got != code ||
			!strings.Contains(errOut, name) {
			t.Errorf("config check with %q: %d %s%s", name, got, out, errOut)
		}
		os.Unsetenv(name)
	}
}

func TestConfigurationMistakes(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"unknown key": {map[string]string{"ubiquon.yaml": "listn: x\n"}, `did you mean "listen"?`},
		"unknown inner key": {
			map[string]string{"ubiquon.yaml": "log: {levle: x}\n"},
			`ubiquon.yaml:1:7: unknown key "levle" in log; did you mean "level"?`,
		},
		"no such model": {map[string]string{"ubiquon.yaml": "model: nowhere\n"}, "nowhere"},
		"empty model":   {map[string]string{"ubiquon.yaml": "model: m\n", "m/readme.txt": ""}, "no .yaml files"},
		"bad size": {map[string]string{"ubiquon.yaml": "model: m\ncache: {bytes: " +
			"lots}\n", "m/m.yaml": smallModel}, "256MB"},
		"unset secret below": {map[string]string{"ubiquon.yaml": "model: m\ndownstream: {edge: {call: " +
			"\"http://a\", secret: \"env:NOT_SET_HERE\"}}\n", "m/m.yaml": smallModel}, "downstream edge: the variable " +
			"NOT_SET_HERE is not set"},
		"unset secret": {map[string]string{"ubiquon.yaml": "model: m\nsites: " +
			"s.yaml\n", "m/m.yaml": smallModel, "s.yaml": "sites: {web: {address: http://a, build: {call: " +
			"http://a, secret: \"env:NOT_SET_HERE\"}}}\n"}, "NOT_SET_HERE is not set"},
		"bad rules": {map[string]string{"ubiquon.yaml": "model: m\nrules: " +
			"r.yaml\n", "m/m.yaml": smallModel, "r.yaml": "rules: [{nmae: x}]\n"}, `did you mean "name"?`},
	} {
		if _, err := servicecmd.LoadConfig(write(t, c.files), nil); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}
