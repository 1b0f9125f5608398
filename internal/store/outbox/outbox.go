// Package outbox stores what accounts are told by mail, until it is sent.
package outbox

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/store/db"
)

// Outbox is the notifications of an environment. It is safe for concurrent use.
type Outbox struct {
	db          *db.DB
	environment string
}

// New returns the notifications of an environment.
func New(d *db.DB, environment string) *Outbox { return &Outbox{d, environment} }

// Add keeps a notification, which is sent when it is due.
func (o *Outbox) Add(ctx context.Context, tx pgx.Tx, n api.Notification, due time.Time) error {
	_, err := tx.Exec(ctx, `insert into notification (environment, account, event, entry, subject, text, daily, due)
		values ($1, $2, $3, $4, $5, $6, $7, greatest($8, clock_timestamp()))`,
		o.environment, n.Account, n.Event, n.Entry, n.Subject, n.Text, n.Daily, due)
	return err
}

const columns = `n.id, n.account, coalesce(a.email, ''), n.event, n.entry, n.subject, n.text, n.at, n.daily, n.state,
	n.error, n.sent, n.attempts`

// sendingFor is how long a notification is one node's before another may send it.
const sendingFor = "60 seconds"

// Claim takes notifications that are due for this node, those of one account together. It also
// says how long it is until the next one, at most a minute.
func (o *Outbox) Claim(ctx context.Context) (all []api.Notification, next time.Duration, err error) {
	rows, err := o.db.Conns(ctx).Query(ctx, `with due as (select id from notification where environment = $1 and
			state = 'waiting' and due <= clock_timestamp() order by due limit 200 for update skip locked),
		n as (update notification u set due = clock_timestamp() + interval '`+sendingFor+`', attempts = u.attempts + 1
			from due where u.environment = $1 and u.id = due.id returning u.*)
		select `+columns+` from n left join account a on a.environment = $1 and a.id = n.account and a.disabled is null
		order by n.account, n.id`, o.environment)
	if err != nil {
		return nil, 0, err
	}
	if all, err = pgx.CollectRows(rows, pgx.RowToStructByPos[api.Notification]); err != nil {
		return nil, 0, err
	}
	err = o.db.Conns(ctx).QueryRow(ctx, `select least(interval '1 minute', greatest(interval '0', coalesce((select
		min(due) from notification where environment = $1 and state = 'waiting') - clock_timestamp(),
		interval '1 minute')))`, o.environment).Scan(&next)
	return all, next, err
}

// Sent notes that notifications were sent.
func (o *Outbox) Sent(ctx context.Context, ids []int64) error {
	_, err := o.db.Conns(ctx).Exec(ctx, `update notification set state = 'sent', sent = clock_timestamp(), error = ''
		where environment = $1 and id = any($2)`, o.environment, ids)
	return err
}

// Failed notes that notifications were not sent; again is after how long that is tried again,
// 0 for never.
func (o *Outbox) Failed(ctx context.Context, ids []int64, reason string, again time.Duration) error {
	_, err := o.db.Conns(ctx).Exec(ctx, `update notification set error = $3, due = clock_timestamp() + $4::interval,
		state = case when $4::interval = '0' then 'failed' else 'waiting' end where environment = $1 and id = any($2)`,
		o.environment, ids, reason, again)
	return err
}

// List returns notifications, the newest first: of an account, if one is given.
func (o *Outbox) List(ctx context.Context, account, state string, limit int) ([]api.Notification, error) {
	if limit <= 0 || limit > 500 {
		limit = 50
	}
	rows, err := o.db.Conns(ctx).Query(ctx, `select `+columns+` from notification n left join account a on
		a.environment = $1 and a.id = n.account where n.environment = $1 and ($2 = '' or n.account = $2) and ($3 = '' or
		n.state = $3) order by n.id desc limit $4`, o.environment, account, state, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.Notification])
}

// Overdue returns the entries that have waited for approval for longer than a span, which nobody
// was told of within a week, each with who submitted it. Until the transaction ends no other node
// gets any.
func (o *Outbox) Overdue(ctx context.Context, tx pgx.Tx, after time.Duration) ([]api.OverdueReview, error) {
	var first bool
	if err := tx.QueryRow(ctx, `select pg_try_advisory_xact_lock($1, hashtext($2))`, db.LockReminders,
		o.environment).Scan(&first); err != nil || !first {
		return nil, err
	}
	rows, err := tx.Query(ctx, `select e.id, e.type, e.title, w.by, w.at from entry e cross join lateral
			(select by, at from review w where w.environment = e.environment and w.entry = e.id and w.what =
			'submitted' order by at desc limit 1) w
		where e.environment = $1 and e.review = 'submitted' and w.at < clock_timestamp() - $2::interval
			and not exists (select from notification n where n.environment = $1 and n.entry = e.id and n.event = 'overdue'
			and n.at > clock_timestamp() - interval '7 days') order by w.at limit 100`, o.environment, after)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.OverdueReview])
}

// Trim deletes notifications that are older, some at a time.
func (o *Outbox) Trim(ctx context.Context, keep time.Duration) error {
	_, err := o.db.Conns(ctx).Exec(ctx, `delete from notification where environment = $1 and id in (select id from
		notification where environment = $1 and state <> 'waiting' and at < clock_timestamp() - $2::interval order by id
		limit 5000)`, o.environment, keep)
	return err
}
