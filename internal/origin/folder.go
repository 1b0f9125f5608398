package origin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// within resolves a directory, which must be one of some or lie in one. Symbolic links are followed
// before it is decided.
func within(dir string, allowed []string) (string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", fmt.Errorf("the folder %s cannot be read: %w", dir, errors.Unwrap(err))
	}
	if real, err = filepath.Abs(real); err != nil {
		return "", err
	}
	for _, one := range allowed {
		root, err := filepath.EvalSymlinks(one)
		if err == nil {
			root, err = filepath.Abs(root)
		}
		if err == nil && (real == root || strings.HasPrefix(real, root+string(filepath.Separator))) {
			return real, nil
		}
	}
	return "", fmt.Errorf("the folder %s is not within one that this node allows; name it in folders of the node's "+
		"configuration", dir)
}

// folder is a directory whose files are items.
type folder struct {
	*files
	dir string
	// allowed are the directories that it must be in.
	allowed []string
}

func newFolder(s *Source, with Reading) (reader, error) {
	f := &folder{dir: s.Config.Pull.Folder, allowed: with.Folders}
	f.files = &files{s: s, address: f.dir, open: f.snapshot, keys: map[string]map[string]string{}}
	return f, nil
}

// directory is what a directory had when it was walked through.
type directory struct {
	root  *os.Root
	found map[string]string
}

func (d *directory) stamps() map[string]string { return d.found }

func (d *directory) read(path string, most int64) ([]byte, time.Time, error) {
	if _, is := d.found[path]; !is {
		return nil, time.Time{}, ErrGone
	}
	file, err := d.root.Open(filepath.FromSlash(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, time.Time{}, ErrGone
	}
	if err != nil {
		return nil, time.Time{}, errors.Unwrap(err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, time.Time{}, err
	}
	src, err := readMost(file, most)
	return src, info.ModTime(), err
}

// snapshot walks through the directory. Hidden files, and links, which may lead anywhere, are left out.
func (f *folder) snapshot(ctx context.Context) (t tree, mark, text string, err error) {
	dir, err := within(f.dir, f.allowed)
	if err != nil {
		return nil, "", "", err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, "", "", err
	}
	d := &directory{root, map[string]string{}}
	err = fs.WalkDir(root.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case path != "." && strings.HasPrefix(e.Name(), "."):
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		case !e.Type().IsRegular():
			return nil
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it has just gone
		}
		if err != nil {
			return err
		}
		d.found[path] = fmt.Sprintf("%d %d", info.Size(), info.ModTime().UnixNano())
		if len(d.found) > maxFiles {
			return fmt.Errorf("%s has more than %d files", f.dir, maxFiles)
		}
		return nil
	})
	return d, "", "", err
}

// settled is for how long nothing must happen before a change is looked at: editors write in steps.
const settled = 30 * time.Millisecond

// watch implements what Source.Watch says.
func (f *folder) watch(ctx context.Context, wake func()) error {
	dir, err := within(f.dir, f.allowed)
	if err != nil {
		return err
	}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	if err := watchAll(w, dir); err != nil {
		return err
	}
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-w.Errors:
			if err != nil {
				return err
			}
		case e, open := <-w.Events:
			if !open {
				return errors.New("the folder is not watched any more")
			}
			if e.Has(fsnotify.Create) {
				if info, err := os.Lstat(e.Name); err == nil && info.IsDir() {
					if err := watchAll(w, e.Name); err != nil {
						return err
					}
				}
			}
			timer.Reset(settled)
		case <-timer.C:
			wake()
		}
	}
}

// watchAll watches a directory and those below it.
func watchAll(w *fsnotify.Watcher, dir string) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return err
		case !e.IsDir():
			return nil
		case path != dir && strings.HasPrefix(e.Name(), "."):
			return fs.SkipDir
		}
		return w.Add(path)
	})
}
