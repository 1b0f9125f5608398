package demo_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"ubiquon/internal/core/picture"
)

// TestConsoleModules runs the console's computing modules under Node.
func TestConsoleModules(t *testing.T) {
	console, err := filepath.Abs("../../console")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	entry := ""
	for name, file := range map[string]string{
		"zone": "lib/zone", "merge": "features/types/merge", "values": "features/types/field-values",
		"pruned": "features/entries/pruned", "format": "ui/format", "read": "lib/read", "crop": "features/files/crop",
	} {
		entry += fmt.Sprintf("export * as %s from %q;\n", name, filepath.Join(console, "src", file))
	}
	if err := os.WriteFile(filepath.Join(dir, "entry.ts"), []byte(entry), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	bundle := exec.CommandContext(ctx, filepath.Join(console, "node_modules/.bin/rolldown"),
		filepath.Join(dir, "entry.ts"), "--file", filepath.Join(dir, "modules.mjs"), "--format", "esm",
		"--platform", "node", "--logLevel", "silent")
	if out, err := bundle.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, c := range []struct{ name, script, want string }{
		{"a local time in a zone", `m.zone.localIn("Europe/Oslo", new Date("2026-07-01T06:00:30Z"))`, `"2026-07-01T08:00:30"`},
		{"its moment", `m.zone.momentOf("2026-07-01T08:00:30", "Europe/Oslo")`, `"2026-07-01T06:00:30Z"`},
		{"a moment without seconds", `m.zone.momentOf("2026-12-01T08:00", "Asia/Tokyo")`, `"2026-11-30T23:00:00Z"`},
		{"clocks are put forward", `m.zone.momentOf("2026-03-29T02:30", "Europe/Oslo")`, `null`},
		{"clocks are put back", `m.zone.momentOf("2026-10-25T02:30", "Europe/Oslo")`, `"2026-10-25T00:30:00Z"`},
		{"by half an hour", `m.zone.momentOf("2026-04-05T01:45", "Australia/Lord_Howe")`, `"2026-04-04T14:45:00Z"`},
		{
			"spans", `[0.02, 4.2, 950, 61000, 7.3e6, 3e8].map(m.format.spanText)`,
			`["20 µs","4.2 ms","950 ms","1.0 min","2.0 h","3.5 days"]`,
		},
		{
			"crops, as the service has them", `[[1200, 800, 400, 400], [1200, 800, 600, 400], [900, 600, 16, 9], [333, 777, 3, 4]].flatMap(
			([a, b, w, h]) => [undefined, { x: .8, y: .4, width: .2, height: .2 }].map((f) => Object.values(m.crop.crop(a, b, w, h, f))))`,
			crops(),
		},
		{"a focus within the picture", `m.crop.within({ x: -1, y: .95, width: .2, height: 3 })`, `{"x":0,"y":0,"width":0.2,"height":1}`},
		{"names", `["validUntil", "title"].map(m.format.saidName)`, `["Valid until","Title"]`},
		{
			"empty rows are not saved", `m.pruned.pruned({ a: ["x", "", {}], b: [""], c: { en: ["", "y"] }, d: "" })`,
			`{"a":["x"],"c":{"en":["y"]},"d":""}`,
		},
		{"a kind's settings go with it", `m.values.fieldOf({ ...m.values.valuesOf(
			{ name: "n", kind: "text", pattern: "a+", min: 1, unique: true, help: "h" }), kind: "boolean" },
			{ name: "n", kind: "text", pattern: "a+", min: 1, unique: true, help: "h" },
			{ known: true, inner: [], locale: "en" })`, `{"name":"n","kind":"boolean","help":"h"}`},
		{
			"labels are kept", `m.values.fieldOf((() => {
			const v = m.values.valuesOf(choice); v.options[0].label = "Held up"; return v; })(), choice,
			{ known: true, inner: [], locale: "en" }).options[0]`,
			`{"value":"delay","label":"Held up","labels":{"nb":"Forsinket","en":"Held up"}}`,
		},
		{"a renamed field says what it was", `m.values.fieldOf({ ...m.values.valuesOf(choice), name: "other" }, choice,
			{ known: true, inner: [], locale: "en" }).was`, `"severity"`},
		{"changes of two fields go together", `(() => {
			const out = m.merge.merge(model(), model((t) => (t.fields[0].help = "mine")), model((t) => (t.fields[1].help = "theirs")));
			return [out.conflicts, out.model.types[0].fields.map((f) => f.help)]; })()`, `[[],["mine","theirs"]]`},
		{"both change one field", `(() => {
			const out = m.merge.merge(model(), model((t) => (t.fields[0].help = "mine")), model((t) => (t.fields[0].help = "theirs")));
			return [out.conflicts, out.model.types[0].fields[0].help]; })()`, `[["notice.title"],"mine"]`},
		{"one adds, the other takes out", `(() => {
			const out = m.merge.merge(model(), model((t) => t.fields.push({ name: "c", kind: "text" })), model((t) => t.fields.shift()));
			return [out.conflicts, out.model.types[0].fields.map((f) => f.name)]; })()`, `[[],["severity","c"]]`},
		{"a type that one changes and the other takes out", `m.merge.merge(model(), model((t) => (t.label = "N")),
			{ locales: [], types: [] }).conflicts`, `["notice"]`},
		{
			"a request", `m.read.requestOf(m.read.partsOf("/notices?fields=title,slug&filter=title = 'Fog'&limit=3"))`,
			`"/notices?fields=title,slug&filter=title%20=%20'Fog'&limit=3"`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			script := `import * as m from "./modules.mjs";
				const choice = { name: "severity", kind: "choice", options: [{ value: "delay", label: "Delay", labels: { en: "Delay", nb: "Forsinket" } }] };
				const model = (change = () => {}) => { const t = { name: "notice", plural: "notices", label: "Notice",
					fields: [{ name: "title", kind: "text" }, structuredClone(choice)] }; change(t); return { locales: [], types: [t] }; };
				process.stdout.write(JSON.stringify(` + c.script + `));`
			run := exec.CommandContext(ctx, "node", "--input-type=module", "-e", script)
			run.Dir = dir
			out, err := run.Output()
			if err != nil || !sameJSON(string(out), c.want) {
				t.Errorf("got %s, want %s, %v", out, c.want, err)
				var exit *exec.ExitError
				if errors.As(err, &exit) {
					t.Log(string(exit.Stderr))
				}
			}
		})
	}
}

// sameJSON tells whether two texts are the same JSON, whatever the order of members.
func sameJSON(a, b string) bool {
	var x, y any
	return json.Unmarshal([]byte(a), &x) == nil && json.Unmarshal([]byte(b), &y) == nil && reflect.DeepEqual(x, y)
}

// crops are the regions that the service makes of the same pictures.
func crops() string {
	var out [][4]int
	for _, p := range [][4]int{{1200, 800, 400, 400}, {1200, 800, 600, 400}, {900, 600, 16, 9}, {333, 777, 3, 4}} {
		for _, focus := range [][4]float64{{}, {.8, .4, .2, .2}} {
			b := picture.Crop(p[0], p[1], p[2], p[3], focus)
			out = append(out, [4]int{b.X, b.Y, b.Width, b.Height})
		}
	}
	src, _ := json.Marshal(out)
	return string(src)
}
