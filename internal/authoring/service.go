// Package authoring changes content: entries, the model, schedules, submissions, imports.
// A change is one transaction of the store; Apply returns when this node serves nothing
// older. The package knows neither HTTP nor who may do what.
package authoring

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/health"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
)

// Service writes the content of one environment. It is safe for concurrent use.
type Service struct {
	replica       *replication.Replica
	store         *store.Store
	log           *slog.Logger
	cache         *cache.Cache
	news          *replication.Broadcaster
	work          *background.Group
	limits        limits.Limits
	checks        ModelChecks
	submitting    sync.Map     // *submitLimits, by type
	trapped       atomic.Int64 // submissions that filled in the trap
	wakeSchedules chan struct{}
	wakeIndexes   chan struct{}
	writes        health.Target
	writeErrors   atomic.Int64
	// scheduleFailed is told of a schedule that could not be carried out.
	scheduleFailed func(ctx context.Context, entry, reason string)
}

// New returns the service that writes what the replica follows.
// scheduleFailed is told of every schedule that could not be carried out.
func New(
	r *replication.Replica, checks ModelChecks, scheduleFailed func(ctx context.Context, entry, reason string),
) *Service {
	return &Service{
		replica:        r,
		store:          r.Store(),
		log:            r.Log(),
		cache:          r.Cache(),
		news:           r.News(),
		work:           r.Work(),
		limits:         r.Limits(),
		checks:         checks,
		scheduleFailed: scheduleFailed,
		wakeSchedules:  make(chan struct{}, 1),
		wakeIndexes:    make(chan struct{}, 1),
	}
}

// ModelChanged has indexes made that a new model asks for.
func (a *Service) ModelChanged() { background.Nudge(a.wakeIndexes) }

// Start begins to carry out schedules and to keep indexes as the model wants them.
func (a *Service) Start() {
	a.work.Go(a.watchWrites)
	a.work.GoAwake(a.runSchedules)
	a.work.Go(a.keepIndexes)
}

// Writes returns how writing goes: with an Error while the database takes no writes.
func (a *Service) Writes() health.State { return a.writes.State() }

// WriteErrors is how many writes the database did not take, for a reason that passes.
func (a *Service) WriteErrors() int64 { return a.writeErrors.Load() }

// writeProbe is how often a write is tried while writes fail.
const writeProbe = 5 * time.Second

// watchWrites finds out when the database takes writes again that it did not take.
func (a *Service) watchWrites(ctx context.Context) {
	for background.Sleep(ctx, writeProbe, nil) {
		if a.writes.State().Error == "" {
			continue
		}
		err := a.store.Writes.TryWrite(ctx)
		if a.noteWrite(err); err == nil {
			a.log.Info("the database takes writes again")
		}
	}
}

// noteWrite notes how a write went, as far as that says something about the database.
func (a *Service) noteWrite(err error) {
	trouble, told := db.TroubleOf(err)
	switch {
	case err == nil:
		a.writes.Done(time.Now(), nil)
	case trouble == db.PassingTrouble && !errors.Is(err, context.Canceled) && !admission.Overloaded(err):
		a.writes.Done(time.Now(), errors.New(told))
		a.writeErrors.Add(1)
	}
}
