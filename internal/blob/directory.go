package blob

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// Directory keeps bytes as files below a directory, which several nodes may share.
type Directory struct{ root string }

// temporaryFor is after how long a file that was never put is removed.
const temporaryFor = 48 * time.Hour

// OpenDirectory makes the directory if it is not there.
func OpenDirectory(root string) (*Directory, error) {
	d := &Directory{root}
	if err := os.MkdirAll(d.Temporary(), 0o700); err != nil {
		return nil, fmt.Errorf("the directory for files: %w", err)
	}
	d.sweep()
	return d, nil
}

// sweep removes what uploads that never ended have left.
func (d *Directory) sweep() {
	entries, err := os.ReadDir(d.Temporary())
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > temporaryFor {
			_ = os.Remove(filepath.Join(d.Temporary(), e.Name()))
		}
	}
}

// Temporary implements Store.
func (d *Directory) Temporary() string { return filepath.Join(d.root, "coming") }

var keyForm = regexp.MustCompile(`^[a-z0-9][a-z0-9.,-]*(/[a-z0-9][a-z0-9.,-]*)*$`)

// path is where a key is kept: keys that begin with a hash are spread over directories.
func (d *Directory) path(key string) (string, error) {
	if !keyForm.MatchString(key) || strings.Contains(key, "..") {
		return "", fmt.Errorf("%q is no key", key)
	}
	first, rest, _ := strings.Cut(key, "/")
	if len(rest) > 4 {
		rest = rest[:2] + "/" + rest[2:4] + "/" + rest
	}
	return filepath.Join(d.root, first, filepath.FromSlash(rest)), nil
}

// Put implements Store.
func (d *Directory) Put(_ context.Context, key, path string) error {
	to, err := d.path(key)
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	err = f.Sync()
	_ = f.Close()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.Rename(path, to); err != nil {
		return err
	}
	for at := filepath.Dir(to); len(at) >= len(d.root); at = filepath.Dir(at) {
		if err := syncDirectory(at); err != nil {
			return err
		}
		if at == d.root {
			break
		}
	}
	return nil
}

func syncDirectory(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	return f.Sync()
}

// Open implements Store.
func (d *Directory) Open(_ context.Context, key string) (Reader, Item, error) {
	path, err := d.path(key)
	if err != nil {
		return nil, Item{}, err
	}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, Item{}, ErrNotFound
	} else if err != nil {
		return nil, Item{}, err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, Item{}, err
	}
	return f, Item{key, info.Size(), info.ModTime()}, nil
}

// Local implements Store.
func (d *Directory) Local(_ context.Context, key string) (string, func(), error) {
	path, err := d.path(key)
	if err != nil {
		return "", nil, err
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return "", nil, ErrNotFound
	} else if err != nil {
		return "", nil, err
	}
	return path, func() {}, nil
}

// Delete implements Store.
func (d *Directory) Delete(_ context.Context, key string) error {
	path, err := d.path(key)
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// List implements Store.
func (d *Directory) List(ctx context.Context, prefix string, each func(Item) error) error {
	first, _, _ := strings.Cut(prefix, "/")
	return filepath.WalkDir(filepath.Join(d.root, first), func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if e.IsDir() {
			return ctx.Err()
		}
		info, err := e.Info()
		if err != nil {
			return nil // it has just gone
		}
		rel, err := filepath.Rel(filepath.Join(d.root, first), path)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		if parts := strings.SplitN(rel, "/", 3); len(parts) == 3 {
			rel = parts[2]
		}
		if key := first + "/" + rel; strings.HasPrefix(key, prefix) {
			return each(Item{key, info.Size(), info.ModTime()})
		}
		return nil
	})
}
