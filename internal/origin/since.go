package origin

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"time"
)

const (
	// sinceOverlap is how much further back an origin is asked for what has changed: it may write while it
	// lists.
	sinceOverlap = time.Minute
	// mostSince bounds what is asked for one by one; of more, everything is compared.
	mostSince = 2000
)

// changes returns the items that the lists have, asked for what has changed since everything was compared, or
// this was done last. What is gone is found by comparing alone.
func (o *overHTTP) changes(ctx context.Context) (c Changes, ok bool, err error) {
	o.Lock()
	since, skew := o.since, o.skew
	o.Unlock()
	if o.s.Config.Pull.UpdatedSince == "" || since.IsZero() {
		return c, false, nil
	}
	begun := time.Now()
	from := since.Add(skew - sinceOverlap).UTC().Format(time.RFC3339)
	for _, typ := range slices.Sorted(maps.Keys(o.s.Config.Types)) {
		err := o.read(ctx, typ, from, func(found []any) error {
			for _, one := range found {
				key, err := o.s.paths[typ].Text(o.s.idOf(typ), one)
				if err == nil && key != "" {
					c.Items = append(c.Items, Ref{typ, key})
				}
			}
			return nil
		})
		if err != nil || len(c.Items) > mostSince {
			return Changes{}, false, err
		}
	}
	c.Done = func() {
		o.Lock()
		defer o.Unlock()
		o.since = begun
	}
	return c, true, nil
}

// compared notes that everything was compared that was listed.
func (o *overHTTP) compared() {
	o.Lock()
	defer o.Unlock()
	o.since, o.listed = o.listed, time.Time{}
}

// listing notes when the lists that are compared with began.
func (o *overHTTP) listing() {
	o.Lock()
	defer o.Unlock()
	if o.listed.IsZero() {
		o.listed = time.Now()
	}
}

// noteClock notes how far the origin's clock is from ours.
func (o *overHTTP) noteClock(h http.Header) {
	if there, err := http.ParseTime(h.Get("Date")); err == nil {
		o.Lock()
		defer o.Unlock()
		o.skew = time.Until(there)
	}
}
