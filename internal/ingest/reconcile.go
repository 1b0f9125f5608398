package ingest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/writing"
)

const (
	// brakeAt and brakeShare say when what is gone is too much to be deleted without a
	// word: more entries of an origin than both.
	brakeAt    = 10
	brakeShare = 0.2
)

// Progress tells how far a long work has come.
type Progress func(what string, done int)

// Reconcile compares everything an origin holds with what is held here, and
// applies what differs, deletions included; those that are very many only if that is said.
// One comparison with an origin is made at a time.
func (in *Service) Reconcile(
	ctx context.Context, name string, cause content.Cause, deleteMany bool, progress Progress,
) (out api.Reconciled, err error) {
	source := in.known()[name]
	if source == nil {
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	if progress == nil {
		progress = func(string, int) {}
	}
	end, err := in.alone(ctx, name)
	if err != nil {
		return out, err
	}
	defer end()
	return in.reconcile(ctx, source, cause, deleteMany, progress)
}

// reconcile is Reconcile for who alone compares with the origin.
func (in *Service) reconcile(
	ctx context.Context, source *origin.Source, cause content.Cause, deleteMany bool, progress Progress,
) (out api.Reconciled, err error) {
	name := source.Name
	defer func() {
		if ctx.Err() == nil {
			c := api.LastComparison{At: time.Now(), Done: &out}
			if err != nil {
				c.Done, c.Error = nil, err.Error()
			}
			in.noteCompared(ctx, name, &c)
		}
	}()
	begun, err := in.store.Rejected.Clock(ctx)
	if err != nil {
		return out, err
	}
	bad := func(item origin.BadItem) {
		out.AddBad(item.Err)
		if item.Key != "" {
			in.untaken(ctx, name, item)
		}
	}
	var later []origin.BadItem // those that refer to what may come with this comparison
	all := 0
	gone := map[string][]writing.Edit{}
	for typ := range source.Config.Types {
		held, missing, err := in.compareType(ctx, source, typ, cause, &out, bad, func(item origin.BadItem) {
			later = append(later, item)
		}, progress)
		if err != nil {
			return out, err
		}
		all += held
		gone[typ] = missing
	}
	for _, item := range later {
		one := []origin.Ref{{Type: item.Type, Key: item.Key}}
		if err := in.takeRefs(ctx, source, one, cause, &out, bad); err != nil {
			return out, err
		}
	}
	many := 0
	for _, edits := range gone {
		many += len(edits)
	}
	if many > brakeAt && float64(many) > brakeShare*float64(all) && !deleteMany {
		out.Held = many
	} else {
		for _, edits := range gone {
			for some := range slices.Chunk(edits, 200) {
				if err := in.eachOrAll(ctx, some, name, cause,
					func(_ string, err error) { out.AddBad(err) }); err != nil {
					return out, err
				}
				out.Changed += len(some)
				out.Deleted += len(some)
			}
		}
	}
	if err := in.store.Rejected.DropBefore(ctx, name, begun); err != nil {
		return out, err
	}
	source.Compared()
	undone := "a comparison with origin " + name + " has left something undone"
	if out.BadItems+out.Held > 0 {
		in.work.Failures.Failed(in.log, undone, "outcome", out.String())
	} else {
		in.work.Failures.Over(undone)
	}
	return out, nil
}

// noteCompared keeps what a comparison came to.
func (in *Service) noteCompared(ctx context.Context, name string, c *api.LastComparison) {
	in.compared.Store(name, c)
	if err := in.store.Rejected.NoteCompared(ctx, name, in.replica.Node.Name, c); err != nil {
		in.work.Failures.Failed(in.log, "what a comparison came to is not kept", "origin", name, "error", err)
	}
}

// compareType compares the entries of one type. stored is how many there were, gone what
// the origin does not have any more.
func (in *Service) compareType(
	ctx context.Context, source *origin.Source, typ string, cause content.Cause, out *api.Reconciled,
	bad, later func(origin.BadItem), progress Progress,
) (stored int, gone []writing.Edit, err error) {
	held, err := in.store.Entries.EntryIDs(ctx, source.Name, typ)
	if err != nil {
		return stored, gone, err
	}
	stored = len(held)
	seen := 0
	err = source.All(ctx, in.replica.Model(), typ, func(items []origin.Item) error {
		seen += len(items)
		items, err := in.resolve(ctx, items, func(item origin.BadItem) {
			id, failed := in.adoptedID(ctx, content.MakeID(source.Name, typ, item.Key))
			if failed == nil {
				delete(held, id)
			}
			later(item)
		})
		if err != nil {
			return err
		}
		for i := range items {
			delete(held, items[i].ID)
			if len(items[i].Lost) > 0 {
				if out.LostAll++; len(out.Lost) < 100 {
					out.Lost = append(
						out.Lost, fmt.Sprintf("%s %s: %s", typ, items[i].Key, strings.Join(items[i].Lost, "; ")),
					)
				}
			}
		}
		progress(typ, seen)
		if items, err = in.leaveOutSame(ctx, source.Name, items); err != nil {
			return err
		}
		before := out.Changed
		if err := in.takeItems(ctx, items, source.Name, cause, out, bad); err != nil {
			return err
		}
		return in.analyseAt(ctx, before, out.Changed)
	}, bad)
	if err != nil {
		return stored, gone, err
	}
	out.Seen += seen
	if source.Feed() {
		return stored, nil, nil // feeds list what is new
	}
	for id, key := range held {
		// It may have come while the list was read, or be one that cannot be imported:
		// ask for it by itself.
		_, err := source.One(ctx, in.replica.Model(), typ, key)
		var trouble *origin.Trouble
		if errors.Is(err, origin.ErrGone) {
			gone = append(gone, writing.Edit{ID: id, Origin: source.Name, Delete: true})
		} else if errors.As(err, &trouble) {
			return stored, gone, err
		}
	}
	return stored, gone, nil
}

// analyseAt has the database look at its tables anew when many entries have come, so that it goes on
// as quickly as with a few: at 500, 5,000, 50,000 changes and so on.
func (in *Service) analyseAt(ctx context.Context, before, after int) error {
	for at := 500; at <= after; at *= 10 {
		if before < at {
			return in.store.Entries.Analyse(ctx, after)
		}
	}
	return nil
}

// leaveOutSame leaves out the items that are held just as the origin has them: nothing is to be written.
// Those with files to mirror stay, for a file may have changed at its address.
func (in *Service) leaveOutSame(ctx context.Context, name string, items []origin.Item) ([]origin.Item, error) {
	ids := make([]string, len(items))
	for i := range items {
		ids[i] = items[i].ID
	}
	held, err := in.store.Rejected.HeldOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	m := in.replica.Model()
	return slices.DeleteFunc(items, func(item origin.Item) bool {
		was, there := held[item.ID]
		t := m.Type(item.Type)
		if !there || t == nil || was.Origin != name || was.OriginVersion != item.Version || was.Retired ||
			(item.Live == nil) != (was.Live == nil) || content.HasMirrors(item.Saved) || content.HasMirrors(item.Live) ||
			len(differing(content.Normalise(m, t, item.ID, item.Saved), was.Saved)) > 0 {
			return false
		}
		if item.Live != nil && len(differing(content.Normalise(m, t, item.ID, item.Live), was.Live)) > 0 {
			return false
		}
		return true
	}), nil
}

// takeItems applies items together; if something is wrong with one of them, each by itself.
func (in *Service) takeItems(
	ctx context.Context, items []origin.Item, name string, cause content.Cause, out *api.Reconciled,
	bad func(origin.BadItem),
) error {
	if len(items) == 0 {
		return nil
	}
	edits := make([]writing.Edit, len(items))
	for i := range items {
		edits[i] = editOf(name, items[i])
	}
	done, err := in.apply(ctx, edits, name, cause)
	var problems content.Problems
	switch {
	case err == nil:
		if out.Changed += len(done.Changes); done.Sequence > 0 {
			out.Sequence, out.SequenceAt = done.Sequence, done.At
		}
		return nil
	case !errors.As(err, &problems):
		return err
	case len(items) == 1:
		bad(origin.BadItem{Type: items[0].Type, Key: items[0].Key, Slug: in.slugOf(&items[0]), Err: err})
		return nil
	}
	for i := range items {
		if err := in.takeItems(ctx, items[i:i+1], name, cause, out, bad); err != nil {
			return err
		}
	}
	return nil
}

// keepReconciled compares with the origin now and then, since announcements get
// lost.
func (in *Service) keepReconciled(ctx context.Context, source *origin.Source) {
	every := in.reconcileEvery
	if own := time.Duration(source.Config.Every); own > 0 && !source.Polled() {
		every = own
	}
	wait := time.Second
	failing := "origin " + source.Name + " cannot be compared with; trying on"
	for {
		done, err := in.Reconcile(ctx, source.Name, content.Cause{Kind: "reconcile", Name: source.Name}, false, nil)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			in.work.Failures.Failed(in.log, failing, "error", err, "again", wait)
			if !background.Sleep(ctx, wait, nil) {
				return
			}
			wait = min(2*wait, every)
			continue
		}
		in.work.Failures.Over(failing)
		wait = time.Second
		if done.Changed > 0 {
			in.log.Info("compared with an origin", "origin", source.Name, "items", done.Seen, "changes", done.Changed)
		}
		in.news.Tell("origins")
		if source.Feed() {
			in.subscribe(ctx, source)
		}
		if !in.waitToCompare(ctx, source, every) {
			return
		}
	}
}
