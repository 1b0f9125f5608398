package builds

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// Notifications are what the caches downstream of an environment have been told of changes. It
// is safe for concurrent use.
type Notifications struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
}

// NewNotifications returns the caches downstream of an environment.
func NewNotifications(d *db.DB, environment string, changes *changelog.Log) *Notifications {
	return &Notifications{d, environment, changes}
}

// callFor is how long a call is one node's before another may take it over.
const callFor = "15 seconds"

// Claim takes the next call to a cache downstream for this node, unless
// there is nothing new, another node has it, or it is to wait.
func (n *Notifications) Claim(ctx context.Context, name string) (after int64, attempts int, claimed bool, err error) {
	err = n.db.Conns(ctx).QueryRow(ctx, `update downstream set free_at = clock_timestamp() + interval '`+callFor+`'
		where environment = $1 and name = $2 and free_at <= clock_timestamp() and sequence < (select sequence from
		change where environment = $1 order by sequence desc limit 1)
		returning sequence, attempts`, n.environment, name).Scan(&after, &attempts)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, 0, false, nil
	}
	return after, attempts, err == nil, err
}

// Notified ends a claim: the cache knows of the changes up to a sequence. With
// called false there was nothing to tell it.
func (n *Notifications) Notified(ctx context.Context, name string, sequence int64, called bool) error {
	var b pgx.Batch
	b.Queue(
		`update downstream set sequence = $3, free_at = clock_timestamp(), attempts = 0, failed = '', calls = calls
			+ case when $4 then 1 else 0 end, told = case when $4 then clock_timestamp() else told end
		where environment = $1 and name = $2`,
		n.environment,
		name,
		sequence,
		called,
	)
	b.Queue(
		`delete from expired_address where environment = $1 and sequence <= (select min(sequence) from downstream
			where environment = $1)`,
		n.environment,
	)
	return n.db.Conns(ctx).SendBatch(ctx, &b).Close()
}

// Failed ends a claim: the call was not taken, and is made again after a
// pause.
func (n *Notifications) Failed(ctx context.Context, name, reason string, pause time.Duration) error {
	_, err := n.db.Conns(ctx).
		Exec(ctx, `update downstream set attempts = attempts + 1, failed = $3, free_at = clock_timestamp() +
			$4::interval where environment = $1 and name = $2`, n.environment, name, reason, pause)
	return err
}

// List lists the caches downstream that are configured.
func (n *Notifications) List(ctx context.Context, names []string) ([]api.Downstream, error) {
	rows, err := n.db.Conns(ctx).
		Query(ctx, `select name, sequence, greatest(0, coalesce((select sequence from change where environment = $1
			order by sequence desc limit 1), 0) - sequence),
			told, calls, attempts, failed, case when attempts > 0 then free_at end
		from downstream where environment = $1 and name = any($2) order by name`, n.environment, names)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.Downstream])
}

// Configure takes up the caches downstream that are configured, which know of all
// there is if they are new, and forgets those that are not any more.
func (n *Notifications) Configure(ctx context.Context, names []string) error {
	var b pgx.Batch
	b.Queue(`delete from downstream where environment = $1 and name <> all($2)`, n.environment, names)
	b.Queue(
		`insert into downstream (environment, name, sequence) select $1, name, coalesce((select sequence from change
			where environment = $1 order by sequence desc limit 1), 0) from unnest($2::text[]) as n (name)
		on conflict do nothing`,
		n.environment,
		names,
	)
	return n.db.Conns(ctx).SendBatch(ctx, &b).Close()
}

// NotifyAll lets the caches downstream be told of everything: they may hold what this
// copy of the database never had.
func (n *Notifications) NotifyAll(ctx context.Context, names []string) error {
	_, err := n.db.Conns(ctx).
		Exec(ctx, `insert into downstream (environment, name, sequence) select $1, name, -1 from unnest($2::text[])
			as n (name)
		on conflict (environment, name) do update set sequence = excluded.sequence`, n.environment, names)
	return err
}

// AddExpired writes down which addresses' answers expired on a node by the changes up
// to a sequence.
func (n *Notifications) AddExpired(ctx context.Context, node string, sequence int64, addresses []string) error {
	_, err := n.db.Conns(ctx).
		Exec(ctx, `insert into expired_address (environment, sequence, node, addresses) values ($1, $2, $3, $4) on
			conflict (environment, sequence, node) do update set addresses = expired_address.addresses ||
			excluded.addresses`, n.environment, sequence, node, addresses)
	return err
}

// PendingInvalidations is what a cache downstream does not know yet.
type PendingInvalidations struct {
	// UpTo is the sequence up to which every node that may serve has applied the log.
	UpTo int64
	// Changes without their values, and whether there were more that are not in the
	// log any more.
	Changes []content.Change
	Gap     bool
	// Addresses whose answers expired on some node.
	Addresses []string
}

// Pending returns what changed after a sequence, as far as all nodes know of it that
// have not been silent for so long; nothing while the server itself has not been running
// for longer, since it may be an older copy, which does not know of every node.
func (n *Notifications) Pending(
	ctx context.Context, after int64, silent time.Duration,
) (PendingInvalidations, error) {
	var out PendingInvalidations
	var first int64
	err := n.db.Conns(ctx).
		QueryRow(ctx, `select case when clock_timestamp() - pg_postmaster_start_time() <= $2::interval then 0 else
			coalesce(least((select sequence from change where environment = $1 order by sequence desc limit 1),
			(select min(applied) from node where environment = $1 and seen > clock_timestamp() - $2::interval)), 0) end,
		coalesce((select sequence from change where environment = $1 order by sequence limit 1),
		0)`, n.environment, silent).
		Scan(&out.UpTo, &first)
	if err != nil || out.UpTo <= after {
		return out, err
	}
	out.Gap = first > after+1
	rows, err := n.db.Conns(ctx).
		Query(ctx, `select sequence, commit, id::text, at, kind, edition, entry, type, what, null::jsonb,
			null::jsonb, null::jsonb, cause
		from change where environment = $1 and sequence > $2 and sequence <= $3 order by sequence limit
		$4`, n.environment, after, out.UpTo, changelog.ChangesPerPoll)
	if err != nil {
		return out, err
	}
	if out.Changes, err = pgx.CollectRows(rows,
		func(r pgx.CollectableRow) (content.Change, error) { return changelog.ScanChange(r) }); err != nil {
		return out, err
	}
	if n := len(out.Changes); n == changelog.ChangesPerPoll {
		out.UpTo = out.Changes[n-1].Sequence
	}
	rows, err = n.db.Conns(ctx).
		Query(ctx, `select distinct unnest(addresses) from expired_address where environment = $1 and sequence > $2
			and sequence <= $3 order by 1`, n.environment, after, out.UpTo)
	if err != nil {
		return out, err
	}
	out.Addresses, err = pgx.CollectRows(rows, pgx.RowTo[string])
	return out, err
}
