package accounts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// AddSession keeps a session; what the account's sessions with the hash replaced
// were valid for ends with it.
func (as *Accounts) AddSession(
	ctx context.Context, a *api.Account, hash, replaced []byte, good time.Duration, by audit.Actor, agent string,
) error {
	return as.changeAccount(ctx, audit.NewRecord(by, "sign in", a.Email, nil, nil), func(b *db.Batch) {
		b.Exec(
			`delete from session where environment = $1 and (hash = $2 or expires < clock_timestamp())`,
			as.environment, replaced,
		)
		b.Exec(
			`update account set signed_in = clock_timestamp() where environment = $1 and id = $2`, as.environment,
			a.ID,
		)
		b.Exec(
			`insert into session (environment, hash, account, expires, address, agent) values ($1, $2, $3,
				clock_timestamp() + $4, $5, $6)`,
			as.environment, hash, a.ID, good, by.Address, agent,
		)
	})
}

// Session returns the session of a hash, ErrNotFound if there is none that is good:
// not too old, and used within the span idle.
func (as *Accounts) Session(ctx context.Context, hash []byte, idle time.Duration) (api.Session, error) {
	var out api.Session
	a := &api.Account{}
	var stale bool
	err := as.db.Conns(ctx).
		QueryRow(ctx, `select a.id, a.email, a.name, a.role, n.id, n.address, n.agent, n.created, n.seen, n.proved,
			n.expires, n.seen < clock_timestamp() - interval '1 minute' from session n
		join account a on a.environment = n.environment and a.id = n.account
		where n.environment = $1 and n.hash = $2 and n.expires > clock_timestamp() and n.seen > clock_timestamp() -
		$3::interval and a.disabled is null`, as.environment, hash, idle).
		Scan(&a.ID, &a.Email, &a.Name, &a.Role, &out.ID, &out.Address, &out.Agent, &out.Created, &out.Seen,
			&out.Proved, &out.Expires, &stale)
	if errors.Is(err, pgx.ErrNoRows) {
		err = db.ErrNotFound
	}
	if err == nil && stale {
		_, err = as.db.Conns(ctx).
			Exec(ctx, `update session set seen = clock_timestamp() where environment = $1 and hash =
				$2`, as.environment, hash)
	}
	out.Account = a
	return out, err
}

// Sessions lists the sessions of an account that are good, the newest first.
func (as *Accounts) Sessions(ctx context.Context, account string, idle time.Duration) ([]api.Session, error) {
	rows, err := as.db.Conns(ctx).Query(ctx, `select id, address, agent, created, seen, expires from session
		where environment = $1 and account = $2 and expires > clock_timestamp() and seen > clock_timestamp() -
		$3::interval order by created desc, id limit 200`, as.environment, account, idle)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (api.Session, error) {
		var n api.Session
		err := r.Scan(&n.ID, &n.Address, &n.Agent, &n.Created, &n.Seen, &n.Expires)
		return n, err
	})
}

// ProveSession notes that the password was given again.
func (as *Accounts) ProveSession(ctx context.Context, hash []byte) error {
	_, err := as.db.Conns(ctx).
		Exec(ctx, `update session set proved = clock_timestamp() where environment = $1 and hash =
			$2`, as.environment, hash)
	return err
}

// EndSession ends a session, and adds a line to the audit log; nothing happens if there
// is none.
func (as *Accounts) EndSession(ctx context.Context, hash []byte, by audit.Actor) error {
	if err := as.endSession(ctx, by, `hash = $2`, hash); !errors.Is(err, db.ErrNotFound) {
		return err
	}
	return nil
}

// EndSessionNamed ends a session of an account by its id; ErrNotFound if there is none.
func (as *Accounts) EndSessionNamed(ctx context.Context, account, id string, by audit.Actor) error {
	err := as.endSession(ctx, by, `id = $2 and account = $3`, id, account)
	if errors.Is(err, db.ErrNotFound) {
		err = fmt.Errorf("session %s: %w", id, err)
	}
	return err
}

// endSession ends the session that meets the condition; ErrNotFound if there is none.
func (as *Accounts) endSession(ctx context.Context, by audit.Actor, condition string, args ...any) error {
	var email string
	err := as.db.Conns(ctx).
		QueryRow(ctx, `with gone as (delete from session where environment = $1 and `+condition+` returning account)
		select a.email from gone join account a on a.environment = $1 and a.id = gone.account`,
			append([]any{as.environment}, args...)...).
		Scan(&email)
	if errors.Is(err, pgx.ErrNoRows) {
		return db.ErrNotFound
	}
	if err != nil {
		return err
	}
	by.Name = email
	return as.audit.Add(audit.WithActor(ctx, by), content.Cause{}, "sign out", email, nil, nil)
}

// ChangePassword gives an account another password, and ends its sessions but the one
// with the hash.
func (as *Accounts) ChangePassword(
	ctx context.Context, a *api.Account, password string, but []byte, by audit.Actor,
) error {
	return as.changeAccount(ctx, audit.NewRecord(by, "account password", a.Email, nil, nil), func(b *db.Batch) {
		b.Exec(`update account set password = $3 where environment = $1 and id = $2`, as.environment, a.ID, password)
		b.Exec(
			`delete from session where environment = $1 and account = $2 and hash <> $3`, as.environment, a.ID, but,
		)
		b.Exec(
			`update session set proved = clock_timestamp() where environment = $1 and hash = $2`, as.environment, but,
		)
		b.Exec(`delete from invitation where environment = $1 and account = $2`, as.environment, a.ID)
	})
}

// DropSessions forgets sessions and links that are over.
func (as *Accounts) DropSessions(ctx context.Context, idle time.Duration) error {
	_, err := as.db.Conns(ctx).
		Exec(ctx, `delete from session where environment = $1 and (expires < clock_timestamp() or seen <
			clock_timestamp() - $2::interval)`, as.environment, idle)
	if err == nil {
		_, err = as.db.Conns(ctx).
			Exec(ctx, `delete from invitation where environment = $1 and expires < clock_timestamp()`, as.environment)
	}
	return err
}
