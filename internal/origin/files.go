package origin

import (
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ubiquon/internal/core/prose"
)

const (
	// maxFile bounds a file that is read as an item, in bytes.
	maxFile = 2 << 20
	// maxFiles bounds the files of one origin.
	maxFiles = 200_000
	// filesAtOnce is how many items are handed over together.
	filesAtOnce = 200
)

// tree is what there is in a folder or a repository at one time.
type tree interface {
	// stamps maps the paths of the files to what changes whenever their contents do.
	stamps() map[string]string
	// read returns what is in a file, at most so many bytes, and when it was changed. Its error wraps
	// ErrGone if there is none.
	read(path string, most int64) ([]byte, time.Time, error)
}

// files makes items of files: one of all the files that differ in their locale alone.
type files struct {
	s *Source
	// open returns what there is now, and says what that is.
	open func(ctx context.Context) (t tree, mark, text string, err error)
	// address is where the files are, for people.
	address string

	// known are the stamps of what was taken over, and pending those of what is being compared.
	sync.Mutex
	known, pending map[string]string
	keys           map[string]map[string]string // by type and key, the path of the item
	now            tree                         // the last that was opened
}

// group is an item: its path without the locale, and the files that it has, by locale; "" is for the
// file that names none.
type fileGroup struct {
	path  string
	files map[string]string
}

// belongs tells whether an item's path is of a type.
func (f *files) belongs(typ, item string) bool {
	from := f.s.Config.Types[typ].From
	if from == "" {
		return len(f.s.Config.Types) == 1
	}
	is, _ := doublestar.Match(from, item)
	return is
}

// groups lists the items of a tree, by path.
func (f *files) groups(stamps map[string]string) map[string]*fileGroup {
	out := map[string]*fileGroup{}
	for file := range stamps {
		if !texts(file) {
			continue
		}
		item, locale := localeOf(file, f.s.locales())
		g := out[item]
		if g == nil {
			g = &fileGroup{item, map[string]string{}}
			out[item] = g
		}
		if was := g.files[locale]; was != "" && was < file {
			continue
		}
		g.files[locale] = file
	}
	return out
}

// load opens what there is now.
func (f *files) load(ctx context.Context) (t tree, mark, text string, err error) {
	err = f.s.try(ctx, func() error {
		if t, mark, text, err = f.open(ctx); err == nil && len(t.stamps()) > maxFiles {
			err = fmt.Errorf("%s has %d files, at most %d are read", f.address, len(t.stamps()), maxFiles)
		}
		return err
	})
	if err == nil {
		f.Lock()
		f.now = t
		f.Unlock()
	}
	return t, mark, text, err
}

func (f *files) list(ctx context.Context, typ string, each func([]any) error) error {
	t, _, _, err := f.load(ctx)
	if err != nil {
		return err
	}
	groups := f.groups(t.stamps())
	f.Lock()
	if f.pending == nil { // else another type was listed before: what has changed since then comes again
		f.pending = t.stamps()
	}
	f.keys[typ] = map[string]string{}
	f.Unlock()
	var some []any
	for _, item := range slices.Sorted(maps.Keys(groups)) {
		if !f.belongs(typ, item) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		some = append(some, f.item(t, typ, groups[item]))
		if len(some) == filesAtOnce {
			if err := each(some); err != nil {
				return err
			}
			some = nil
		}
	}
	return each(some)
}

// compared implements what Source.Compared says.
func (f *files) compared() {
	f.Lock()
	defer f.Unlock()
	if f.pending != nil {
		f.known, f.pending = f.pending, nil
	}
}

// item reads a group of files. What is wrong with one of them is within the item: see problemOf.
func (f *files) item(t tree, typ string, g *fileGroup) any {
	wantsHTML := f.s.wantsHTML[typ]
	main := f.s.defaultLocale()
	first := g.files[""]
	if first == "" {
		first = g.files[main]
	}
	if first == "" {
		first = g.files[slices.Sorted(maps.Keys(g.files))[0]]
	}
	out := f.file(t, first, wantsHTML)
	out["path"] = g.path
	out["name"] = strings.TrimSuffix(path.Base(g.path), path.Ext(g.path))
	out["locale"] = main
	translations := map[string]any{}
	for locale, file := range g.files {
		if file == first || locale == "" {
			continue
		}
		other := f.file(t, file, wantsHTML)
		if problem := problemOf(other); problem != "" && out[problemMember] == nil {
			out[problemMember] = problem
		}
		translations[locale] = other
	}
	out["translations"] = translations
	if key, err := f.s.paths[typ].Text(f.s.idOf(typ), any(out)); err == nil && key != "" {
		f.Lock()
		if f.keys[typ] == nil {
			f.keys[typ] = map[string]string{}
		}
		if was, twice := f.keys[typ][key]; twice && was != g.path {
			out[problemMember] = fmt.Sprintf("%s and %s are both called %q", was, g.path, key)
		} else {
			f.keys[typ][key] = g.path
		}
		f.Unlock()
	}
	return out
}

// problemMember of an item says why it cannot be brought over; no document can have it.
const problemMember = "\x00problem"

// problemOf is what is wrong with an item.
func problemOf(in any) string {
	object, _ := in.(map[string]any)
	text, _ := object[problemMember].(string)
	return text
}

