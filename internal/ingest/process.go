package ingest

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
)

// longestTrouble is for how long an event is tried whose origin cannot be read.
const longestTrouble = 24 * time.Hour

// processEvent reads the present state of what the event is about and applies
// it; so the order in which events come does not matter. With a wait it is to be processed
// again after it: the reason passes.
func (in *Service) processEvent(ctx context.Context, id string) (wait time.Duration, err error) {
	e, err := in.store.Events.Get(ctx, id)
	if errors.Is(err, db.ErrNotFound) || err == nil && e.State != events.EventWaiting {
		return 0, nil // it was processed, and may be forgotten already
	}
	if err != nil {
		return 0, err
	}
	e.Attempts++
	source := in.known()[e.Origin]
	if source == nil || e.Decoded == nil {
		e.State, e.Detail = events.EventFailed, "the origin is no longer configured"
		return 0, in.store.Events.Finish(ctx, &e)
	}
	cause := content.Cause{Kind: "event", Name: e.Origin, Event: e.ID, PublishedAt: e.Decoded.At}
	err = in.processDecoded(ctx, source, &e, cause)
	var problems content.Problems
	var trouble *origin.Trouble
	backoff := min(time.Second<<min(e.Attempts-1, 10), 5*time.Minute)
	switch {
	case err == nil:
		e.State = events.EventDone
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case errors.As(err, &trouble) && time.Since(e.Received) < longestTrouble:
		wait, e.Detail = backoff, err.Error()
		if next := source.Health().NextTry; next != nil {
			wait = max(wait, time.Until(*next))
		}
		in.work.Failures.Failed(
			in.log, "origin "+e.Origin+" cannot be read; its events wait", "event", e.ID, "error", err,
		)
	case trouble == nil && db.Passing(err):
		wait, e.Detail = backoff, err.Error()
		in.work.Failures.Failed(in.log, "events wait for the database", "event", e.ID, "error", err)
	case trouble != nil, errors.As(err, &problems), writing.ContentReason(err), e.Attempts >= maxAttempts:
		// Trying again would not mend it.
		e.State, e.Detail = events.EventFailed, err.Error()
		err = nil
	default:
		e.Detail = err.Error()
	}
	if kept := in.store.Events.Finish(ctx, &e); kept != nil {
		return wait, kept
	}
	in.news.Tell("events")
	if wait > 0 {
		return wait, nil
	}
	return 0, err
}

func (in *Service) processDecoded(
	ctx context.Context, source *origin.Source, e *api.Event, cause content.Cause,
) (failed error) {
	if e.Decoded.Kind == event.Ping {
		done, err := in.takeChanges(ctx, source, cause)
		if e.Detail = done.Text; done.Sequence > 0 {
			e.Sequence, e.Stored = &done.Sequence, &done.At
		}
		return err
	}
	typ, known := source.TypeOf(e.Decoded.OriginKind)
	if !known {
		return content.Problems{
			{
				Path: "subject",
				Rule: "unknown",
				Text: fmt.Sprintf("the kind %q is no longer configured", e.Decoded.OriginKind),
			},
		}
	}
	var err error
	if e.Entry, err = in.adoptedID(ctx, content.MakeID(source.Name, typ, e.Decoded.Key)); err != nil {
		return err
	}
	bad := origin.BadItem{Type: typ, Key: e.Decoded.Key}
	defer func() { in.noteTaken(ctx, source.Name, bad, failed) }()
	item, err := source.One(ctx, in.replica.Model(), typ, e.Decoded.Key)
	var lost []string
	defer func() {
		if failed == nil && len(lost) > 0 {
			e.Detail = strings.TrimPrefix(
				e.Detail+"; not taken over, since it is not delivered: "+strings.Join(lost, "; "), "; ",
			)
		}
	}()
	var edit writing.Edit
	switch {
	case errors.Is(err, origin.ErrGone):
		edit = writing.Edit{ID: e.Entry, Origin: source.Name, Delete: true}
	case err != nil:
		return err
	default:
		var missing error
		one, err := in.resolve(ctx, []origin.Item{item}, func(bad origin.BadItem) { missing = bad.Err })
		if err != nil {
			return err
		}
		if missing != nil {
			return content.Problems{{Entry: e.Entry, Rule: "reference", Text: missing.Error()}}
		}
		bad.Slug = in.slugOf(&one[0])
		lost = item.Lost
		edit = editOf(source.Name, one[0])
	}
	done, err := in.apply(ctx, []writing.Edit{edit}, source.Name, cause)
	if edit.Delete && errors.Is(err, db.ErrNotFound) {
		e.Detail = "it was not here"
		return nil
	}
	if err != nil {
		return err
	}
	if done.Sequence == 0 {
		return in.foundApplied(ctx, e)
	}
	e.Sequence, e.Stored = &done.Sequence, &done.At
	e.Detail = ""
	for _, c := range done.Changes {
		if c.Edition == content.Published || e.Detail == "" {
			e.Detail = c.What
		}
	}
	return nil
}

// noteTaken notes whether an item could be imported. Errors that pass say nothing of it.
func (in *Service) noteTaken(ctx context.Context, name string, item origin.BadItem, err error) {
	var trouble *origin.Trouble
	switch {
	case err == nil:
		if err := in.store.Rejected.Drop(ctx, name, item.Type, []string{item.Key}); err != nil {
			in.work.Failures.Failed(
				in.log, "what could not be taken over of origin "+name+" cannot be kept", "error", err,
			)
		}
	case ctx.Err() == nil && !errors.As(err, &trouble) && !db.Passing(err):
		item.Err = err
		in.untaken(ctx, name, item)
	}
}

// slugOf is the slug of an item, if it has one.
func (in *Service) slugOf(item *origin.Item) string {
	if t := in.replica.Model().Type(item.Type); t != nil && t.SlugField() != nil {
		return anyText(item.Saved[t.SlugField().Name])
	}
	return ""
}

// foundApplied notes of an event that changed nothing whether the state that it
// announces came with an earlier one: then that one's change is its own too.
func (in *Service) foundApplied(ctx context.Context, e *api.Event) error {
	e.Detail = "nothing that a reader could see has changed"
	last, err := in.store.Entries.LastPublished(ctx, e.Entry)
	if errors.Is(err, db.ErrNotFound) {
		return nil
	}
	if err == nil && e.Decoded.At != nil && !last.At.Before(*e.Decoded.At) {
		e.Sequence, e.Stored = &last.Sequence, &last.At
		e.Detail = last.What + ", with the event before"
	}
	return err
}

// editOf makes what the origin holds what is held here.
func editOf(name string, item origin.Item) writing.Edit {
	edit := writing.Edit{
		ID:            item.ID,
		Type:          item.Type,
		Origin:        name,
		OriginKey:     item.Key,
		OriginVersion: item.Version,
		Save:          item.Saved,
		Live:          writing.TakeBack,
	}
	if item.Live != nil {
		edit.Live, edit.Published, edit.PublishedAt = writing.PublishGiven, item.Live, item.PublishedAt
	}
	return edit
}
