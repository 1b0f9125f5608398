package ingest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// What becomes of the entries of an origin that is retired.
const (
	// KeepLocal has them edited here from now on; nothing changes for readers.
	KeepLocal = "local"
	// Unpublish takes them back, and has them edited here.
	Unpublish = "unpublish"
	// DeleteAll deletes them.
	DeleteAll = "delete"
)

// ErrConfigured is the error of retiring an origin that is still read.
var ErrConfigured = errors.New(
	"the origin is still in the configuration, and would bring its entries back; take it out of there on every " +
		"node first",
)

// entriesPerStep is how many entries change hands in one transaction.
const entriesPerStep = 200

// Retire lets go of an origin that is not configured any more: its entries are kept,
// unpublished or deleted, as what says. Without apply it only counts them.
func (in *Service) Retire(
	ctx context.Context, name, what, by string, apply bool, progress Progress,
) (out api.Retirement, err error) {
	if in.known()[name] != nil && apply {
		return out, fmt.Errorf("origin %s: %w", name, ErrConfigured)
	}
	defer in.forgetCounts()
	out.Types, out.Applied = map[string]int{}, apply
	cause := content.Cause{Kind: "user", Name: by}
	for after := ""; ; {
		owned, err := in.store.Rejected.OwnedBy(ctx, name, after, entriesPerStep)
		if err != nil {
			return out, err
		}
		if len(owned) == 0 {
			break
		}
		after = owned[len(owned)-1].ID
		var ids, keys []string
		var edits []writing.Edit
		for _, e := range owned {
			out.Entries++
			out.Types[e.Type]++
			if e.Published {
				out.Published++
			}
			ids, keys = append(ids, e.ID), append(keys, "")
			switch {
			case what == DeleteAll:
				edits = append(edits, writing.Edit{ID: e.ID, Origin: name, Delete: true})
			case what == Unpublish && e.Published:
				edits = append(edits, writing.Edit{ID: e.ID, Origin: name, Live: writing.TakeBack})
			}
		}
		if !apply {
			continue
		}
		if err := in.eachOrAll(ctx, edits, by, cause, out.AddLeft); err != nil {
			return out, err
		}
		if what != DeleteAll {
			if _, err := in.store.Rejected.ChangeOrigin(ctx, name, content.Local, ids, keys, nil); err != nil {
				return out, err
			}
		}
		progress("", out.Entries)
	}
	if out.Entries == 0 && in.known()[name] == nil {
		return out, fmt.Errorf("origin %q: no entry comes from it: %w", name, db.ErrNotFound)
	}
	if apply {
		now, err := in.store.Rejected.Clock(ctx)
		if err == nil {
			err = in.store.Rejected.DropBefore(ctx, name, now)
		}
		if err == nil {
			err = in.store.Rejected.ForgetOrigin(ctx, name)
		}
		if err == nil && filepath.IsLocal(name) && filepath.Base(name) == name {
			err = os.RemoveAll(origin.CopyOf(in.with.Work, name))
		}
		return out, err
	}
	return out, nil
}

// eachOrAll applies edits together; where something is wrong with one, each by itself, and
// what is wrong goes to left.
func (in *Service) eachOrAll(
	ctx context.Context, edits []writing.Edit, by string, cause content.Cause, left func(entry string, err error),
) error {
	if len(edits) == 0 {
		return nil
	}
	_, err := in.apply(ctx, edits, by, cause)
	var problems content.Problems
	var referred *writing.ReferredError
	wrong := errors.As(err, &problems) || errors.As(err, &referred)
	switch {
	case err == nil, !wrong:
		return err
	case len(edits) == 1:
		left(edits[0].ID, err)
		return nil
	}
	for i := range edits {
		if err := in.eachOrAll(ctx, edits[i:i+1], by, cause, left); err != nil {
			return err
		}
	}
	return nil
}

