package ingest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/origin"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
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
func (in *Service) Receive(
	ctx context.Context, name string, header http.Header, body []byte, address string,
) (id string, duplicate bool, err error) {
	ctx = db.For(ctx, db.Receiving)
	source := in.sources[name]
	if source == nil {
		return "", false, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	e := events.Event{
		Origin:      name,
		MessageID:   access.Printable(header.Get("webhook-id")),
		ContentType: access.Printable(header.Get("Content-Type")),
		Body:        body,
		State:       events.EventWaiting,
	}
	refuse := func(reason error) (string, error) {
		e.State, e.Detail = events.EventRefused, access.Printable(reason.Error())
		// Anybody can be refused, and is not to fill the database.
		e.Body = body[:min(len(body), 4<<10)]
		err := in.store.Events.AddRefused(ctx, &e, in.limits.RefusedHooksKept)
		in.news.Tell("events")
		return e.ID, err
	}
	if err := event.Prove(source.Config.Prove.StandardWebhooks, header, body, time.Now()); err != nil {
		if !in.unproven.Allow(access.Network(address), time.Now()) {
			in.uncounted.Add(1)
			return "", false, access.ErrTooMany
		}
		if _, kept := refuse(err); kept != nil {
			return "", false, kept
		}
		return "", false, err
	}
	decoded, err := event.DecodeCloudEvent(e.ContentType, body)
	if err == nil && decoded.Kind != event.Ping {
		if _, known := source.TypeOf(decoded.OriginKind); !known {
			err = fmt.Errorf(
				"the event is about a %q, which is none of the kinds configured for this origin", decoded.OriginKind,
			)
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
	duplicate, err = in.store.Events.Add(ctx, &e, func(tx pgx.Tx, id string) error {
		_, err := in.jobs.InsertTx(ctx, tx, eventJob{Event: id}, in.queued(name))
		return err
	})
	in.news.Tell("events")
	return e.ID, duplicate, err
}

// UnkeptHooks is how many announcements were not proven, and too many to be kept.
func (in *Service) DroppedHooks() int64 { return in.uncounted.Load() }

// eventJob asks for an event to be processed.
type eventJob struct {
	Event string `json:"event"`
}

// Kind implements river.JobArgs.
func (eventJob) Kind() string { return "event" }

type eventWorker struct {
	river.WorkerDefaults[eventJob]
	g *Service
}

// maxAttempts is how often an event is tried: for about twenty minutes.
const maxAttempts = 12

func (w *eventWorker) Work(ctx context.Context, job *river.Job[eventJob]) error {
	wait, err := w.g.processEvent(ctx, job.Args.Event)
	if wait > 0 {
		return river.JobSnooze(wait)
	}
	return err
}

// atOnce bounds the events of one origin that a node processes at once, so that one that
// hangs holds up nobody else's.
const atOnce = 2

// queue is the name of the queue of an origin's events.
func (in *Service) queue(origin string) string {
	sum := sha256.Sum256([]byte(in.store.Environment + "\n" + origin))
	return "events-" + hex.EncodeToString(sum[:12])
}

func (in *Service) queued(origin string) *river.InsertOpts {
	return &river.InsertOpts{
		Queue: in.queue(origin),
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable,
			rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable,
			rivertype.JobStateScheduled}},
	}
}

func (w *eventWorker) NextRetry(job *river.Job[eventJob]) time.Time {
	return time.Now().Add(min(time.Second<<max(0, job.Attempt-1), 5*time.Minute))
}

func (in *Service) openJobs() error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &eventWorker{g: in})
	queues := map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: atOnce}} // where those before had theirs
	for name := range in.sources {
		queues[in.queue(name)] = river.QueueConfig{MaxWorkers: atOnce}
	}
	var err error
	in.jobs, err = river.NewClient(riverpgxv5.New(in.store.DB.Pool), &river.Config{
		ID:                in.replica.Node.ID,
		Queues:            queues,
		Workers:           workers,
		MaxAttempts:       maxAttempts,
		FetchCooldown:     5 * time.Millisecond,
		FetchPollInterval: time.Second,
		JobTimeout:        20 * time.Minute, // an origin that announces everything is compared with as a whole
		// What a node that was killed leaves marked as running takeOver sees to; this is
		// for a job that ends without its end being noted.
		RescueStuckJobsAfter: 30 * time.Minute,
		Logger:               quietly(in.log),
		ErrorHandler:         jobErrors{in},
	})
	if err != nil {
		return fmt.Errorf("job queue: %w", err)
	}
	return nil
}

