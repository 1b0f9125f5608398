package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/origin"
	"ubiquon/internal/store"
)

// ErrUnknownOrigin is the error of an announcement from nowhere we know.
var ErrUnknownOrigin = errors.New("there is no origin of that name")

// UndecodableError is the error of a proven announcement that cannot be read.
// It is kept under the id.
type UndecodableError struct {
	ID     string
	Reason error
}

func (e *UndecodableError) Error() string { return e.Reason.Error() }
func (e *UndecodableError) Unwrap() error { return e.Reason }

// Receive takes in an announcement: it proves it, keeps it and queues it, all
// before it returns. The same message twice is one event. Its error is
// ErrUnknownOrigin, event.ErrNotProven or an *UndecodableError; the last two
// are kept too, as refused.
// Of announcements that are not proven so many are kept of one address in a minute, and
// so many of each origin (see limits.Limits); beyond that the error is ErrTooMany.
func (g *Gateway) Receive(ctx context.Context, name string, header http.Header, body []byte, address string) (id string, duplicate bool, err error) {
	source := g.origins[name]
	if source == nil {
		return "", false, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	e := store.Event{Origin: name, MessageID: access.Printable(header.Get("webhook-id")), ContentType: access.Printable(header.Get("Content-Type")), Body: body, State: store.EventWaiting}
	refuse := func(reason error) (string, error) {
		e.State, e.Detail = store.EventRefused, access.Printable(reason.Error())
		// Anybody can be refused, and is not to fill the database.
		e.Body = body[:min(len(body), 4<<10)]
		err := g.store.AddRefused(ctx, &e, g.limits.RefusedHooksKept)
		g.news.tell("events")
		return e.ID, err
	}
	if err := event.Prove(source.Config.Prove.StandardWebhooks, header, body, time.Now()); err != nil {
		if !g.unproven.Allow(access.Network(address), time.Now()) {
			g.uncounted.Add(1)
			return "", false, ErrTooMany
		}
		if _, kept := refuse(err); kept != nil {
			return "", false, kept
		}
		return "", false, err
	}
	decoded, err := event.DecodeCloudEvent(e.ContentType, body)
	if err == nil && decoded.Kind != event.Ping {
		if _, known := source.TypeOf(decoded.OriginKind); !known {
			err = fmt.Errorf("the event is about a %q, which is none of the kinds configured for this origin", decoded.OriginKind)
		}
	}
	if err != nil {
		id, kept := refuse(err)
		if kept != nil {
			return "", false, kept
		}
		return "", false, &UndecodableError{ID: id, Reason: err}
	}
	e.Decoded = &decoded
	duplicate, err = g.store.AddEvent(ctx, &e, func(tx pgx.Tx, id string) error {
		_, err := g.jobs.InsertTx(ctx, tx, eventJob{Event: id}, nil)
		return err
	})
	g.news.tell("events")
	return e.ID, duplicate, err
}

// UnkeptHooks is how many announcements were not proven, and too many to be kept.
func (g *Gateway) UnkeptHooks() int64 { return g.uncounted.Load() }

// eventJob asks for an event to be processed.
type eventJob struct {
	Event string `json:"event"`
}

// Kind implements river.JobArgs.
func (eventJob) Kind() string { return "event" }

type eventWorker struct {
	river.WorkerDefaults[eventJob]
	g *Gateway
}

// maxAttempts is how often an event is tried: for about twenty minutes.
const maxAttempts = 12

func (w *eventWorker) Work(ctx context.Context, job *river.Job[eventJob]) error {
	return w.g.processEvent(ctx, job.Args.Event, job.Attempt)
}

func (w *eventWorker) NextRetry(job *river.Job[eventJob]) time.Time {
	return time.Now().Add(min(time.Second<<max(0, job.Attempt-1), 5*time.Minute))
}

func (g *Gateway) openJobs() error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &eventWorker{g: g})
	var err error
	g.jobs, err = river.NewClient(riverpgxv5.New(g.store.Pool), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 4}},
		Workers:           workers,
		MaxAttempts:       maxAttempts,
		FetchCooldown:     5 * time.Millisecond,
		FetchPollInterval: time.Second,
		JobTimeout:        time.Minute,
		// A node that was killed leaves its jobs marked as running.
		RescueStuckJobsAfter: 2 * time.Minute,
		Logger:               quietly(g.log),
		ErrorHandler:         jobErrors{g},
	})
	if err != nil {
		return fmt.Errorf("job queue: %w", err)
	}
	return nil
}

