package builds

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/rebuild"
)

// NextCall returns the build that the site is to be called for now, or nil and
// how long to wait until there may be one. The build is marked as running and
// is returned again, with the same id, unless Called confirms the call in time. The site has a
// Build.
func (bs *Builds) NextCall(
	ctx context.Context, site string, is *rebuild.Site,
) (due *rebuild.Build, wait time.Duration, err error) {
	wait = time.Minute
	call := is.Build
	err = pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		waiting, running, now, err := bs.lockSite(ctx, tx, site)
		if err != nil {
			return err
		}
		if running != nil {
			switch at := lastSign(running); {
			case running.NotBefore != nil && now.Before(*running.NotBefore):
				wait = running.NotBefore.Sub(now)
				return nil
			case running.NotBefore != nil && running.Attempts >= rebuild.MaxAttempts:
				wait = 0
				return bs.fail(ctx, tx, running, waiting, "the builder did not take the call: "+running.Error, now)
			case running.NotBefore != nil: // call again
				due = running
			case now.Sub(at) > call.Timeout.Or(rebuild.DefaultTimeout):
				wait = 0
				return bs.fail(ctx, tx, running, waiting, "no report in time; the build counts as failed", now)
			default:
				wait = min(wait, call.Timeout.Or(rebuild.DefaultTimeout)-now.Sub(at))
				return nil
			}
		} else if waiting == nil {
			return nil
		} else if at := call.Due(waiting); now.Before(at) {
			wait = at.Sub(now)
			return nil
		} else if at, again, err := bs.narrow(ctx, tx, waiting, is, now, now.Sub(at)); err != nil {
			return err
		} else if waiting.State == rebuild.Skipped || again {
			wait = at
			return nil
		} else {
			due = waiting
		}
		again := now.Add(rebuild.Backoff(due.Attempts + 1))
		due.State, due.NotBefore, due.Error = rebuild.Running, &again, ""
		due.Attempts++
		if due.Called == nil {
			due.Called = &now
		}
		due.Note(now, nil, "called the builder, for the %s time", ordinal(due.Attempts))
		return bs.putBuild(ctx, tx, due)
	})
	return due, wait, err
}

const (
	// ledgerPause is how often it is looked whether the ledger of a site knows of what a build is for,
	// ledgerPatience how long; then all of the site is built.
	ledgerPause    = 50 * time.Millisecond
	ledgerPatience = 30 * time.Second
)

// narrow says which pages a build that is due is to render, and skips it if that is none. again
// says that this is not known yet, and is to be asked after the wait.
func (bs *Builds) narrow(
	ctx context.Context, tx pgx.Tx, b *rebuild.Build, is *rebuild.Site, now time.Time, late time.Duration,
) (wait time.Duration, again bool, err error) {
	b.Pages = pages.All()
	if b.AskedByPerson() {
		return 0, false, nil
	}
	s, err := bs.pages.ScopeIn(ctx, tx, b.Site, b.Sequence, is.RefreshedUpTo())
	switch {
	case err != nil || !s.Known || s.Whole:
		return 0, false, err
	case s.Behind && late < ledgerPatience:
		return ledgerPause, true, nil
	case s.Behind:
		b.Note(now, nil, "it is not known which pages are stale: all are built")
		return 0, false, nil
	case len(s.Stale) == 0 && is.Build.Skips(b):
		b.State, b.Finished, b.NotBefore = rebuild.Skipped, &now, nil
		why := "not built: no page of the site shows anything else by this"
		if s.Refreshed > 0 {
			why = fmt.Sprintf("not built: the pages that are stale are refreshed instead: %d", s.Refreshed)
		}
		b.Note(now, nil, "%s", why)
		return 0, false, bs.putBuild(ctx, tx, b)
	case len(s.Stale) > 0 && len(s.Stale) <= pages.MostListed:
		b.Pages = s.Stale
	}
	return 0, false, nil
}

func lastSign(b *rebuild.Build) time.Time {
	at := b.FirstRequest
	for _, t := range []*time.Time{b.Called, b.Started} {
		if t != nil && t.After(at) {
			at = *t
		}
	}
	return at
}

func ordinal(n int) string {
	switch n {
	case 1:
		return "first"
	case 2:
		return "second"
	case 3:
		return "third"
	}
	return strconv.Itoa(n) + "th"
}

// longestRetryAfter bounds how long a builder may have its call put off.
const longestRetryAfter = time.Hour

// Called notes that the builder took the call, or, with a reason, that it did
// not: then the call is made again later, no earlier than after the wait. The build of a
// builder that is silent ends with that.
func (bs *Builds) Called(
	ctx context.Context, b *rebuild.Build, silent bool, failure string, wait time.Duration,
) error {
	return pgx.BeginFunc(ctx, bs.db.Conns(ctx), func(tx pgx.Tx) error {
		_, running, now, err := bs.lockSite(ctx, tx, b.Site)
		if err != nil || running == nil || running.ID != b.ID {
			return err
		}
		running.Error = failure
		if failure == "" {
			if running.NotBefore != nil {
				running.Called = &now // the time that it has to report begins
			}
			running.NotBefore = nil
			running.Note(now, nil, "the builder took the call")
			if silent {
				says := "finished, as far as is known: the builder does not report"
				if err := bs.finish(ctx, tx, running, now, says); err != nil {
					return err
				}
			}
			return bs.putBuild(ctx, tx, running)
		}
		if at := now.Add(min(wait, longestRetryAfter)); wait > 0 &&
			(running.NotBefore == nil || at.After(*running.NotBefore)) {
			running.NotBefore = &at
		}
		running.Note(now, running.NotBefore, "the builder did not take the call: %s", failure)
		return bs.putBuild(ctx, tx, running)
	})
}
