// Package store keeps the records of one environment in PostgreSQL. All SQL is in the
// packages below it, by area; each takes the database and the environment's name.
package store

import (
	"context"
	"log/slog"

	"ubiquon/internal/api"
	"ubiquon/internal/store/accounts"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/once"
	"ubiquon/internal/store/outbox"
	"ubiquon/internal/store/pages"
	"ubiquon/internal/store/reading"
	"ubiquon/internal/store/runs"
	"ubiquon/internal/store/settings"
	"ubiquon/internal/store/writing"
)

// Store is the records of one environment. It is safe for concurrent use.
type Store struct {
	// Environment whose records they are.
	Environment string
	DB          *db.DB

	Changes      *changelog.Log
	Audit        *audit.Log
	Writer       *writing.Writer
	Writes       *once.Writes
	Entries      *entries.Entries
	Schedules    *entries.Schedules
	Reader       *reading.Reader
	Requests     *reading.Requests
	Accounts     *accounts.Accounts
	Keys         *accounts.Keys
	PreviewLinks *accounts.PreviewLinks
	Documents    *accounts.Documents
	Views        *accounts.Views
	Builds       *builds.Builds
	Pages        *pages.Pages
	Live         *pages.Live
	Downstream   *builds.Notifications
	Events       *events.Events
	Rejected     *events.RejectedItems
	Settings     *settings.Settings
	Runs         *runs.Runs
	Outbox       *outbox.Outbox
	Files        *files.Files
}

// Open opens a database for one environment: db.Open and New. Close ends its connections.
func Open(ctx context.Context, environment string, o db.Options) (*Store, error) {
	d, err := db.Open(ctx, o)
	if err != nil {
		return nil, err
	}
	return New(d, environment, o.Log), nil
}

// Close ends the connections to the database; it waits for those in use. Other stores on
// the same database end with it.
func (s *Store) Close() { s.DB.Close() }

// New returns the records of an environment. Stores of several environments may share a
// database.
func New(d *db.DB, environment string, log *slog.Logger) *Store {
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	s := &Store{
		Environment: environment,
		DB:          d,
		Changes:     changelog.New(d, environment),
		Audit:       audit.New(d, environment),
		Writes:      once.New(d, environment),
	}
	s.Writer = writing.New(d, environment, s.Changes, s.Audit, s.Writes, log)
	s.Entries = entries.New(d, environment, s.Changes, s.Writer, log)
	s.Schedules = entries.NewSchedules(d, environment, s.Audit)
	s.Reader = reading.New(d, environment, s.Changes, log)
	s.Requests = reading.NewRequests(d, environment)
	s.Accounts = accounts.New(d, environment, s.Audit)
	s.Keys = accounts.NewKeys(d, environment, s.Changes, s.Audit)
	s.PreviewLinks = accounts.NewPreviewLinks(d, environment, s.Audit)
	s.Documents = accounts.NewDocuments(d, environment, s.Keys)
	s.Views = accounts.NewViews(d, environment)
	s.Pages = pages.New(d, environment)
	s.Live = pages.NewLive(d, environment)
	s.Builds = builds.New(d, environment, s.Pages)
	s.Downstream = builds.NewNotifications(d, environment, s.Changes)
	s.Events = events.New(d, environment)
	s.Rejected = events.NewRejectedItems(d, environment)
	s.Settings = settings.New(d, environment, s.Changes, s.Audit)
	s.Runs = runs.New(d, environment)
	s.Outbox = outbox.New(d, environment)
	s.Files = files.New(d, environment)
	return s
}

// Backlog counts what waits, is late, or has failed within a day.
func (s *Store) Backlog(ctx context.Context) (api.Backlog, error) {
	var b api.Backlog
	err := s.DB.Conns(ctx).
		QueryRow(ctx, `select w.n, w.since, e.failed, e.refused, l.n, l.since, f.n, u.waiting, u.failing,
			greatest(0, coalesce((select sequence from change where environment = $1 order by sequence desc limit
			1), 0) - coalesce((select sequence from position where environment = $1 and name = 'rules'), 0))
		from (select count(*) n, min(received) since from event where environment = $1 and state = 'waiting') w,
			(select count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'refused')
			refused from event where environment = $1 and received > clock_timestamp() - interval '1 day') e,
			(select count(*) n, min(at) since from schedule where environment = $1 and state = 'pending' and at <
			clock_timestamp() - interval '5 seconds') l,
			(select count(*) n from schedule where environment = $1 and state = 'failed' and finished >
			clock_timestamp() - interval '1 day') f,
			(select count(*) filter (where state = 'waiting') waiting, count(*) filter (where failures > 0) failing
			from build where environment = $1 and state in ('waiting', 'running')) u`,
			s.Environment).
		Scan(&b.WaitingEvents, &b.WaitingSince, &b.FailedEvents, &b.RefusedEvents, &b.LateSchedules, &b.LateSince,
			&b.FailedSchedules, &b.WaitingBuilds, &b.FailingBuilds, &b.RulesBehind)
	return b, err
}
