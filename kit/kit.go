// Package kit holds the package that front ends install, so that the service can serve it from its own
// binary. Build it with: make kit.
package kit

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"embed"
	"fmt"
	"io/fs"
	"sync"
	"time"
)

//go:embed all:dist package.json README.md
var files embed.FS

// Name is that of the tarball, with its version.
const Name = "ubiquon-kit-1.0.0.tgz"

// BuildLines and RefreshLines are what a front end writes to be connected: one that is built, and one that
// renders on a server.
//
//go:embed lines/build.txt
var BuildLines string

// RefreshLines: see BuildLines.
//
//go:embed lines/refresh.txt
var RefreshLines string

// packed is the time that files in the tarball have: the same bytes come of the same files.
var packed = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)

// Tarball returns the package in the form that npm installs. Its error says that it was not built.
var Tarball = sync.OnceValues(func() ([]byte, error) {
	if _, err := fs.Stat(files, "dist/index.js"); err != nil {
		return nil, fmt.Errorf("the kit was not built; run make kit: %w", err)
	}
	var out bytes.Buffer
	zipped := gzip.NewWriter(&out)
	all := tar.NewWriter(zipped)
	err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == ".gitkeep" {
			return err
		}
		src, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		h := tar.Header{
			Name:     "package/" + path,
			Mode:     0o644,
			Size:     int64(len(src)),
			ModTime:  packed,
			Typeflag: tar.TypeReg,
		}
		if err := all.WriteHeader(&h); err != nil {
			return err
		}
		_, err = all.Write(src)
		return err
	})
	if err == nil {
		err = all.Close()
	}
	if err == nil {
		err = zipped.Close()
	}
	return out.Bytes(), err
})
