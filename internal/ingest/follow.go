package ingest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
)

const (
	// askEvery is how often a repository or a feed is asked whether it has changed.
	askEvery = time.Minute
	// watchAgain is how long a folder that cannot be watched is left alone.
	watchAgain = 10 * time.Second
)

// follow keeps what is held of an origin as the origin has it.
func (in *Service) follow(ctx context.Context, source *origin.Source) {
	var all errgroup.Group
	all.Go(func() error {
		in.keepReconciled(ctx, source)
		return nil
	})
	all.Go(func() error {
		in.keepWatched(ctx, source)
		return nil
	})
	if source.Polled() {
		all.Go(func() error {
			in.keepAsking(ctx, source)
			return nil
		})
	}
	_ = all.Wait() // none of them fails
}

// keepWatched takes over what an origin says by itself that it has changed.
func (in *Service) keepWatched(ctx context.Context, source *origin.Source) {
	for {
		err := source.Watch(ctx, func() { in.askChanges(ctx, source) })
		if err == nil {
			return
		}
		if ctx.Err() == nil {
			in.work.Failures.Failed(in.log, "origin "+source.Name+" cannot be watched; it is compared now and then",
				"error", err)
		}
		if !background.Sleep(ctx, watchAgain, nil) {
			return
		}
	}
}

// keepAsking asks an origin now and then whether it has changed.
func (in *Service) keepAsking(ctx context.Context, source *origin.Source) {
	every := time.Duration(source.Config.Every)
	if every == 0 {
		every = askEvery
	}
	for background.Sleep(ctx, every, nil) {
		in.askChanges(ctx, source)
		if source.Feed() {
			in.subscribe(ctx, source)
		}
	}
}

// askChanges takes over what has changed of an origin, as far as it can tell.
func (in *Service) askChanges(ctx context.Context, source *origin.Source) {
	_, err := in.takeChanges(ctx, source, content.Cause{Kind: "reconcile", Name: source.Name})
	if err != nil && ctx.Err() == nil {
		in.work.Failures.Failed(in.log, "what has changed of origin "+source.Name+" is not taken over; trying on",
			"error", err)
	}
	in.news.Tell("origins")
}

// changed is what was taken over of an origin.
type changed struct {
	Sequence int64
	At       time.Time
	Text     string
}

// takeChanges takes over what has changed of an origin since that was done last, in one step if nothing
// is wrong with it; where the origin cannot tell, everything is compared.
func (in *Service) takeChanges(ctx context.Context, source *origin.Source, cause content.Cause) (changed, error) {
	end, err := in.alone(ctx, source.Name)
	if err != nil {
		return changed{}, err
	}
	defer end()
	if cause.Event != "" {
		// Pings from now on are about what comes after.
		if err := in.store.Events.Begin(ctx, cause.Event); err != nil {
			return changed{}, err
		}
	}
	c, ok, err := source.Changes(ctx)
	if err != nil {
		return changed{}, err
	}
	if !ok {
		done, err := in.reconcile(ctx, source, cause, false, func(string, int) {})
		return changed{done.Sequence, done.SequenceAt, done.String()}, err
	}
	out := changed{Text: "nothing has changed"}
	var done api.Reconciled
	note := func(bad origin.BadItem) {
		done.AddBad(bad.Err)
		in.noteTaken(ctx, source.Name, bad, bad.Err)
	}
	for some := range slices.Chunk(c.Items, entriesPerStep) {
		if err := in.takeRefs(ctx, source, some, cause, &done, note); err != nil {
			return out, err
		}
	}
	c.Done()
	out.Sequence, out.At = done.Sequence, done.SequenceAt
	if len(c.Items) > 0 {
		out.Text = fmt.Sprintf("%d items, %d changes", len(c.Items), done.Changed)
	}
	if done.BadItems > 0 {
		out.Text += fmt.Sprintf("; %d could not be taken over, as this one: %s", done.BadItems, done.Bad[0])
	}
	if c.Mark != "" {
		out.Text = fmt.Sprintf("commit %s, %s: %s", c.Mark, c.Text, out.Text)
		in.noteCommit(ctx, source.Name, c.Mark, out, len(c.Items), cause)
	}
	return out, nil
}

// noteCommit keeps, as an event, that a commit was found by asking; the first node that finds it does.
func (in *Service) noteCommit(
	ctx context.Context, name, mark string, c changed, items int, cause content.Cause,
) {
	if cause.Event != "" || items == 0 {
		return
	}
	e := api.Event{
		Origin: name, MessageID: "commit " + mark, State: events.EventDone, Detail: c.Text,
		Decoded: &event.Decoded{Kind: event.Ping}, Body: []byte{},
	}
	duplicates, err := in.store.Events.Add(ctx, []*api.Event{&e}, nil)
	if err == nil && duplicates == 0 && c.Sequence > 0 {
		e.Sequence, e.Stored = &c.Sequence, &c.At
		err = in.store.Events.Finish(ctx, &e)
	}
	if err != nil {
		in.work.Failures.Failed(in.log, "a commit that was taken over is not noted", "error", err)
	}
	in.news.Tell("events")
}