const (
	// takeOverEvery is how often a node looks for events that nobody processes.
	takeOverEvery = 2 * time.Second
	// takeOverAtOnce bounds how many are taken up in one go.
	takeOverAtOnce = 500
)

// takeOver sees to it that every event that waits is processed: those of nodes that have
// gone, and those whose job was lost.
func (in *Service) takeOver(ctx context.Context) {
	var names []string
	for name := range in.sources {
		names = append(names, in.queue(name))
	}
	for {
		if err := in.takeOverOnce(ctx, names); err != nil && ctx.Err() == nil {
			in.work.Failures.Failed(in.log, "events that wait cannot be looked after; trying on", "error", err)
		}
		if !background.Sleep(ctx, takeOverEvery, nil) {
			return
		}
	}
}

func (in *Service) takeOverOnce(ctx context.Context, queues []string) error {
	freed, err := in.store.Events.FreeJobs(ctx, queues)
	if err != nil {
		return err
	}
	left, err := in.store.Events.EventsWithoutJob(ctx, takeOverAtOnce)
	if err != nil {
		return err
	}
	var jobs []river.InsertManyParams
	for _, e := range left {
		if in.sources[e.Origin] != nil {
			jobs = append(jobs, river.InsertManyParams{Args: eventJob{Event: e.ID}, InsertOpts: in.queued(e.Origin)})
		}
	}
	if len(jobs) > 0 {
		if _, err := in.jobs.InsertMany(ctx, jobs); err != nil {
			return err
		}
	}
	if freed+len(jobs) > 0 {
		in.log.Info("took up events that nobody processed any more", "events", freed+len(jobs))
	}
	return nil
}

// jobErrors tells of failed jobs in our own words.
type jobErrors struct{ g *Service }

func (h jobErrors) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	h.g.log.Warn("an event could not be processed", "job", job.ID, "attempt", job.Attempt, "error", err)
	return nil
}

