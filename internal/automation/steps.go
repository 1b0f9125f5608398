package automation

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/background"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/runs"
)

const (
	// stepsAtOnce is how many steps a node does at the same time.
	stepsAtOnce = 8
	// stepTimeout bounds one try of a step.
	stepTimeout = 45 * time.Second
	// stepAttempts is how often a step is tried before it has failed for good.
	stepAttempts = 6
	// longestRetryAfter bounds how long an answer may put a step off.
	longestRetryAfter = time.Hour
)

// runSteps carries out the steps that are due. Every node takes some.
func (a *Service) runSteps(ctx context.Context) {
	for {
		jobs, next, err := a.store.Runs.Claim(ctx, a.replica.Node.ID, stepsAtOnce)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.work.Failures.Failed(a.log, "steps of rules cannot be done; trying on", "error", err)
			next = time.Second
		}
		var doing sync.WaitGroup
		for i := range jobs {
			doing.Go(func() { a.do(ctx, &jobs[i]) })
		}
		doing.Wait()
		if len(jobs) > 0 {
			a.news.Tell("runs")
			continue
		}
		// Another node may have added one.
		if !background.Sleep(ctx, min(max(next, 5*time.Millisecond), time.Second), a.wakeSteps) {
			return
		}
	}
}

// failure is the error of a step that no further try will get done.
type failure struct{ error }

// Unwrap returns the error itself.
func (f failure) Unwrap() error { return f.error }

// never makes an error one that ends the tries.
func never(format string, args ...any) error { return failure{fmt.Errorf(format, args...)} }

// do carries out one step and notes what came of it.
func (a *Service) do(ctx context.Context, j *runs.Job) {
	within, cancel := context.WithTimeout(ctx, stepTimeout)
	defer cancel()
	step := &j.Steps[j.Step]
	o := runs.Outcome{Continue: step.Else == rule.Continue}
	var also func(pgx.Tx) error
	err := errors.New("unknown step")
	if work := a.stepKind(step); work != nil {
		o.Result, o.Pause, also, err = work(within, j)
	}
	if ctx.Err() != nil {
		return // the node goes down: another one does it
	}
	if err != nil {
		o.Error = err.Error()
		o.Again = againAfter(err, j.Attempts)
		a.log.Warn("a step of a rule failed", "rule", j.Rule, "run", j.Run, "step", step.Kind(), "attempt", j.Attempts,
			"again", o.Again, "error", err)
	}
	if err := a.store.Runs.Finish(ctx, j, o, also); err != nil && ctx.Err() == nil {
		a.log.Error(
			"that a step was done cannot be noted; it is done again",
			"rule",
			j.Rule,
			"run",
			j.Run,
			"error",
			err,
		)
	}
}

// againAfter is after how long a step is tried again; 0 for never.
func againAfter(err error, attempts int) time.Duration {
	var final failure
	if errors.As(err, &final) || attempts >= stepAttempts {
		return 0
	}
	wait := rebuild.Backoff(attempts)
	var answered *outbound.AnswerError
	if errors.As(err, &answered) {
		wait = max(wait, min(answered.RetryAfter, longestRetryAfter))
	}
	return wait
}

// doing is how one kind of step is done: it returns what it did, how long the next step is put
// off, and what is to be written in the transaction that notes it.
type doing func(
	ctx context.Context, j *runs.Job,
) (result string, pause time.Duration, also func(pgx.Tx) error, err error)

func (a *Service) stepKind(s *rule.Step) doing {
	plain := func(f func(context.Context, *runs.Job) (string, error)) doing {
		return func(ctx context.Context, j *runs.Job) (string, time.Duration, func(pgx.Tx) error, error) {
			result, err := f(ctx, j)
			return result, 0, nil, err
		}
	}
	switch s.Kind() {
	case rule.KindRebuild:
		return a.doRebuild
	case rule.KindRefresh:
		return plain(a.doRefresh)
	case rule.KindPurge:
		return plain(a.doPurge)
	case rule.KindWarm:
		return plain(a.doWarm)
	case rule.KindMail:
		return plain(a.doMail)
	case rule.KindCall:
		return plain(a.doCall)
	case rule.KindPublish, rule.KindUnpublish:
		return plain(a.doWrite)
	case rule.KindSchedule:
		return plain(a.doSchedule)
	case rule.KindWait:
		return func(_ context.Context, j *runs.Job) (string, time.Duration, func(pgx.Tx) error, error) {
			pause := time.Duration(j.Steps[j.Step].Wait.For)
			return "the next step waits for " + pause.String(), pause, nil, nil
		}
	}
	return nil
}

// callID is the id of what a step sends: the same at every try.
func (a *Service) callID(j *runs.Job) string {
	return fmt.Sprintf("%s-run-%d-%d", a.replica.Environment(), j.Run, j.Step)
}

// filling is what placeholders stand for in the steps of a run.
func (a *Service) filling(name string, o *rule.Occurrence) *rule.Filling {
	f := &rule.Filling{Occurrence: o, Rule: name, Differences: o.Differences(a.replica.Model())}
	if o.Entry != "" {
		f.Link = a.linkTo("/entries/" + o.Entry)
	}
	return f
}

// linkTo is the address of a page of the console.
func (a *Service) linkTo(page string) string {
	return a.address + "/console/" + a.replica.Environment() + page
}
