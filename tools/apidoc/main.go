// Command apidoc writes what is made from the declaration of the control endpoints: their
// OpenAPI document and the page that lists them. Run it from the project's root with
// go run ./tools/apidoc; with -check it writes nothing, and fails if something is not as it
// would be written.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"log"
	"os"
)

// The files that are written.
const (
	documentFile = "internal/server/controlapi/openapi.json"
	pageFile     = "docs/reference/control.md"
)

func main() {
	check := flag.Bool("check", false, "fail if a file is not as it would be written")
	flag.Parse()
	log.SetFlags(0)
	files, err := generate(".")
	if err != nil {
		log.Fatal(err)
	}
	for _, name := range []string{documentFile, pageFile} {
		old, _ := os.ReadFile(name) // a missing one differs
		if bytes.Equal(old, files[name]) {
			continue
		}
		if *check {
			log.Fatalf("%s is not up to date; run go run ./tools/apidoc", name)
		}
		if err := os.WriteFile(name, files[name], 0o644); err != nil {
			log.Fatal(err)
		}
		fmt.Println(name)
	}
}

// generate returns what the files should contain, by name. The sources are read below root.
func generate(root string) (map[string][]byte, error) {
	docs, err := readComments(root)
	if err != nil {
		return nil, err
	}
	document, err := describe(docs)
	if err != nil {
		return nil, err
	}
	page, err := writePage(document)
	return map[string][]byte{documentFile: document, pageFile: page}, err
}
