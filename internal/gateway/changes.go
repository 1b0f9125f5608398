package gateway

import (
	"context"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// Told is a change as readers are told of it.
type Told struct {
	Sequence int64     `json:"sequence"`
	At       time.Time `json:"at"`
	// What happened, in their edition: published, unpublished, deleted or moved; in
	// preview also saved.
	What  string `json:"what"`
	Entry string `json:"entry"`
	Type  string `json:"type"`
	// Locales in which a reader can see a difference.
	Locales []string `json:"locales"`
}

// ChangesFor returns the changes of an edition after a sequence that a reader
// with these rights may know of, and the sequence to go on from, which is further
// than the last of them where others came. At the log's end there are none. Its error
// is store.ErrGap if changes after the sequence are not in the log any more.
func (g *Gateway) ChangesFor(ctx context.Context, rights access.Rights, edition string, after int64, limit int) ([]Told, int64, error) {
	out, upTo := []Told{}, after
	for len(out) < limit {
		changes, err := g.store.ChangesFrom(ctx, upTo, 500)
		if err != nil || len(changes) == 0 {
			return out, upTo, err
		}
		if changes[0].Sequence > upTo+1 {
			return nil, 0, store.ErrGap // sequences have no gaps of their own
		}
		for i := range changes {
			c := &changes[i]
			if len(out) == limit {
				return out, upTo, nil
			}
			upTo = c.Sequence
			if c.Kind != content.ContentChange || c.Edition != edition {
				continue
			}
			t := Told{Sequence: c.Sequence, At: c.At, What: c.What, Entry: c.Entry, Type: c.Type}
			for _, locale := range sortedKeys(c.Fields) {
				if rights.Allows(access.Need{Verb: access.Read, Edition: edition, Type: c.Type, Locale: locale}) {
					t.Locales = append(t.Locales, locale)
				}
			}
			if len(t.Locales) > 0 {
				out = append(out, t)
			}
		}
	}
	return out, upTo, nil
}

// Moved returns a channel that is closed when this node has looked at the change
// log next.
func (g *Gateway) Moved() <-chan struct{} { return g.follow.next() }

// Applied is the sequence up to which this node knows of all changes.
func (g *Gateway) Applied() int64 { return g.cache.Applied() }