// takeRefs takes over the present state of some items.
func (in *Service) takeRefs(
	ctx context.Context, source *origin.Source, refs []origin.Ref, cause content.Cause, out *api.Reconciled,
	bad func(origin.BadItem),
) error {
	var gone []writing.Edit
	var items []origin.Item
	var trouble *origin.Trouble
	for _, r := range refs {
		item, err := source.One(ctx, in.replica.Model(), r.Type, r.Key)
		switch {
		case errors.Is(err, origin.ErrGone):
			id, err := in.adoptedID(ctx, content.MakeID(source.Name, r.Type, r.Key))
			if err != nil {
				return err
			}
			gone = append(gone, writing.Edit{ID: id, Origin: source.Name, Delete: true})
			if err := in.store.Rejected.Drop(ctx, source.Name, r.Type, []string{r.Key}); err != nil {
				return err
			}
		case errors.As(err, &trouble):
			return err
		case err != nil:
			bad(origin.BadItem{Type: r.Type, Key: r.Key, Err: err})
		default:
			items = append(items, item)
		}
	}
	// What is gone goes first, so that what takes its place finds its slug free.
	if err := in.dropGone(ctx, gone, source.Name, cause, out); err != nil {
		return err
	}
	items, err := in.resolve(ctx, items, bad)
	if err != nil {
		return err
	}
	for _, item := range items {
		if err := in.store.Rejected.Drop(ctx, source.Name, item.Type, []string{item.Key}); err != nil {
			return err
		}
	}
	return in.takeItems(ctx, items, source.Name, cause, out, bad)
}

// dropGone deletes entries that an origin does not have any more; those that are not here are left out.
func (in *Service) dropGone(
	ctx context.Context, gone []writing.Edit, name string, cause content.Cause, out *api.Reconciled,
) error {
	ids := make([]string, len(gone))
	for i := range gone {
		ids[i] = gone[i].ID
	}
	there, err := in.store.Entries.Existing(ctx, ids)
	if err != nil {
		return err
	}
	gone = slices.DeleteFunc(gone, func(e writing.Edit) bool { return !there[e.ID] })
	err = in.eachOrAll(ctx, gone, name, cause, func(_ string, err error) { out.AddBad(err) })
	if errors.Is(err, db.ErrNotFound) {
		err = nil // it went while we looked
	}
	if err == nil {
		out.Changed += len(gone)
		out.Deleted += len(gone)
	}
	return err
}

// alone waits until nobody else compares with an origin; end lets the next one do so.
func (in *Service) alone(ctx context.Context, name string) (end func(), err error) {
	lock, _ := in.comparing.LoadOrStore(name, make(chan struct{}, 1))
	select {
	case lock.(chan struct{}) <- struct{}{}:
		return func() { <-lock.(chan struct{}) }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// modelMark returns a mark of the model, which changes with it.
func (in *Service) modelMark() string { return fmt.Sprintf("%p", in.replica.Model()) }

// waitToCompare waits until everything is to be compared again: after a while, or a moment after the
// model has changed where something could not be taken over. What could not because it refers to an
// entry that was not there is tried again meanwhile.
func (in *Service) waitToCompare(ctx context.Context, source *origin.Source, wait time.Duration) bool {
	model, applied, end := in.modelMark(), in.replica.Applied(), time.Now().Add(wait)
	lastRetry := time.Now()
	for left := wait; left > 0; left = time.Until(end) {
		if !background.Sleep(ctx, min(left, modelLook), nil) {
			return false
		}
		now := in.modelMark()
		if now == model && (in.replica.Applied() == applied || time.Since(lastRetry) < retryEvery) {
			continue
		}
		left, err := in.store.Rejected.Of(ctx, source.Name, entriesPerStep)
		if err != nil || len(left) == 0 {
			model, applied, lastRetry = now, in.replica.Applied(), time.Now()
			continue
		}
		if now != model {
			in.log.Info("the model has changed: what could not be taken over is tried again", "origin", source.Name)
			return true
		}
		applied, lastRetry = in.replica.Applied(), time.Now()
		in.retryReferring(ctx, source, left)
	}
	return true
}

// retryReferring tries items again that could not be taken over because they refer to entries that were
// not there.
func (in *Service) retryReferring(ctx context.Context, source *origin.Source, left []api.UntakenItem) {
	var refs []origin.Ref
	for _, one := range left {
		if strings.HasPrefix(one.Reason, noReferred) {
			refs = append(refs, origin.Ref{Type: one.Type, Key: one.Key})
		}
	}
	if len(refs) == 0 {
		return
	}
	end, err := in.alone(ctx, source.Name)
	if err != nil {
		return
	}
	defer end()
	var done api.Reconciled
	err = in.takeRefs(ctx, source, refs, content.Cause{Kind: "reconcile", Name: source.Name}, &done,
		func(bad origin.BadItem) { in.noteTaken(ctx, source.Name, bad, bad.Err) })
	if err != nil && ctx.Err() == nil {
		in.work.Failures.Failed(in.log, "what refers to entries that were not there cannot be tried again", "origin",
			source.Name, "error", err)
	}
	in.news.Tell("origins")
}

// retryEvery is how often that is done at most.
const retryEvery = 3 * time.Second

// modelLook is how often it is looked whether the model has changed.
const modelLook = time.Second
