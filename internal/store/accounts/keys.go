package accounts

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// Keys are the access keys of an environment, and what is open to everyone. It is safe for
// concurrent use.
type Keys struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
	audit       *audit.Log
}

// NewKeys returns the keys of an environment.
func NewKeys(d *db.DB, environment string, changes *changelog.Log, a *audit.Log) *Keys {
	return &Keys{d, environment, changes, a}
}

const keyColumns = `id, name, hash, grants, site, per_minute, created, by, expires, revoked, former, former_until`

// eachKey reads keys. Keys with the same grants share them: there may be very
// many.
func (ks *Keys) eachKey(ctx context.Context, each func(*access.Key), condition string, args ...any) error {
	rows, err := ks.db.Conns(ctx).
		Query(ctx, `select `+keyColumns+` from access_key where environment =
			$1`+condition, append([]any{ks.environment}, args...)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	shared := map[string]access.Grants{}
	for rows.Next() {
		k := &access.Key{}
		var hash, former, grants []byte
		if err := rows.Scan(&k.ID, &k.Name, &hash, &grants, &k.Site, &k.PerMinute, &k.Created, &k.By, &k.Expires,
			&k.Revoked, &former, &k.FormerUntil); err != nil {
			return err
		}
		copy(k.Hash[:], hash)
		copy(k.Former[:], former)
		held, known := shared[string(grants)]
		if !known {
			if err := json.Unmarshal(grants, &held); err != nil {
				return fmt.Errorf("grants of key %s: %w", k.ID, err)
			}
			shared[string(grants)] = held
		}
		k.Grants = held
		each(k)
	}
	return rows.Err()
}

// EachKey calls each with every key.
func (ks *Keys) EachKey(ctx context.Context, each func(*access.Key)) error {
	return ks.eachKey(ctx, each, "")
}

// Keys returns all keys, the newest first; with ids only those.
func (ks *Keys) Keys(ctx context.Context, ids ...string) ([]*access.Key, error) {
	out := []*access.Key{}
	keep := func(k *access.Key) { out = append(out, k) }
	if ids != nil {
		return out, ks.eachKey(ctx, keep, ` and id = any($2)`, ids)
	}
	return out, ks.eachKey(ctx, keep, ` order by created desc, id`)
}

// KeyNamed returns the key with an id or a name, of those with the same name the
// newest that is not revoked. Its error is ErrNotFound if there is none.
func (ks *Keys) KeyNamed(ctx context.Context, name string) (*access.Key, error) {
	var out *access.Key
	err := ks.eachKey(ctx, func(k *access.Key) {
		if out == nil {
			out = k
		}
	}, ` and (id = $2 or name = $2) order by id = $2 desc, revoked is null desc, created desc limit 1`, name)
	if err == nil && out == nil {
		err = fmt.Errorf("key %s: %w", name, db.ErrNotFound)
	}
	return out, err
}

// KeyElsewhere returns the name of the environment that a secret's hash belongs
// to, "" if there is none.
func (ks *Keys) KeyElsewhere(ctx context.Context, hash [32]byte) (string, error) {
	var name string
	err := ks.db.Conns(ctx).QueryRow(ctx, `select environment from access_key where hash = $1`, hash[:]).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return name, err
}

// AddKey keeps a key and announces it in the change log; it fills in id and
// time of creation.
func (ks *Keys) AddKey(ctx context.Context, k *access.Key, cause content.Cause) error {
	k.ID = strings.ToLower(rand.Text()[:10])
	k.By = cause.Name
	return ks.changeAccess(ctx, cause, content.KeyAccess, k.ID, func(b *db.Batch) {
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&k.Created) },
			`insert into access_key (environment, id, name, hash, grants, site, per_minute, expires, by) values ($1,
				$2, $3, $4, $5, $6, $7, $8, $9) returning created`,
			ks.environment, k.ID, k.Name, k.Hash[:], k.Grants, k.Site, k.PerMinute, k.Expires, k.By,
		)
	}, func() api.AuditRecord {
		return audit.NewRecord(audit.ActorFrom(ctx, cause), "key create", k.ID, nil, k)
	})
}

// ChangeKey changes a key that is not revoked, and returns it as it is then.
// what is what the audit log calls the change. The error is ErrNotFound when
// there is no such key.
func (ks *Keys) ChangeKey(
	ctx context.Context, id, what string, cause content.Cause, change func(k *access.Key, now time.Time) error,
) (*access.Key, error) {
	var before, after access.Key
	err := ks.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var now time.Time
		if err := conn.QueryRow(ctx, `select clock_timestamp()`).Scan(&now); err != nil {
			return err
		}
		found, err := ks.Keys(ctx, id)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return fmt.Errorf("key %s: %w", id, db.ErrNotFound)
		}
		if found[0].Revoked != nil {
			return fmt.Errorf("key %s: %w", id, access.ErrRevoked)
		}
		before, after = *found[0], *found[0]
		return change(&after, now)
	})
	if err != nil {
		return nil, err
	}
	changed := false
	err = ks.changeAccess(ctx, cause, content.KeyAccess, id, func(b *db.Batch) {
		// Somebody may have changed it meanwhile; then neither is lost silently.
		b.Query(
			func(pgx.Rows) error { changed = true; return nil },
			`update access_key set name = $3, hash = $4, grants = $5, site = $6, per_minute = $7, expires = $8,
				revoked = $9, former = $10, former_until = $11
			where environment = $1 and id = $2 and hash = $12 and grants = $13 and revoked is null returning 1`,
			ks.environment,
			id,
			after.Name,
			after.Hash[:],
			after.Grants,
			after.Site,
			after.PerMinute,
			after.Expires,
			after.Revoked,
			after.Former[:],
			after.FormerUntil,
			before.Hash[:],
			before.Grants,
		)
		b.QueryRow(func(pgx.Row) error {
			if !changed {
				return fmt.Errorf("key %s was changed by somebody else meanwhile; look at it, and try again", id)
			}
			return nil
		}, `select 1`)
	}, func() api.AuditRecord { return audit.NewRecord(audit.ActorFrom(ctx, cause), what, id, before, after) })
	return &after, err
}

