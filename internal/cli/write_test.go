package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/contentcmd"
	"ubiquon/internal/client"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/testkit"
)

// must runs a command that has to succeed, and returns what it prints.
func must(t *testing.T, args ...string) string {
	t.Helper()
	code, out, errOut := run(t, args...)
	if code != exitFine {
		t.Fatalf("%v: exit %d: %s%s", args, code, out, errOut)
	}
	return out
}

// refused runs a command that has to fail with these words.
func refused(t *testing.T, want string, args ...string) {
	t.Helper()
	if code, out, errOut := run(t, args...); code == exitFine || code == exitMisuse ||
		!strings.Contains(errOut, want) {
		t.Errorf("%v: exit %d, want %q in: %s%s", args, code, want, out, errOut)
	}
}

// modelDir writes the present model, changed, into a directory.
func modelDir(t *testing.T, replacements ...string) string {
	t.Helper()
	dir := t.TempDir()
	src := strings.NewReplacer(replacements...).Replace(must(t, "model", "show"))
	if err := os.WriteFile(filepath.Join(dir, "model.yaml"), []byte(src), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

var savedID = regexp.MustCompile(`^(\S+) saved as`)

// TestFromANewTypeToTwoPublishedEntries goes the way of a newcomer, with the
// command line alone.
func TestFromANewTypeToTwoPublishedEntries(t *testing.T) {
	dir := modelDir(t, "types:\n", `types:
  boat:
    plural: boats
    path: /boats/{slug}
    fields:
      name: {kind: text, required: true, translated: true}
      slug: {kind: slug, madeFrom: name}
      home: {kind: reference, types: [pier], inverse: boats}
`)
	if out := must(t, "model", "check", dir); !strings.Contains(out, "Fine: ") {
		t.Error(out)
	}
	if out := must(t, "model", "diff", dir); !strings.Contains(out, "boat") ||
		!strings.Contains(out, "a new type with 3 fields") {
		t.Error(out)
	}
	if out := must(t, "model", "apply", dir); !strings.Contains(out, "Applied as version") {
		t.Error(out)
	}
	if out := must(t, "model", "apply", dir); !strings.Contains(out, "Nothing to do") {
		t.Error(out)
	}
	one := savedID.FindStringSubmatch(must(t, "entry", "create", "boat", "--set", "name.en=Storm Petrel", "--set",
		"name.nb=Stormsvale"))[1]
	two := savedID.FindStringSubmatch(must(t, "entry", "create", "boat", "--set", "name.en=Black Guillemot"))[1]
	must(t, "entry", "edit", two, "--set", "name.nb=Teist", "--message", "in Norwegian too")
	must(t, "entry", "publish", one, "--locale", "nb")
	if out := must(t, "read", "/boats?locale=nb&fields=name,about(path,locales)"); !strings.Contains(
		out, "Stormsvale",
	) ||
		strings.Contains(out, "Storm Petrel") ||
		strings.Contains(out, "Teist") {
		t.Errorf("readers in nb get %s", out)
	}
	if out := must(t, "read", "/boats"); !strings.Contains(out, `"items": []`) {
		t.Errorf("readers in en get %s", out)
	}
	at := time.Now().Add(2 * time.Second)
	if out := must(t, "entry", "schedule", two, "--publish-at", at.UTC().Format("2006-01-02T15:04:05"), "--zone",
		"UTC"); !strings.Contains(
		out, "pending",
	) {
		t.Error(out)
	}
	if out := must(t, "entry", "list", "--type", "boat"); !strings.Contains(out, "scheduled") ||
		!strings.Contains(out, "revised") {
		t.Error(out)
	}
	testkit.Eventually(t, "the schedule has come", func() bool {
		return strings.Contains(must(t, "read", "/boats?fields=name"), "Black Guillemot")
	})
	s := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	e, err := s.Entries().Get(t.Context(), two)
	if err != nil || e.Schedules[0].State != entries.ScheduleDone ||
		e.EntryRecord.Entry.Published.Before(at.Truncate(time.Second)) ||
		e.EntryRecord.Entry.Published.Sub(at) > time.Second {
		t.Errorf("scheduled for %s, published at %s, %+v, %v", at, e.EntryRecord.Entry.Published, e.Schedules, err)
	}
	if out := must(t, "entry", "show", "boat/black-guillemot"); !strings.Contains(out, "in Norwegian too") {
		t.Error(out)
	}

	// The rest of an entry's life.
	must(t, "entry", "edit", one, "--set", "name.en=Storm Petrel II")
	if out := must(t, "entry", "diff", one); !strings.Contains(out, "Storm Petrel II") ||
		!strings.Contains(out, "PUBLISHED") {
		t.Error(out)
	}
	must(t, "entry", "submit", one, "--remark", "please look")
	refused(t, "nothing new to review", "entry", "submit", two)
	must(t, "entry", "return", one, "--remark", "which one was the first?")
	if out := must(t, "entry", "show", one); !strings.Contains(out, "which one was the first?") {
		t.Error(out)
	}
	must(t, "entry", "discard", one)
	must(t, "entry", "restore", one, "--revision", "2")
	copied := strings.Fields(must(t, "entry", "duplicate", one))[0]
	if out := must(t, "entry", "show", copied); !strings.Contains(out, "Storm Petrel II (copy)") ||
		!strings.Contains(out, "copied from "+one) {
		t.Error(out)
	}
	must(t, "entry", "retire", copied)
	if out := must(t, "entry", "list", "--type", "boat"); strings.Contains(out, copied) {
		t.Errorf("what is retired is listed: %s", out)
	}
	refused(t, "refers to it in home", "entry", "delete", pierOf(t, s, one))
	if out := must(t, "entry", "publish", "--type", "boat", "--state", "revised", "--yes"); !strings.Contains(
		out, one,
	) {
		t.Error(out)
	}
	if code, _, errOut := run(t, "entry", "unpublish", "--type", "boat", "--state", "published"); code != exitFailed ||
		!strings.Contains(errOut, "nothing was done") {
		t.Errorf("without a yes: %d %s", code, errOut)
	}
	must(t, "entry", "delete", one, two, copied)

	lossy := modelDir(t, "      home: {kind: reference, types: [pier], inverse: boats}\n", "")
	if out := must(t, "model", "diff", lossy); !strings.Contains(out, "no entry has any") {
		t.Error(out)
	}
	dir = modelDir(t, "summary: {kind: text, translated: true, max: 200}", "summary: {kind: boolean}")
	refused(t, "the model would lose content", "model", "apply", dir)
	if code, _, errOut := run(t, "model", "check", modelDir(t, "kind: boolean", "kind: bolean")); code != exitFailed ||
		!strings.Contains(errOut, `unknown kind "bolean"; did you mean "boolean"?`) ||
		!strings.Contains(errOut, "model.yaml:") {
		t.Errorf("a mistake in the model: %d %s", code, errOut)
	}
	must(
		t,
		"model",
		"apply",
		modelDir(
			t, regexp.MustCompile(`(?s)  boat:\n.*?\n  dispatch:`).FindString(must(t, "model", "show")),
			"  dispatch:",
		),
	)
}

// pierOf makes a boat refer to a pier, and returns that.
func pierOf(t *testing.T, s *client.Client, boat string) string {
	t.Helper()
	piers, _, err := s.Entries().List(t.Context(), api.EntryFilter{Type: "pier", Search: "Mella"})
	if err != nil || len(piers) != 1 {
		t.Fatal(piers, err)
	}
	must(t, "entry", "edit", boat, "--set", "home="+piers[0].ID)
	return piers[0].ID
}

func TestEditorLosesNothing(t *testing.T) {
	id := savedID.FindStringSubmatch(must(t, "entry", "create", "notice", "--set", "title.en=Ebb", "--set",
		"severity=delay"))[1]
	script := filepath.Join(t.TempDir(), "editor")
	edit := func(sed string) (int, string, string) {
		if err := os.WriteFile(script, []byte("#!/bin/sh\nsed -i '"+sed+"' \"$1\"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		t.Setenv("EDITOR", script)
		return run(t, "entry", "edit", id)
	}
	if code, out, errOut := edit("s/Ebb/Flood/"); code != exitFine || !strings.Contains(out, "revision 2") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	if code, _, errOut := edit("s/nothing/something/"); code != exitFailed ||
		!strings.Contains(errOut, "nothing was changed") {
		t.Errorf("unchanged: %d %s", code, errOut)
	}
	code, _, errOut := edit("s/delay/dealy/")
	kept := regexp.MustCompile(`kept in (\S+);`).FindStringSubmatch(errOut)
	if code != exitFailed || !strings.Contains(errOut, `did you mean "delay"?`) || kept == nil {
		t.Fatalf("a wrong value: %d %s", code, errOut)
	}
	defer os.Remove(kept[1])
	src, err := os.ReadFile(kept[1])
	if err != nil || !strings.Contains(string(src), "dealy") ||
		!strings.Contains(string(src), "# prose; one for each of en, nb, de, ja") {
		t.Errorf("kept: %v\n%s", err, src)
	}
	if err := os.WriteFile(kept[1], bytes.ReplaceAll(src, []byte("dealy"), []byte("cancelled")), 0o600); err != nil {
		t.Fatal(err)
	}
	must(t, "entry", "edit", id, "--file", kept[1])
	if out := must(t, "entry", "show", id, "--revision", "3"); !strings.Contains(out, "cancelled") {
		t.Error(out)
	}
	must(t, "entry", "delete", id)
}

func TestImportAndExport(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	var lines strings.Builder
	for i := range 120 {
		fmt.Fprintf(
			&lines,
			`{"id":"tide-%d","type":"notice","fields":{"title":{"en":"Tide %d"},"severity":"information"},"published":"2026-03-0%dT08:00:00Z"}`+"\n",
			i, i, i%9+1,
		)
	}
	good := lines.String()
	bad := strings.Replace(good, `"Tide 7"`, `7`, 1)
	bad = strings.Replace(
		bad, `"type":"notice","fields":{"title":{"en":"Tide 9"}`, `"type":"notise","fields":{"title":{"en":"Tide 9"}`,
		1,
	)
	if code, _, errOut := run(t, "entry", "import", file("bad.ndjson", bad), "--all-or-nothing"); code != exitFailed ||
		!strings.Contains(errOut, "line 8: ") ||
		!strings.Contains(errOut, `line 10: there is no type "notise"; did you mean "notice"?`) ||
		!strings.Contains(errOut, "nothing was written") {
		t.Errorf("all or nothing: %d %s", code, errOut)
	}
	if out := must(t, "entry", "list", "--search", "Tide", "--limit", "3"); strings.Contains(out, "tide-") {
		t.Errorf("something was written: %s", out)
	}
	if code, out, errOut := run(t, "entry", "import", file("bad.ndjson", bad)); code != exitFailed ||
		!strings.Contains(out, "118 entries written, 0 the same as before, 2 lines not good") {
		t.Errorf("the rest goes on: %d %s %s", code, out, errOut)
	}
	path := file("good.ndjson", good)
	if out := must(t, "entry", "import", path); !strings.Contains(
		out, "2 entries written, 118 the same as before, 0 lines not good",
	) {
		t.Errorf("run again: %s", out)
	}
	if out := must(t, "entry", "import", path, "--after", "110"); !strings.Contains(
		out, "0 entries written, 10 the same",
	) {
		t.Errorf("the rest alone: %s", out)
	}
	if code, _, errOut := run(t, "entry", "import", file("bad.ndjson", "{}\n"+good),
		"--stop-at-bad"); code != exitFailed ||
		!strings.Contains(errOut, "stopped at a bad line: line 1") {
		t.Errorf("stopping: %d %s", code, errOut)
	}
	refused(t, "line 1: it has no fields", "entry", "import", file("x.ndjson", `{"id":"x","type":"notice"}`))
	refused(
		t, `leads to "nowhere"`, "entry", "import",
		file("y.ndjson", `{"id":"y","type":"notice","fields":{"title":{"en":"Y"},"routes":["nowhere"]}}`),
	)
	must(t, "entry", "delete", "y")
	must(t, "entry", "edit", "tide-3", "--set", "title.nb=Tidevann 3")
	exported := filepath.Join(dir, "out.ndjson")
	must(t, "entry", "export", "--type", "notice", "--revisions", "--to", exported)
	src, err := os.ReadFile(exported)
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for l := range strings.Lines(string(src)) {
		var one struct {
			ID        string
			Published *time.Time
			Fields    map[string]any
			Live      map[string]any
			Revisions []any
		}
		if err := json.Unmarshal([]byte(l), &one); err != nil {
			t.Fatal(err)
		}
		if one.ID == "tide-3" {
			found = true
			if one.Published.Day() != 4 || one.Live == nil || len(one.Revisions) != 1 ||
				one.Fields["title"].(map[string]any)["nb"] != "Tidevann 3" {
				t.Errorf("exported %s", l)
			}
		}
	}
	if !found {
		t.Error("tide-3 is not exported")
	}
	if out := must(t, "entry", "import", exported); !strings.Contains(out, "0 entries written") {
		t.Errorf("what was exported is imported as something else: %s", out)
	}
	refused(t, `did you mean "notice"?`, "entry", "export", "--type", "notise")
	must(t, "entry", "delete", "--search", "Tide", "--type", "notice", "--yes")
}

func TestLocales(t *testing.T) {
	if out := must(t, "locale", "list"); !strings.Contains(out, "default") || !strings.Contains(out, "Norsk bokmål") {
		t.Error(out)
	}
	if out := must(t, "locale", "add", "Faroese", "--fallback", "nb"); !strings.Contains(out, "fo added") {
		t.Error(out)
	}
	if out := must(t, "locale", "list"); !strings.Contains(out, "føroyskt") {
		t.Error(out)
	}
	if out := must(t, "read", "/routes/outer-ring?fields=name,about(filledIn)&locale=fo"); !strings.Contains(
		out, "Ytre ring",
	) ||
		!strings.Contains(out, `"name"`) {
		t.Errorf("fo falls back to %s", out)
	}
	if out := must(t, "read", "/notices?translated=only&locale=fo"); !strings.Contains(out, `"items": []`) {
		t.Errorf("nothing is written in fo, but %s", out)
	}
	if out := must(t, "locale", "coverage", "--type", "notice"); !strings.Contains(out, "fo") ||
		!strings.Contains(out, "░") {
		t.Error(out)
	}
	refused(t, "fall back to each other", "locale", "change", "nb", "--fallback", "fo")
	must(t, "locale", "order", "nb", "en", "de", "ja", "fo")
	if out := must(t, "read", "/routes/outer-ring?fields=name"); !strings.Contains(out, "Ytre ring") {
		t.Errorf("nb is the default, but %s", out)
	}
	must(t, "locale", "order", "en", "nb", "de", "ja", "fo")
	must(t, "locale", "retire", "fo")
	refused(t, `there is no locale "fo"`, "read", "/routes/outer-ring?locale=fo")
	must(t, "locale", "restore", "fo")
	must(t, "locale", "retire", "fo")
	refused(t, "neither a BCP 47 tag nor the English name", "locale", "add", "Faroesse dialect")
}

func TestSchedulesAreMovedAndCancelled(t *testing.T) {
	id := savedID.FindStringSubmatch(must(t, "entry", "create", "notice", "--set", "title.en=Spring "+
		"tide", "--set", "severity=delay"))[1]
	refused(t, "over already", "entry", "schedule", id, "--publish-at", "2020-01-01T08:00")
	refused(
		t, "is no time zone", "entry", "schedule", id, "--publish-at", "2030-01-01T08:00", "--zone",
		"Europe/Atlantis",
	)
	refused(
		t, "does not exist in Europe/Oslo", "entry", "schedule", id, "--publish-at", "2030-03-31T02:30", "--zone",
		"Europe/Oslo",
	)
	refused(t, "comes twice", "entry", "schedule", id, "--publish-at", "2030-10-27T02:30", "--zone", "Europe/Oslo")
	out := must(
		t, "entry", "schedule", id, "--publish-at", "2030-01-01T08:00", "--zone", "Europe/Oslo", "--unpublish-at",
		"2030-02-01T08:00",
	)
	ids := regexp.MustCompile(`(?m)^([0-9a-f]{8}) `).FindAllStringSubmatch(out, -1)
	if len(ids) != 2 || !strings.Contains(out, "2030-01-01") {
		t.Fatal(out)
	}
	if out := must(t, "schedule", "move", ids[0][1], "--at", "2031-01-01T08:00", "--zone",
		"Europe/Oslo"); !strings.Contains(
		out, "2031-01-01",
	) {
		t.Error(out)
	}
	must(t, "schedule", "cancel", ids[1][1])
	if out := must(t, "schedule", "list"); !strings.Contains(out, "cancelled") ||
		!strings.Contains(out, "by demo admin") {
		t.Error(out)
	}
	refused(t, "0 pending schedules", "schedule", "cancel", ids[1][1])
	must(t, "entry", "delete", id)
}

// TestSetTakesValuesAsTheirFieldsDo gives values on the command line that look like others.
func TestSetTakesValuesAsTheirFieldsDo(t *testing.T) {
	typ := testkit.Model(t,
		`types: {review: {fields: {score: {kind: choice, options: {"1": One}}, title: {kind: text, translated: true}, berths: {kind: integer}, tags: {kind: text, several: true}}}}`).
		Type("review")
	fields := map[string]any{}
	for _, set := range []string{"score=1", "title.nb=true", "berths=3", `tags=["a", 2]`} {
		if err := (&contentcmd.Commands{}).SetField(t.Context(), nil, typ, fields, set); err != nil {
			t.Errorf("%s: %v", set, err)
		}
	}
	if got := contentcmd.PlainJSON(fields); got != `{"berths":3,"score":"1","tags":["a","2"],"title":{"nb":"true"}}` {
		t.Error(got)
	}
}
