package replication

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// ChangeNotice is a change as readers are told of it.
type ChangeNotice struct {
	Sequence int64     `json:"sequence"`
	At       time.Time `json:"at"`
	// What happened, in their edition: published, unpublished, deleted or moved; in
	// preview also saved.
	What  string `json:"what"`
	Entry string `json:"entry"`
	Type  string `json:"type"`
	// Locales in which a reader can see a difference.
	Locales []string `json:"locales"`
	// Slugs and Paths are, by locale, those that it has, or had until then.
	Slugs map[string]string `json:"slugs,omitempty"`
	Paths map[string]string `json:"paths,omitempty"`
}

const (
	// feedHolds is how many changes of content are kept for those who follow them.
	feedHolds = 2000
	// changesLookedAt bounds the changes that one answer is made from, whether or not the
	// reader may know of them.
	changesLookedAt = 5000
)

// feed keeps the last changes of content for all streams of this node, so that none of
// them asks the database. It is safe for concurrent use.
type feed struct {
	mu   sync.Mutex
	from int64 // every change after it is here
	held []content.Change
}

func (f *feed) reset(at int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.from, f.held = at, nil
}

func (f *feed) add(changes []invalidation.Delta) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, c := range changes {
		if c.Kind == content.ContentChange {
			f.held = append(
				f.held,
				content.Change{
					Sequence: c.Sequence,
					At:       c.At,
					What:     c.What,
					Edition:  c.Edition,
					Entry:    c.Entry,
					Type:     c.Type,
					Kind:     c.Kind,
					Fields:   c.Fields,
					Before:   placesOf(c.Before),
					After:    placesOf(c.After),
				},
			)
		}
	}
	// It may grow by a quarter before it is cut, so that it is not copied each time.
	if over := len(f.held) - feedHolds; over > feedHolds/4 {
		f.from = f.held[over-1].Sequence
		f.held = slices.Clone(f.held[over:])
	}
}

// placesOf keeps of values those that say where an entry is.
func placesOf(values map[string]content.Fields) map[string]content.Fields {
	out := make(map[string]content.Fields, len(values))
	for tag, v := range values {
		out[tag] = content.Fields{"slug": v["slug"], "about.path": v["about.path"]}
	}
	return out
}

// after returns the changes of an edition after a sequence, and whether they are all
// here.
func (f *feed) after(edition string, sequence int64) ([]content.Change, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if sequence < f.from {
		return nil, false
	}
	i, _ := slices.BinarySearchFunc(
		f.held, sequence+1, func(c content.Change, at int64) int { return int(c.Sequence - at) },
	)
	var out []content.Change
	for _, c := range f.held[i:] {
		if c.Edition == edition {
			out = append(out, c)
		}
	}
	return out, true
}

// ChangesFor returns the changes of an edition after a sequence that a reader
// with these rights may know of, and the sequence to go on from, which is further
// than the last of them where others came. At the log's end there are none. Its error
// is changelog.ErrGap if changes after the sequence are not in the log any more, or it is one
// that the log does not reach.
func (r *Replica) ChangesFor(
	ctx context.Context, rights access.Rights, edition string, after int64, limit int,
) ([]ChangeNotice, int64, error) {
	if changes, all := r.feed.after(edition, after); all && after <= r.cache.Applied() {
		out, next := noticesOf(changes, rights, edition, after, limit)
		return out, next, nil
	}
	ctx = db.For(ctx, db.Reading)
	oldest, newest, err := r.store.Changes.LogBounds(ctx)
	if err != nil {
		return nil, 0, err
	}
	if oldest > after+1 || after > newest {
		return nil, 0, changelog.ErrGap // sequences have no gaps of their own
	}
	out, next := []ChangeNotice{}, after
	for looked := 0; len(out) < limit && looked < changesLookedAt; {
		changes, err := r.store.Changes.ChangesIn(ctx, edition, next, 500)
		if err != nil {
			return nil, 0, err
		}
		if len(changes) == 0 {
			break
		}
		looked += len(changes)
		var more []ChangeNotice
		more, next = noticesOf(changes, rights, edition, next, limit-len(out))
		out = append(out, more...)
	}
	return out, next, nil
}

// noticesOf takes from changes in an edition those that a reader may know of, so many at
// most, and says where to go on.
func noticesOf(
	changes []content.Change, rights access.Rights, edition string, after int64, limit int,
) (out []ChangeNotice, next int64) {
	out, next = []ChangeNotice{}, after
	for i := range changes {
		c := &changes[i]
		if len(out) == limit {
			return out, next
		}
		next = c.Sequence
		t := ChangeNotice{Sequence: c.Sequence, At: c.At, What: c.What, Entry: c.Entry, Type: c.Type}
		slugs, paths := c.Places()
		t.Slugs, t.Paths = map[string]string{}, map[string]string{}
		for _, locale := range slices.Sorted(maps.Keys(c.Fields)) {
			if rights.Allows(access.Need{Verb: access.Read, Edition: edition, Type: c.Type, Locale: locale}) {
				t.Locales = append(t.Locales, locale)
				for into, from := range map[*map[string]string]map[string]string{&t.Slugs: slugs, &t.Paths: paths} {
					if v := from[locale]; v != "" {
						(*into)[locale] = v
					}
				}
			}
		}
		if len(t.Locales) > 0 {
			out = append(out, t)
		}
	}
	return out, next
}

// Advanced returns a channel that is closed when this node has looked at the change
// log next.
func (r *Replica) Advanced() <-chan struct{} { return r.Position.next() }

// Applied is the sequence up to which this node knows of all changes.
func (r *Replica) Applied() int64 { return r.cache.Applied() }

// AppliedIn is the sequence up to which this node knows of all changes, as readers of
// the edition may know it.
func (r *Replica) AppliedIn(edition string) int64 { return r.cache.AppliedIn(edition) }
