// Package console holds the built console, so that the service can serve it
// from its own binary. Build it with: make console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console; without an index.html if it was not built.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("console: " + err.Error()) // dist is a valid path
	}
	return sub
}
