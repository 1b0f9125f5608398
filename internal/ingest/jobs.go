package ingest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"ubiquon/internal/background"
)

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

// Work implements river.Worker.
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
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
			rivertype.JobStateAvailable,
			rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable,
			rivertype.JobStateScheduled,
		}},
	}
}

// NextRetry implements river.Worker.
func (w *eventWorker) NextRetry(job *river.Job[eventJob]) time.Time {
	return time.Now().Add(min(time.Second<<max(0, job.Attempt-1), 5*time.Minute))
}

func (in *Service) openJobs() error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &eventWorker{g: in})
	queues := map[string]river.QueueConfig{in.queue(""): {MaxWorkers: atOnce}} // there must be one
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
		Logger:               background.Quietly(in.log),
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
	for {
		var names []string
		for name := range in.known() {
			names = append(names, in.queue(name))
		}
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
		if in.known()[e.Origin] != nil {
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

// HandleError implements river.ErrorHandler.
func (h jobErrors) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	h.g.log.Warn("an event could not be processed", "job", job.ID, "attempt", job.Attempt, "error", err)
	return nil
}

// HandlePanic implements river.ErrorHandler.
func (h jobErrors) HandlePanic(
	_ context.Context, job *rivertype.JobRow, panicked any, trace string,
) *river.ErrorHandlerResult {
	h.g.log.Error("processing an event panicked", "job", job.ID, "panic", panicked, "trace", trace)
	return nil
}