// Test fetches the first page of each type of an origin, and says how that went.
func (in *Service) Test(ctx context.Context, name string) ([]api.CallAnswer, error) {
	source := in.known()[name]
	if source == nil {
		return nil, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	out := []api.CallAnswer{}
	for _, typ := range slices.Sorted(maps.Keys(source.Config.Types)) {
		begin := time.Now()
		address, n, err := source.Probe(ctx, typ)
		one := api.CallAnswer{Address: address, Status: 200, Text: fmt.Sprintf("%d items of type %s", n, typ)}
		if err != nil {
			one.Status, one.Text, one.Error = 0, "", err.Error()
		}
		one.TookMs = time.Since(begin).Seconds() * 1000
		out = append(out, one)
	}
	return out, nil
}

// untaken notes that an item could not be imported.
func (in *Service) untaken(ctx context.Context, name string, bad origin.BadItem) {
	u := api.UntakenItem{
		Origin: name,
		Type:   bad.Type,
		Key:    bad.Key,
		Slug:   bad.Slug,
		Entry:  content.MakeID(name, bad.Type, bad.Key),
		Reason: bad.Err.Error(),
	}
	if err := in.store.Rejected.Keep(ctx, u); err != nil {
		in.work.Failures.Failed(
			in.log, "what could not be taken over of origin "+name+" cannot be kept", "error", err,
		)
	}
}

// Untaken lists what could not be imported of an origin, up to 200 items.
func (in *Service) Untaken(ctx context.Context, name string) ([]api.UntakenItem, error) {
	return in.store.Rejected.Of(ctx, name, 200)
}

// ownersGood is for how long it is good how many entries each origin has: all are counted.
const ownersGood = 10 * time.Second

// EntryCounts counts the entries of each origin.
func (in *Service) EntryCounts(ctx context.Context) (map[string]int, error) {
	in.owned.Lock()
	defer in.owned.Unlock()
	if time.Since(in.owned.at) < ownersGood {
		return in.owned.last, nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	counts, err := in.store.Rejected.OriginsOfEntries(ctx)
	if err == nil {
		in.owned.last, in.owned.at = counts, time.Now()
	}
	return counts, err
}

// forgetCounts has the entries of the origins counted when that is asked for next.
func (in *Service) forgetCounts() {
	in.owned.Lock()
	defer in.owned.Unlock()
	in.owned.at = time.Time{}
}

// Origins lists the origins, by name, also those that entries come from and that are not
// configured.
func (in *Service) Origins(ctx context.Context) ([]api.OriginState, error) {
	out := []api.OriginState{}
	untaken, _, err := in.store.Rejected.Count(ctx)
	if err != nil {
		return nil, err
	}
	owners, err := in.EntryCounts(ctx)
	if err != nil {
		return nil, err
	}
	compared, err := in.store.Rejected.Compared(ctx)
	if err != nil {
		return nil, err
	}
	names := slices.Sorted(maps.Keys(in.known()))
	for name := range owners {
		if in.known()[name] == nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		o := api.OriginState{
			OriginStatus: api.OriginStatus{Name: name},
			Entries:      owners[name],
			Untaken:      untaken[name],
			Missing:      in.known()[name] == nil,
		}
		if !o.Missing {
			o.State = in.known()[name].Health()
		}
		if o.LastEvent, o.LastRefused, err = in.store.Events.LastHeard(ctx, name); err != nil {
			return nil, err
		}
		if o.Compared = in.LastCompared(name); o.Compared == nil {
			o.Compared = compared[name]
		}
		if source := in.known()[name]; source != nil {
			o.From, o.Standby = source.Config.Pull.Kind(), source.Config.Standby
			o.Proof = source.Config.Prove.Describe()
		}
		out = append(out, o)
	}
	return out, nil
}

// OriginFails tells whether an error is an origin's, which cannot be read now.
func OriginFails(err error) bool {
	var trouble *origin.Trouble
	return errors.As(err, &trouble)
}