// takeUpEvents queues the events that nobody has looked at yet. A node that was
// killed leaves its jobs marked as running, and the queue waits minutes before
// it takes them up by itself; an event that is processed twice does no harm.
func (g *Gateway) takeUpEvents(ctx context.Context) error {
	waiting, err := g.store.ListEvents(ctx, store.EventFilter{State: store.EventWaiting, Limit: 500})
	if err != nil || len(waiting) == 0 {
		return err
	}
	g.log.Info("taking up events that were accepted before the last end", "events", len(waiting))
	jobs := make([]river.InsertManyParams, len(waiting))
	for i, e := range waiting {
		jobs[i].Args = eventJob{Event: e.ID}
	}
	_, err = g.jobs.InsertMany(ctx, jobs)
	return err
}

// jobErrors tells of failed jobs in our own words.
type jobErrors struct{ g *Gateway }

func (h jobErrors) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	h.g.log.Warn("an event could not be processed", "job", job.ID, "attempt", job.Attempt, "error", err)
	return nil
}

func (h jobErrors) HandlePanic(_ context.Context, job *rivertype.JobRow, panicked any, trace string) *river.ErrorHandlerResult {
	h.g.log.Error("processing an event panicked", "job", job.ID, "panic", panicked, "trace", trace)
	return nil
}

// processEvent reads the present state of what the event is about and applies
// it; so the order in which events come does not matter.
func (g *Gateway) processEvent(ctx context.Context, id string, attempt int) error {
	e, err := g.store.Event(ctx, id)
	if err != nil {
		return err
	}
	source := g.origins[e.Origin]
	if source == nil || e.Decoded == nil {
		e.State, e.Detail = store.EventFailed, "the origin is no longer configured"
		return g.store.FinishEvent(ctx, &e)
	}
	e.Attempts = attempt
	cause := content.Cause{Kind: "event", Name: e.Origin, Event: e.ID, PublishedAt: e.Decoded.At}
	err = g.processDecoded(ctx, source, &e, cause)
	var problems content.Problems
	switch {
	case err == nil:
		e.State = store.EventDone
	case errors.As(err, &problems) || attempt >= maxAttempts:
		// Trying again would not mend it.
		e.State, e.Detail = store.EventFailed, err.Error()
		err = nil
	default:
		e.Detail = err.Error()
	}
	if kept := g.store.FinishEvent(ctx, &e); kept != nil {
		return kept
	}
	g.news.tell("events")
	return err
}

