package generate

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// line is the Skerry Line's model, and what makes names collide.
func line(t *testing.T) *model.Model {
	t.Helper()
	files := map[string][]byte{"more.yaml": []byte(`
types:
  paper: {plural: documents, help: "Ends */ here", fields: {list: {kind: text}, id2: {kind: choice, options: {one: One, two: Two}}, linked: {kind: reference, types: [paper, notice], inverse: linkedFrom}, more: {kind: json}, place: {kind: location}, share: {kind: decimal, several: true}}}
  list: {plural: lists, deprecated: use paper, deprecatedSince: 2026-11-01, fields: {2nd: {kind: text}}}
`)}
	files["more.yaml"] = []byte(strings.Replace(string(files["more.yaml"]), "2nd", "second", 1))
	found, err := filepath.Glob("../../demo/skerry/model/*.yaml")
	if err != nil || len(found) == 0 {
		t.Fatal(err, found)
	}
	for _, name := range found {
		if files[name], err = os.ReadFile(name); err != nil {
			t.Fatal(err)
		}
	}
	m, err := model.Read(files)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func write(t *testing.T, name string, src []byte) {
	t.Helper()
	if err := os.WriteFile(name, src, 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestTypeScriptCompilesStrictly(t *testing.T) {
	dir := t.TempDir()
	src := TypeScript(line(t), content.Published)
	write(t, filepath.Join(dir, "content.ts"), src)
	use, err := os.ReadFile("testdata/use.ts")
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "use.ts"), use)
	out, err := exec.Command("../../../console/node_modules/.bin/tsc", "--strict", "--noEmit",
		"--noUncheckedIndexedAccess", "--target", "es2022", "--module", "esnext", "--moduleResolution", "bundler",
		"--lib", "es2023,dom", filepath.Join(dir, "use.ts")).
		CombinedOutput()
	if err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	for _, bad := range []string{"http://", "ubq_"} {
		if strings.Contains(string(src), bad) {
			t.Errorf("the output holds %s", bad)
		}
	}
	if string(src) != string(TypeScript(line(t), content.Published)) {
		t.Error("twice the same model gives different files")
	}
}

func TestGoIsVetted(t *testing.T) {
	dir := t.TempDir()
	src, err := Go(line(t), "content")
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "content.go"), src)
	write(t, filepath.Join(dir, "go.mod"), []byte("module content\n\ngo 1.26\n"))
	write(t, filepath.Join(dir, "use_test.go"), []byte(`package content

import (
	"encoding/json"
	"testing"
)

func TestBlocks(t *testing.T) {
	var p Page
	if err := json.Unmarshal([]byte(`+"`"+
		`{"id":"x","about":{"type":"page","updated":"2026-11-23T08:00:00Z"},"blocks":[{"block":"heading","text":"Piers"},{"block":"prose","text":{"html":"<p>x</p>"}}]}`+"`"+`), &p); err != nil {
		t.Fatal(err)
	}
	if *p.Blocks[0].Heading.Text != "Piers" || p.Blocks[1].Prose.Text.HTML != "<p>x</p>" || p.Blocks[1].Heading != nil || LocaleEn != "en" || NoticeSeverityDelay != "delay" {
		t.Errorf("%+v", p)
	}
}
`))
	for _, args := range [][]string{{"vet", "."}, {"test", "."}} {
		cmd := exec.Command("go", args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("go %v: %v\n%s", args, err, out)
		}
	}
}
