package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

func TestGeneratedFilesAreUpToDate(t *testing.T) {
	const root = "../.."
	files, err := generate(root)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range files {
		have, err := os.ReadFile(filepath.Join(root, name))
		if err != nil || !bytes.Equal(have, want) {
			t.Errorf("%s (%v) is not as its declarations are; run go run ./tools/apidoc", name, err)
		}
	}
}
