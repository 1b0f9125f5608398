package origin

import (
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"ubiquon/internal/core/content"
)

// entryAt is the id of the entry that is made of the file at an address which stands in another file, ""
// if none is.
func (f *files) entryAt(from, address string) string {
	f.Lock()
	t := f.now
	f.Unlock()
	u, err := url.Parse(address)
	if err != nil || t == nil {
		return ""
	}
	at := path.Join(path.Dir("/"+from), u.Path)
	if strings.HasPrefix(u.Path, "/") {
		at = path.Clean(u.Path)
	}
	at = strings.TrimPrefix(at, "/")
	if _, is := t.stamps()[at]; !is || !texts(at) {
		return ""
	}
	item, _ := localeOf(at, f.s.locales())
	for _, typ := range slices.Sorted(maps.Keys(f.s.Config.Types)) {
		if !f.belongs(typ, item) {
			continue
		}
		key := item
		if f.s.idOf(typ) != "$.path" {
			one := f.file(t, at, false)
			one["path"], one["name"] = item, strings.TrimSuffix(path.Base(item), path.Ext(item))
			if key, err = f.s.paths[typ].Text(f.s.idOf(typ), any(one)); err != nil || key == "" {
				return ""
			}
		}
		return content.MakeID(f.s.Name, typ, key)
	}
	return ""
}