// file reads one file.
func (f *files) file(t tree, file string, wantsHTML bool) map[string]any {
	out := map[string]any{"file": file, "front": map[string]any{}, "body": ""}
	src, modified, err := t.read(file, maxFile)
	if err != nil {
		out[problemMember] = fmt.Sprintf("%s: %v", file, err)
		return out
	}
	if !modified.IsZero() {
		out["modified"] = modified.UTC().Format(time.RFC3339)
	}
	front, body, err := parseFile(file, src)
	if err != nil {
		out[problemMember] = fmt.Sprintf("%s: %v", file, err)
		return out
	}
	out["front"], out["body"] = front, body
	if wantsHTML {
		out["html"] = prose.Render(body, nil).Forms(func(string) prose.Target { return prose.Target{} })["html"]
	}
	return out
}

func (f *files) one(ctx context.Context, typ, key string) (any, error) {
	f.Lock()
	item, known := f.keys[typ][key]
	t := f.now
	f.Unlock()
	if !known || t == nil {
		// It may be new: everything is looked at.
		if err := f.list(ctx, typ, func([]any) error { return nil }); err != nil {
			return nil, err
		}
		f.Lock()
		item, known = f.keys[typ][key]
		t = f.now
		f.Unlock()
	}
	if !known {
		return nil, fmt.Errorf("origin %s: %w", f.s.Name, ErrGone)
	}
	return f.read(t, typ, item, key)
}

// read reads the item at a path, if it is called by the key still.
func (f *files) read(t tree, typ, item, key string) (any, error) {
	groups := f.groups(t.stamps())
	g := groups[item]
	if g == nil || !f.belongs(typ, item) {
		return nil, fmt.Errorf("origin %s: %w", f.s.Name, ErrGone)
	}
	out := f.item(t, typ, g)
	if now, err := f.s.paths[typ].Text(f.s.idOf(typ), out); err == nil && now != key && problemOf(out) == "" {
		return nil, fmt.Errorf("origin %s: %w", f.s.Name, ErrGone)
	}
	return out, nil
}

func (f *files) probe(ctx context.Context, typ string) (address string, items int, err error) {
	t, _, _, err := f.open(ctx)
	if err != nil {
		return f.address, 0, err
	}
	for item := range f.groups(t.stamps()) {
		if f.belongs(typ, item) {
			items++
		}
	}
	return f.address, items, nil
}

// changes implements what Source.Changes says.
func (f *files) changes(ctx context.Context) (c Changes, ok bool, err error) {
	f.Lock()
	known := f.known
	f.Unlock()
	if known == nil {
		return c, false, nil
	}
	t, mark, text, err := f.load(ctx)
	if err != nil {
		return c, true, err
	}
	c.Mark, c.Text = mark, text
	stamps := t.stamps()
	items := map[string]bool{}
	note := func(file string) {
		if texts(file) {
			item, _ := localeOf(file, f.s.locales())
			items[item] = true
			return
		}
		// Who shows a picture is not known here: the items beside and above it are looked at.
		for other := range stamps {
			if dir := path.Dir(other); texts(other) && (dir == "." || strings.HasPrefix(file, dir+"/")) {
				item, _ := localeOf(other, f.s.locales())
				items[item] = true
			}
		}
	}
	for file, stamp := range stamps {
		if known[file] != stamp {
			note(file)
		}
	}
	for file := range known {
		if _, is := stamps[file]; !is && texts(file) {
			note(file)
		}
	}
	groups := f.groups(stamps)
	byPath := f.keysByPath(items)
	for _, item := range slices.Sorted(maps.Keys(items)) {
		f.refsOf(t, item, groups[item], byPath[item], &c)
	}
	c.Done = func() {
		f.Lock()
		f.known = stamps
		f.Unlock()
	}
	return c, true, nil
}

// keysByPath returns what items were called, for those at some paths.
func (f *files) keysByPath(items map[string]bool) map[string][]Ref {
	f.Lock()
	defer f.Unlock()
	out := map[string][]Ref{}
	for typ, keys := range f.keys {
		for key, item := range keys {
			if items[item] {
				out[item] = append(out[item], Ref{typ, key})
			}
		}
	}
	return out
}

// refsOf adds what a changed item is called now, and was called before.
func (f *files) refsOf(t tree, item string, g *fileGroup, was []Ref, c *Changes) {
	add := func(r Ref) {
		if !slices.Contains(c.Items, r) {
			c.Items = append(c.Items, r)
		}
	}
	for typ := range f.s.Config.Types {
		if g == nil || !f.belongs(typ, item) {
			continue
		}
		for _, r := range was {
			if r.Type == typ {
				f.Lock()
				delete(f.keys[typ], r.Key) // it may be called otherwise now
				f.Unlock()
			}
		}
		if key, err := f.s.paths[typ].Text(f.s.idOf(typ), f.item(t, typ, g)); err == nil && key != "" {
			add(Ref{typ, key})
		}
	}
	for _, r := range was {
		add(r)
	}
}

// openFile opens a file beside the items, as pictures are.
func (f *files) openFile(ctx context.Context, file string, most int64) ([]byte, error) {
	f.Lock()
	t := f.now
	f.Unlock()
	if t == nil {
		var err error
		if t, _, _, err = f.load(ctx); err != nil {
			return nil, err
		}
	}
	src, _, err := t.read(file, most)
	return src, err
}

// readMost reads at most so many bytes.
func readMost(r io.Reader, most int64) ([]byte, error) {
	src, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(src)) > most {
		err = fmt.Errorf("it has more than %d MiB", most>>20)
	}
	return src, err
}