func (g *Gateway) processDecoded(ctx context.Context, source *origin.Source, e *store.Event, cause content.Cause) error {
	if e.Decoded.Kind == event.Ping {
		done, err := g.Reconcile(ctx, source.Name, cause, nil)
		e.Detail = fmt.Sprintf("compared everything: %d changed", done.Changed)
		return err
	}
	typ, known := source.TypeOf(e.Decoded.OriginKind)
	if !known {
		return content.Problems{{Path: "subject", Rule: "unknown", Text: fmt.Sprintf("the kind %q is no longer configured", e.Decoded.OriginKind)}}
	}
	e.Entry = content.MakeID(source.Name, typ, e.Decoded.Key)
	item, err := source.One(ctx, g.Model(), typ, e.Decoded.Key)
	var edit store.Edit
	switch {
	case errors.Is(err, origin.ErrGone):
		edit = store.Edit{ID: e.Entry, Delete: true}
	case err != nil:
		return err
	default:
		edit = editOf(source.Name, item)
	}
	done, err := g.Apply(ctx, []store.Edit{edit}, source.Name, cause)
	if edit.Delete && errors.Is(err, store.ErrNotFound) {
		e.Detail = "it was not here"
		return nil
	}
	if err != nil {
		return err
	}
	if done.Sequence == 0 {
		return g.foundApplied(ctx, e)
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

// foundApplied notes of an event that changed nothing whether the state that it
// announces came with an earlier one: then that one's change is its own too.
func (g *Gateway) foundApplied(ctx context.Context, e *store.Event) error {
	e.Detail = "nothing that a reader could see has changed"
	last, err := g.store.LastPublished(ctx, e.Entry)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err == nil && e.Decoded.At != nil && !last.At.Before(*e.Decoded.At) {
		e.Sequence, e.Stored = &last.Sequence, &last.At
		e.Detail = last.What + ", with the event before"
	}
	return err
}

// editOf makes what the origin holds what is held here.
func editOf(name string, item origin.Item) store.Edit {
	edit := store.Edit{ID: item.ID, Type: item.Type, Origin: name, OriginKey: item.Key, OriginVersion: item.Version, Save: item.Saved, Live: store.TakeBack}
	if item.Live != nil {
		edit.Live, edit.Published, edit.PublishedAt = store.PublishGiven, item.Live, item.PublishedAt
	}
	return edit
}

// Reconciled is the outcome of a comparison with an origin.
type Reconciled struct {
	Seen, Changed, Deleted int
	Problems               []error
}

// Progress tells how far a long work has come.
type Progress func(what string, done int)

// Reconcile compares everything an origin holds with what is held here, and
// applies what differs, deletions included.
func (g *Gateway) Reconcile(ctx context.Context, name string, cause content.Cause, progress Progress) (Reconciled, error) {
	var out Reconciled
	source := g.origins[name]
	if source == nil {
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	if progress == nil {
		progress = func(string, int) {}
	}
	for typ := range source.Config.Types {
		held, err := g.store.EntryIDs(ctx, name, typ)
		if err != nil {
			return out, err
		}
		seen := 0
		err = source.All(ctx, g.Model(), typ, func(items []origin.Item) error {
			var edits []store.Edit
			for _, item := range items {
				delete(held, item.ID)
				edits = append(edits, editOf(name, item))
			}
			seen += len(items)
			progress(typ, seen)
			return g.applyAll(ctx, edits, name, cause, &out)
		}, func(err error) { out.Problems = append(out.Problems, err) })
		if err != nil {
			return out, err
		}
		out.Seen += seen
		if len(out.Problems) > 0 {
			continue // an item that cannot be read is not one that is gone
		}
		var gone []store.Edit
		for id, key := range held {
			// It may have come while the list was read: ask for it by itself.
			if _, err := source.One(ctx, g.Model(), typ, key); errors.Is(err, origin.ErrGone) {
				gone = append(gone, store.Edit{ID: id, Delete: true})
			}
		}
		out.Deleted += len(gone)
		if err := g.applyAll(ctx, gone, name, cause, &out); err != nil {
			return out, err
		}
	}
	for _, p := range out.Problems {
		g.log.Warn("an item of an origin cannot be taken over", "origin", name, "error", p)
	}
	return out, nil
}

// applyAll applies edits together; if one of them is wrong, each by itself.
func (g *Gateway) applyAll(ctx context.Context, edits []store.Edit, by string, cause content.Cause, out *Reconciled) error {
	if len(edits) == 0 {
		return nil
	}
	done, err := g.Apply(ctx, edits, by, cause)
	var problems content.Problems
	switch {
	case err == nil:
		out.Changed += len(done.Changes)
		return nil
	case !errors.As(err, &problems):
		return err
	case len(edits) == 1:
		out.Problems = append(out.Problems, err)
		return nil
	}
	for i := range edits {
		if err := g.applyAll(ctx, edits[i:i+1], by, cause, out); err != nil {
			return err
		}
	}
	return nil
}

// keepReconciled compares with the origin now and then, since announcements get
// lost.
func (g *Gateway) keepReconciled(ctx context.Context, source *origin.Source) {
	wait := time.Second
	for {
		done, err := g.Reconcile(ctx, source.Name, content.Cause{Kind: "reconcile", Name: source.Name}, nil)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			g.log.Warn("the origin cannot be compared with; trying on", "origin", source.Name, "error", err, "again", wait)
			if !sleep(ctx, wait, nil) {
				return
			}
			wait = min(2*wait, g.o.Reconcile)
			continue
		}
		wait = time.Second
		if done.Changed > 0 {
			g.log.Info("compared with an origin", "origin", source.Name, "items", done.Seen, "changes", done.Changed)
		}
		g.news.tell("origins")
		if !sleep(ctx, g.o.Reconcile, nil) {
			return
		}
	}
}

// newsroom tells listeners that something of a kind has happened.
type newsroom struct {
	mu        sync.Mutex
	listeners map[chan string]bool
}

func (n *newsroom) tell(what string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for c := range n.listeners {
		select {
		case c <- what:
		default: // a slow listener misses a word, and hears the next
		}
	}
}

// News returns a channel that gets a word whenever something happens on this
// node: changes, events, builds, origins. stop ends it.
func (g *Gateway) News() (news <-chan string, stop func()) {
	c := make(chan string, 16)
	g.news.mu.Lock()
	defer g.news.mu.Unlock()
	if g.news.listeners == nil {
		g.news.listeners = map[chan string]bool{}
	}
	g.news.listeners[c] = true
	return c, func() {
		g.news.mu.Lock()
		defer g.news.mu.Unlock()
		delete(g.news.listeners, c)
	}
}