// PublicGrants returns what is open to everyone.
func (ks *Keys) PublicGrants(ctx context.Context) (access.Grants, error) {
	var out access.Grants
	err := ks.db.Conns(ctx).QueryRow(ctx, `select open from environment where name = $1`, ks.environment).Scan(&out)
	return out, err
}

// Secret returns what the environment signs with.
func (ks *Keys) Secret(ctx context.Context) ([]byte, error) {
	var out []byte
	err := ks.db.Conns(ctx).QueryRow(ctx, `select secret from environment where name = $1`, ks.environment).Scan(&out)
	return out, err
}

// ChangePublicGrants changes what is open to everyone, and returns it.
func (ks *Keys) ChangePublicGrants(
	ctx context.Context, what string, cause content.Cause, change func(access.Grants) access.Grants,
) (access.Grants, error) {
	var before, after access.Grants
	err := ks.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Exec(`begin`)
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&before) },
			`select open from environment where name = $1 for update`, ks.environment,
		)
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		after = change(before)
		if after == nil {
			after = access.Grants{}
		}
		var last db.Batch
		last.Exec(`update environment set open = $2 where name = $1`, ks.environment, after)
		return ks.announceAccess(
			ctx, conn, &last, cause, content.OpenAccess, "",
			audit.NewRecord(audit.ActorFrom(ctx, cause), what, "everyone", before, after),
		)
	})
	return after, err
}

func (ks *Keys) changeAccess(
	ctx context.Context, cause content.Cause, what, id string, write func(*db.Batch), done func() api.AuditRecord,
) error {
	return ks.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Exec(`begin`)
		write(&b)
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		return ks.announceAccess(ctx, conn, &db.Batch{}, cause, what, id, done())
	})
}

// announceAccess ends a transaction that changes who may do what.
func (ks *Keys) announceAccess(
	ctx context.Context, conn *pgxpool.Conn, last *db.Batch, cause content.Cause, what, id string, done api.AuditRecord,
) error {
	ks.audit.Queue(last, done)
	if err := ks.changes.Queue(last,
		[][]content.Change{{{Kind: content.AccessChange, What: what, Entry: id, Cause: cause}}}); err != nil {
		return err
	}
	last.Exec(`commit`)
	return last.Run(ctx, conn)
}

// AddKeyUse adds to what keys were used for, by id.
func (ks *Keys) AddKeyUse(ctx context.Context, more map[string]access.Use) error {
	var keys, addresses, agents []string
	var requests, hits []int64
	var used []time.Time
	for id, u := range more {
		keys, addresses, agents = append(keys, id), append(addresses, u.Address), append(agents, u.Agent)
		requests, hits, used = append(requests, u.Requests), append(hits, u.Hits), append(used, u.At)
	}
	_, err := ks.db.Conns(ctx).Exec(ctx, `insert into key_use (environment, key, requests, hits, used, address, agent)
		select $1, n.* from unnest($2::text[], $3::bigint[], $4::bigint[], $5::timestamptz[], $6::text[],
		$7::text[]) as n (key, requests, hits, used, address, agent)
			where exists (select from access_key k where k.environment = $1 and k.id = n.key) order by n.key
		on conflict (environment, key) do update set requests = key_use.requests + excluded.requests, hits =
		key_use.hits + excluded.hits,
			used = greatest(key_use.used, excluded.used),
			address = case when excluded.used > key_use.used then excluded.address else key_use.address end,
			agent = case when excluded.used > key_use.used then excluded.agent else key_use.agent end`,
		ks.environment, keys, requests, hits, used, addresses, agents)
	return err
}

// KeyUses returns what keys were used for, by id.
func (ks *Keys) KeyUses(ctx context.Context) (map[string]api.KeyUse, error) {
	rows, err := ks.db.Conns(ctx).
		Query(ctx, `select key, requests, hits, used, address, agent from key_use where environment =
			$1`, ks.environment)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]api.KeyUse{}
	for rows.Next() {
		var id string
		var u api.KeyUse
		if err := rows.Scan(&id, &u.Requests, &u.Hits, &u.Used, &u.Address, &u.Agent); err != nil {
			return nil, err
		}
		out[id] = u
	}
	return out, rows.Err()
}
