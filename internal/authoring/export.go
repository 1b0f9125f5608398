package authoring

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
)

// Export writes entries as NDJSON, those of all types or of some, with all
// revisions if wanted; it returns how many there were. Without an origin it
// writes those of our own.
func (a *Service) Export(
	ctx context.Context, out io.Writer, types []string, origin string, revisions bool,
) (int, error) {
	for _, name := range types {
		if m := a.replica.Model(); m.Type(name) == nil {
			return 0, fmt.Errorf("type %q%s: %w", name, strictyaml.DidYouMean(name, m.TypeNames()), db.ErrNotFound)
		}
	}
	if origin == "" {
		origin = content.Local
	}
	n := 0
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	err := a.store.Entries.EachEntry(ctx, types, origin, revisions, func(e *entries.Exported) error {
		n++
		l := Line{ID: e.ID, Type: e.Type, Fields: e.Newest, Revisions: e.Revisions}
		if e.PublishedRevision != 0 {
			l.Published, l.FirstPublished = e.Published, e.FirstPublished
			if e.Behind {
				l.Live = e.Live
			}
		}
		return enc.Encode(l)
	})
	return n, err
}
