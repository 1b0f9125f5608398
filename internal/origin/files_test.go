package origin_test

import (
	"os"
	"path/filepath"
	"testing"

	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/testkit"
)

// TestChangesWhileTypesAreListed changes a file of one type after that was listed, and before the other
// type is: it is among the changes.
func TestChangesWhileTypesAreListed(t *testing.T) {
	dir := t.TempDir()
	write := func(path, title string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, path), []byte("---\ntitle: "+title+"\n---\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, sub := range []string{"piers", "routes"} {
		if err := os.Mkdir(filepath.Join(dir, sub), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	write("piers/mella.md", "Mella")
	write("routes/ring.md", "Ring")
	var f origin.File
	if err := strictyaml.Decode("origins.yaml", []byte(`
origins:
  shelf:
    pull: {folder: "`+dir+`"}
    types:
      pier: {from: "piers/*.md", fields: {name: $.front.title}}
      route: {from: "routes/*.md", fields: {name: $.front.title}}
`), &f); err != nil {
		t.Fatal(err)
	}
	m := testkit.Model(t, testkit.Ferries)
	with := reading(m)
	with.Folders = []string{dir}
	s, err := origin.New("shelf", f.Origins["shelf"], with)
	if err != nil {
		t.Fatal(err)
	}
	list := func(typ string) {
		t.Helper()
		if err := s.All(t.Context(), m, typ, func([]origin.Item) error { return nil },
			func(b origin.BadItem) { t.Error(b.Err) }); err != nil {
			t.Fatal(err)
		}
	}
	list("pier")
	write("piers/mella.md", "Mella, rebuilt")
	list("route")
	s.Compared()
	c, ok, err := s.Changes(t.Context())
	if err != nil || !ok || len(c.Items) != 1 || c.Items[0] != (origin.Ref{Type: "pier", Key: "piers/mella.md"}) {
		t.Errorf("%+v, %v, %v", c.Items, ok, err)
	}
	c.Done()
	if c, _, err = s.Changes(t.Context()); err != nil || len(c.Items) != 0 {
		t.Errorf("once more: %+v, %v", c.Items, err)
	}
}