func (h jobErrors) HandlePanic(
	_ context.Context, job *rivertype.JobRow, panicked any, trace string,
) *river.ErrorHandlerResult {
	h.g.log.Error("processing an event panicked", "job", job.ID, "panic", panicked, "trace", trace)
	return nil
}

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
	source := in.sources[e.Origin]
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
	ctx context.Context, source *origin.Source, e *events.Event, cause content.Cause,
) (failed error) {
	if e.Decoded.Kind == event.Ping {
		done, err := in.Reconcile(ctx, source.Name, cause, false, nil)
		e.Detail = done.String()
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
		one := []origin.Item{item}
		if err := in.resolveAdopted(ctx, one); err != nil {
			return err
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

// noteTaken notes whether an item could be taken over. Errors that pass say nothing of it.
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
func (in *Service) foundApplied(ctx context.Context, e *events.Event) error {
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

// Reconciled is the outcome of a comparison with an origin.
type Reconciled struct {
	Seen    int `json:"seen"`
	Changed int `json:"changed"`
	Deleted int `json:"deleted"`
	// Held are entries that the origin does not have any more, and that are kept: they are
	// too many to be deleted at once without anybody's word.
	Held int `json:"held,omitempty"`
	// Lost tells what of prose is not delivered, or could not be converted: the first
	// hundred items.
	Lost    []string `json:"lost,omitempty"`
	LostAll int      `json:"lostAll,omitempty"`
	// Bad are items that could not be taken over, and why: the first hundred of them.
	Bad      []string `json:"bad,omitempty"`
	BadItems int      `json:"badItems,omitempty"`
}

func (r *Reconciled) note(err error) {
	if r.BadItems++; len(r.Bad) < 100 {
		r.Bad = append(r.Bad, err.Error())
	}
}

func (r Reconciled) String() string {
	out := fmt.Sprintf("compared everything: %d items, %d changed, %d deleted", r.Seen, r.Changed, r.Deleted)
	if r.BadItems > 0 {
		out += fmt.Sprintf("; %d could not be taken over, as this one: %s", r.BadItems, r.Bad[0])
	}
	if r.LostAll > 0 {
		out += fmt.Sprintf("; %d lost something of their prose, as this one: %s", r.LostAll, r.Lost[0])
	}
	if r.Held > 0 {
		out += fmt.Sprintf(
			"; %d that the origin does not have any more are kept, for they are too many to go at once without "+
				"your word",
			r.Held,
		)
	}
	return out
}

const (
	// brakeAt and brakeShare say when what is gone is too much to be deleted without a
	// word: more entries of an origin than both.
	brakeAt    = 10
	brakeShare = 0.2
)

// comparison is the last comparison with an origin on this node.
type LastComparison struct {
	At    time.Time   `json:"at"`
	Done  *Reconciled `json:"done,omitempty"`
	Error string      `json:"error,omitempty"`
}

// Progress tells how far a long work has come.
type Progress func(what string, done int)

// Reconcile compares everything an origin holds with what is held here, and
// applies what differs, deletions included; those that are very many only if that is said.
// One comparison with an origin is made at a time.
func (in *Service) Reconcile(
	ctx context.Context, name string, cause content.Cause, deleteMany bool, progress Progress,
) (out Reconciled, err error) {
	source := in.sources[name]
	if source == nil {
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	if progress == nil {
		progress = func(string, int) {}
	}
	lock, _ := in.comparing.LoadOrStore(name, make(chan struct{}, 1))
	select {
	case lock.(chan struct{}) <- struct{}{}:
		defer func() { <-lock.(chan struct{}) }()
	case <-ctx.Done():
		return out, ctx.Err()
	}
	defer func() {
		if ctx.Err() == nil {
			c := LastComparison{At: time.Now(), Done: &out}
			if err != nil {
				c.Done, c.Error = nil, err.Error()
			}
			in.compared.Store(name, &c)
		}
	}()
	begun, err := in.store.Rejected.Clock(ctx)
	if err != nil {
		return out, err
	}
	bad := func(item origin.BadItem) {
		out.note(item.Err)
		if item.Key != "" {
			in.untaken(ctx, name, item)
		}
	}
	all := 0
	gone := map[string][]writing.Edit{}
	for typ := range source.Config.Types {
		held, err := in.store.Entries.EntryIDs(ctx, name, typ)
		if err != nil {
			return out, err
		}
		all += len(held)
		seen := 0
		err = source.All(ctx, in.replica.Model(), typ, func(items []origin.Item) error {
			if err := in.resolveAdopted(ctx, items); err != nil {
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
			seen += len(items)
			progress(typ, seen)
			return in.takeItems(ctx, items, name, cause, &out, bad)
		}, bad)
		if err != nil {
			return out, err
		}
		out.Seen += seen
		for id, key := range held {
			// It may have come while the list was read, or be one that cannot be taken over:
			// ask for it by itself.
			_, err := source.One(ctx, in.replica.Model(), typ, key)
			var trouble *origin.Trouble
			if errors.Is(err, origin.ErrGone) {
				gone[typ] = append(gone[typ], writing.Edit{ID: id, Origin: name, Delete: true})
			} else if errors.As(err, &trouble) {
				return out, err
			}
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
					func(_ string, err error) { out.note(err) }); err != nil {
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
	if out.BadItems+out.Held > 0 {
		in.work.Failures.Failed(
			in.log, "a comparison with origin "+name+" has left something undone", "outcome", out.String(),
		)
	}
	return out, nil
}

// takeItems applies items together; if something is wrong with one of them, each by itself.
func (in *Service) takeItems(
	ctx context.Context, items []origin.Item, name string, cause content.Cause, out *Reconciled,
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
		out.Changed += len(done.Changes)
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
	wait := time.Second
	for {
		done, err := in.Reconcile(ctx, source.Name, content.Cause{Kind: "reconcile", Name: source.Name}, false, nil)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			in.work.Failures.Failed(
				in.log, "origin "+source.Name+" cannot be compared with; trying on", "error", err, "again", wait,
			)
			if !background.Sleep(ctx, wait, nil) {
				return
			}
			wait = min(2*wait, in.reconcileEvery)
			continue
		}
		wait = time.Second
		if done.Changed > 0 {
			in.log.Info("compared with an origin", "origin", source.Name, "items", done.Seen, "changes", done.Changed)
		}
		in.news.Tell("origins")
		if !background.Sleep(ctx, in.reconcileEvery, nil) {
			return
		}
	}
}

// ConfirmEvent waits until an announcement is carried out, and every node knows of
// what came of it. It returns the event's state, and the names of the nodes that are
// not known to be that far when the time is over.
func (in *Service) ConfirmEvent(
	ctx context.Context, id string, patience time.Duration,
) (state string, open []string, err error) {
	begin := time.Now()
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		e, err := in.store.Events.Get(ctx, id)
		if err != nil {
			return "", nil, err
		}
		if e.State == events.EventDone && e.Sequence != nil {
			open, err := in.replica.Confirm(ctx, *e.Sequence, patience-time.Since(begin))
			return e.State, open, err
		}
		if e.State == events.EventDone || e.State == events.EventFailed ||
			!background.Sleep(waiting, replication.ConfirmEvery, nil) {
			return e.State, nil, nil
		}
	}
}
