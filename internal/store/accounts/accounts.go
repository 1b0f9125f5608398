// Package accounts stores who may do what: accounts with sessions, keys, preview links, trusted
// documents.
package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// Accounts are the people of an environment, with their sessions. It is safe for concurrent use.
type Accounts struct {
	db          *db.DB
	environment string
	audit       *audit.Log
}

// New returns the accounts of an environment.
func New(d *db.DB, environment string, a *audit.Log) *Accounts { return &Accounts{d, environment, a} }

// ErrTaken is the error of an e-mail address that has an account already.
var ErrTaken = errors.New("there is an account with this e-mail address already")

// ErrLastAdmin is the error of a change after which nobody could administer.
var ErrLastAdmin = errors.New("this is the last admin who can sign in; make another one first")

const accountColumns = `id, email, name, role, created, by, disabled, signed_in, password, notify`

func scanAccount(r pgx.Row) (*api.Account, error) {
	var a api.Account
	err := r.Scan(&a.ID, &a.Email, &a.Name, &a.Role, &a.Created, &a.By, &a.Disabled, &a.SignedIn, &a.Password,
		&a.Notify)
	a.HasPassword = a.Password != ""
	a.Notify = a.Notify.WithDefaults()
	return &a, err
}

// Accounts lists accounts by e-mail.
func (as *Accounts) Accounts(ctx context.Context) ([]*api.Account, error) {
	rows, err := as.db.Conns(ctx).
		Query(ctx, `select `+accountColumns+` from account where environment = $1 order by email`, as.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (*api.Account, error) { return scanAccount(r) })
}

// Account returns the account with an id or e-mail address, ErrNotFound if there
// is none.
func (as *Accounts) Account(ctx context.Context, name string) (*api.Account, error) {
	a, err := scanAccount(
		as.db.Conns(ctx).
			QueryRow(ctx, `select `+accountColumns+` from account where environment = $1 and (id = $2 or email =
				$3)`, as.environment, name, strings.ToLower(name)),
	)
	if errors.Is(err, pgx.ErrNoRows) {
		err = fmt.Errorf("account %s: %w", name, db.ErrNotFound)
	}
	return a, err
}

// changeAccount runs statements and the audit's line in one transaction.
func (as *Accounts) changeAccount(ctx context.Context, done api.AuditRecord, write func(*db.Batch)) error {
	return as.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b, last db.Batch
		b.Exec(`begin`)
		write(&b)
		err := b.Run(ctx, conn)
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.ConstraintName == "account_environment_email_key" {
			return ErrTaken
		}
		if err != nil {
			return err
		}
		as.audit.Queue(&last, done)
		last.Exec(`commit`)
		return last.Run(ctx, conn)
	})
}

// AddAccount makes an account with an id of its own; ErrTaken if the address has
// one already.
func (as *Accounts) AddAccount(ctx context.Context, a *api.Account, cause content.Cause) error {
	a.ID, a.By, a.Email = content.NewID(), cause.Name, strings.ToLower(a.Email)
	return as.changeAccount(
		ctx,
		audit.NewRecord(audit.ActorFrom(ctx, cause), "account create", a.Email, nil, a),
		func(b *db.Batch) {
			as.queueAccount(b, a)
			// Whoever has the link of the first start is not the first any more.
			b.Exec(`delete from invitation where environment = $1 and account is null`, as.environment)
		},
	)
}

func (as *Accounts) queueAccount(b *db.Batch, a *api.Account) {
	b.Query(
		func(r pgx.Rows) error { return r.Scan(&a.Created) },
		`insert into account (environment, id, email, name, role, password, by)
		values ($1, $2, $3, $4, $5, $6, $7) returning created`,
		as.environment,
		a.ID,
		a.Email,
		a.Name,
		a.Role,
		a.Password,
		a.By,
	)
}

