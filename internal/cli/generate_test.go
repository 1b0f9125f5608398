package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestGenerate writes the typed reader from the running service, compiles it, and
// reads with it.
func TestGenerate(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "src", "content.ts")
	if code, _, errOut := run(t, "generate", "ts", "--to", file); code != exitFine ||
		!strings.Contains(errOut, "wrote ") {
		t.Fatalf("%d %s", code, errOut)
	}
	if code, _, errOut := run(t, "generate", "ts", "--to", file, "--check"); code != exitFine || errOut != "" {
		t.Errorf("just written: %d %s", code, errOut)
	}
	main := `import { Reader, ReadError } from "./content.js";
const reader = new Reader();
const list = await reader.list("notices", { fields: ["title", { routes: ["name"] }], filter: "severity = 'cancelled'", sort: ["title"], limit: 1, count: true });
const one = await reader.one("notices", "north-line-cancelled-on-sunday", { fields: ["title"], locale: "nb" });
const none = await reader.one("notices", "no-such-notice");
const settings = await reader.single("harbour-settings");
const refused = await new Reader({ key: "" }).list("notices").catch((e: unknown) => (e instanceof ReadError ? [e.status, e.problem.grant] : e));
const titles: string[] = [];
for await (const n of reader.all("notices", { fields: ["title", "slug"], sort: ["title"], limit: 2 })) titles.push(n.slug ?? "");
let sequence = "";
const at = await reader.at("/notices/north-line-cancelled-on-sunday", { onHeaders: (h) => (sequence = h.get("Ubiquon-Sequence") ?? ""), fetch: { cache: "no-store" } });
const paths: string[] = [];
for await (const p of reader.paths({ type: "notice" })) paths.push(p.path);
const graph = await reader.graphql<{ notices: { totalCount: number } }>("{ notices { totalCount } }");
console.log(JSON.stringify({ list, one, none, name: settings?.name, refused, titles, at: at?.id, sequence, paths, total: graph.notices.totalCount }));
`
	for name, text := range map[string]string{"src/main.ts": main, "package.json": `{"type": "module"}`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("../../console/node_modules/.bin/tsc", "--strict", "--target", "es2022", "--module",
		"esnext", "--moduleResolution", "bundler", "--lib", "es2023,dom", "--outDir", filepath.Join(dir, "out"),
		filepath.Join(dir, "src", "main.ts")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	node := exec.Command("node", filepath.Join(dir, "out", "main.js"))
	node.Env = append(
		os.Environ(), "UBIQUON_ADDRESS="+line.Connection.Gateway+"/content/main/published",
		"UBIQUON_KEY="+line.Connection.Keys.Published,
	)
	out, err := node.CombinedOutput()
	var got struct {
		List struct {
			Items  []struct{ Title string }
			Window struct{ Total int }
		}
		One      struct{ Title string }
		None     any
		Name     string
		Refused  []any
		Titles   []string
		At       string
		Sequence string
		Paths    []string
		Total    int
	}
	if err != nil || json.Unmarshal(out, &got) != nil || got.List.Window.Total != 2 ||
		got.List.Items[0].Title != "North Line cancelled on Sunday" ||
		got.One.Title != "Nordlinja innstilt søndag" || got.None != nil ||
		got.Name != "Skerry Line" || len(got.Refused) != 2 || got.Refused[0] != 401.0 ||
		got.Refused[1] != "read published notice" {
		t.Errorf("%v: %s", err, out)
	}
	if len(got.Titles) != got.Total || got.Total < 3 || got.At == "" || got.Sequence == "" || len(got.Paths) == 0 {
		t.Errorf("all, at, paths and GraphQL: %s", out)
	}
	// Without a compiler, as Node strips types, and with nothing that has to be translated.
	if err := os.WriteFile(filepath.Join(dir, "src", "plain.ts"),
		[]byte(strings.ReplaceAll(main, "./content.js", "./content.ts")), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("../../console/node_modules/.bin/tsc", "--strict", "--noEmit",
		"--erasableSyntaxOnly", "--allowImportingTsExtensions", "--target", "es2022", "--module", "esnext",
		"--moduleResolution", "bundler", "--lib", "es2023,dom",
		filepath.Join(dir, "src", "plain.ts")).CombinedOutput(); err != nil {
		t.Errorf("erasable syntax only: %v\n%s", err, out)
	}
	stripped := exec.Command("node", "--experimental-strip-types", filepath.Join(dir, "src", "plain.ts"))
	stripped.Env = node.Env
	if out, err := stripped.CombinedOutput(); strings.Contains(string(out), "bad option") {
		t.Log("this Node does not strip types")
	} else if err != nil || !strings.Contains(string(out), `"name":"Skerry Line"`) {
		t.Errorf("types stripped: %v\n%s", err, out)
	}
	if err := os.WriteFile(file, []byte("// an older one"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"generate", "ts", "--to", file, "--check"}, exitFailed, "is behind the model"},
		{[]string{"generate", "ts", "--key", line.Connection.Keys.Published}, exitFine, "export interface Notice"},
		{[]string{"generate", "go", "--to", filepath.Join(dir, "skerry", "content.go")}, exitFine, "package skerry"},
		{[]string{"generate", "go", "--model", "../demo/skerry/model"}, exitFine, "type NoticeSeverity string"},
		{[]string{"generate", "json-schema"}, exitFine, `"$schema": "https://json-schema.org/draft/2020-12/schema"`},
		{[]string{"generate", "rust"}, exitMisuse, "say ts, go or json-schema"},
		{[]string{"generate", "ts", "--watch"}, exitMisuse, "--to"},
		{[]string{"generate", "ts", "--edition", "publishd"}, exitMisuse, `did you mean "published"?`},
		{[]string{"generate", "ts", "--model", "nowhere"}, exitFailed, "nowhere"},
	} {
		code, out, errOut := run(t, c.args...)
		said := out + errOut
		if src, err := os.ReadFile(filepath.Join(dir, "skerry", "content.go")); err == nil {
			said += string(src)
		}
		if code != c.code || !strings.Contains(said, c.want) {
			t.Errorf("%v: exit %d: %.300s", c.args, code, said)
		}
	}
	if src, err := os.ReadFile(file); err != nil || string(src) != "// an older one" {
		t.Error("--check has written")
	}
}