// ChangeAccount gives an account another name or role, disables it or lets it in
// again; sessions of a disabled one end. ErrLastAdmin if nobody could administer
// then.
func (as *Accounts) ChangeAccount(
	ctx context.Context, id string, cause content.Cause, change func(*api.Account),
) (*api.Account, error) {
	a, err := as.Account(ctx, id)
	if err != nil {
		return nil, err
	}
	before := *a
	change(a)
	what := "account change"
	switch {
	case a.Disabled != nil && before.Disabled == nil:
		what = "account disable"
	case a.Disabled == nil && before.Disabled != nil:
		what = "account enable"
	}
	return a, as.changeAccount(
		ctx,
		audit.NewRecord(audit.ActorFrom(ctx, cause), what, a.Email, before, a),
		func(b *db.Batch) {
			b.Exec(`select 1 from account where environment = $1 and role = 'admin' for update`, as.environment)
			b.Exec(
				`update account set name = $3, role = $4, disabled = $5 where environment = $1 and id = $2`,
				as.environment, a.ID, a.Name, a.Role, a.Disabled,
			)
			if before.Role == access.RoleAdmin && before.Disabled == nil &&
				(a.Role != access.RoleAdmin || a.Disabled != nil) {
				b.QueryRow(func(r pgx.Row) error {
					var n int
					if err := r.Scan(&n); err != nil {
						return err
					}
					if n == 0 {
						return ErrLastAdmin
					}
					return nil
				}, `select count(*) from account where environment = $1 and role = 'admin' and disabled is null and
					password <> ''`, as.environment)
			}
			if a.Disabled != nil {
				b.Exec(`delete from session where environment = $1 and account = $2`, as.environment, a.ID)
			}
		},
	)
}

// AddInvitation keeps the hash of a link that lets somebody choose a password, and
// forgets the links that there were for the same account; without an account it makes
// the first one.
func (as *Accounts) AddInvitation(ctx context.Context, hash []byte, account string, good time.Duration) error {
	return pgx.BeginFunc(ctx, as.db.Conns(ctx), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from invitation where environment = $1 and (coalesce(account, '') = $2 or
			expires < clock_timestamp())`, as.environment, account); err != nil {
			return err
		}
		_, err := tx.Exec(
			ctx,
			`insert into invitation (environment, hash, account, expires) values ($1, $2, nullif($3, ''),
				clock_timestamp() + $4)`,
			as.environment, hash, account, good,
		)
		return err
	})
}

// usable is the condition that a link is good: one that makes the first account is
// until there is an account.
const usable = ` expires > clock_timestamp() and (account is not null or not exists (select from account a where
	a.environment = $1))`

// Invitation returns the account that a link is for, nil if it makes the first
// one. Its error is ErrNotFound when it was used, is too old, or never was.
func (as *Accounts) Invitation(ctx context.Context, hash []byte) (*api.Account, error) {
	var account *string
	err := as.db.Conns(ctx).
		QueryRow(ctx, `select account from invitation where environment = $1 and hash = $2
			and`+usable, as.environment, hash).
		Scan(&account)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, db.ErrNotFound
	}
	if err != nil || account == nil {
		return nil, err
	}
	return as.Account(ctx, *account)
}

// TakeInvitation uses a link up: the account, which is made if it has no id, gets
// the password, and its sessions end.
func (as *Accounts) TakeInvitation(ctx context.Context, hash []byte, a *api.Account, by audit.Actor) error {
	what := "account password"
	fresh := a.ID == ""
	if fresh {
		a.ID, a.By, a.Email, what = content.NewID(), "first start", strings.ToLower(a.Email), "account create"
	}
	taken := false
	return as.changeAccount(ctx, audit.NewRecord(by, what, a.Email, nil, a), func(b *db.Batch) {
		b.Query(
			func(pgx.Rows) error { taken = true; return nil },
			`delete from invitation where environment = $1 and hash = $2 and`+usable+` returning 1`, as.environment,
			hash,
		)
		b.QueryRow(func(pgx.Row) error {
			if !taken {
				return db.ErrNotFound
			}
			return nil
		}, `select 1`)
		if fresh {
			as.queueAccount(b, a)
		} else {
			b.Exec(`update account set password = $3, name = $4 where environment = $1 and id =
				$2`, as.environment, a.ID, a.Password, a.Name)
		}
		b.Exec(`delete from session where environment = $1 and account = $2`, as.environment, a.ID)
		b.Exec(
			`delete from invitation where environment = $1 and (account = $2 or account is null)`, as.environment,
			a.ID,
		)
	})
}

// ChangeNotifications says how an account is told of what.
func (as *Accounts) ChangeNotifications(ctx context.Context, id string, s api.NotificationSettings) error {
	src, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = as.db.Conns(ctx).Exec(ctx, `update account set notify = $3 where environment = $1 and id = $2`,
		as.environment, id, src)
	return err
}
