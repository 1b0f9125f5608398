// Package settings stores the configuration of an environment that is managed while the service
// runs, with its earlier versions, and secrets, which it gets encrypted.
package settings

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
)

// Settings are the configuration and secrets of an environment. It is safe for concurrent use.
type Settings struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
	audit       *audit.Log
}

// New returns the settings of an environment.
func New(d *db.DB, environment string, changes *changelog.Log, a *audit.Log) *Settings {
	return &Settings{d, environment, changes, a}
}

// ErrVersion is the error of a change that was meant for another version than the present one.
var ErrVersion = errors.New("it was changed meanwhile")

// keepVersions is how many versions of a setting are kept.
const keepVersions = 100

// Write is a change of one setting; without Spec it is removed.
type Write struct {
	Kind, Name string
	Spec       json.RawMessage
	// IfVersion refuses the change unless the present version is that, 0 for none; nil: any.
	IfVersion *int64
	// Was is the present spec, for the audit log.
	Was json.RawMessage
}

// All returns all settings, in the order in which they were made.
func (s *Settings) All(ctx context.Context) ([]api.Setting, error) {
	rows, err := s.db.Conns(ctx).Query(ctx, `select kind, name, version, spec, by, at from setting
		where environment = $1 order by place`, s.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.Setting])
}

// Versions returns the versions of a setting that are kept, the newest first.
func (s *Settings) Versions(ctx context.Context, kind, name string) ([]api.Setting, error) {
	rows, err := s.db.Conns(ctx).Query(ctx, `select kind, name, version, spec, by, at from setting_version
		where environment = $1 and kind = $2 and name = $3 order by version desc`, s.environment, kind, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.Setting])
}

// Save carries out changes, all or none, and announces them to all nodes.
func (s *Settings) Save(ctx context.Context, writes []Write, cause content.Cause) error {
	return s.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b, last db.Batch
		b.Exec(`begin`)
		if err := s.Queue(ctx, &b, writes, cause); err != nil {
			return err
		}
		if err := named(b.Run(ctx, conn)); err != nil {
			return err
		}
		if err := s.announce(&last, writes, cause); err != nil {
			return err
		}
		last.Exec(`commit`)
		return last.Run(ctx, conn)
	})
}

// Queue adds the statements of changes to a transaction that somebody else begins and ends, and
// announces.
func (s *Settings) Queue(ctx context.Context, b *db.Batch, writes []Write, cause content.Cause) error {
	// One change at a time: numbers of versions rise, and nobody checks against what goes.
	b.Exec(`select pg_advisory_xact_lock($1, hashtext($2))`, db.LockSettings, s.environment)
	for _, w := range writes {
		if w.IfVersion != nil {
			// Division by zero is how a statement of a batch refuses to go on.
			b.Query(func(pgx.Rows) error { return nil }, `select 1 / (case when coalesce((select version from setting
				where environment = $1 and kind = $2 and name = $3), 0) = $4 then 1 else 0 end)`,
				s.environment, w.Kind, w.Name, *w.IfVersion)
		}
		b.Exec(`insert into setting_version (environment, kind, name, version, spec, by)
			select $1, $2, $3, coalesce(max(version), 0) + 1, $4, $5 from setting_version
			where environment = $1 and kind = $2 and name = $3`, s.environment, w.Kind, w.Name, nullable(w.Spec), cause.Name)
		if w.Spec == nil {
			b.Exec(
				`delete from setting where environment = $1 and kind = $2 and name = $3`,
				s.environment,
				w.Kind,
				w.Name,
			)
		} else {
			b.Exec(`insert into setting (environment, kind, name, version, spec, by)
				select environment, kind, name, version, spec, by from setting_version
				where environment = $1 and kind = $2 and name = $3 order by version desc limit 1
				on conflict (environment, kind, name) do update set version = excluded.version, spec = excluded.spec,
				by = excluded.by, at = clock_timestamp()`, s.environment, w.Kind, w.Name)
		}
		b.Exec(`delete from setting_version where environment = $1 and kind = $2 and name = $3 and version <=
			(select max(version) - $4 from setting_version where environment = $1 and kind = $2 and name = $3)`,
			s.environment, w.Kind, w.Name, keepVersions)
		s.audit.Queue(b, audit.NewRecord(audit.ActorFrom(ctx, cause), w.Kind+" "+w.does(), w.Name,
			nullable(w.Was), nullable(w.Spec)))
	}
	return nil
}

func (w *Write) does() string {
	switch {
	case w.Spec == nil:
		return "remove"
	case w.Was == nil:
		return "create"
	}
	return "edit"
}

func nullable(spec json.RawMessage) any {
	if spec == nil {
		return nil
	}
	return spec
}

// Announcements are the changes that tell all nodes of writes.
func Announcements(writes []Write, cause content.Cause) []content.Change {
	out := make([]content.Change, len(writes))
	for i, w := range writes {
		out[i] = content.Change{Kind: content.SettingsChange, What: w.Kind, Entry: w.Name, Cause: cause}
	}
	return out
}

func (s *Settings) announce(b *db.Batch, writes []Write, cause content.Cause) error {
	return s.changes.Queue(b, [][]content.Change{Announcements(writes, cause)})
}

// KindPurge is what announcements are about that have all nodes throw cached responses away;
// their Entry is an api.CacheQuery as JSON.
const KindPurge = "purge"

// AnnouncePurge has all nodes throw away the cached responses that the conditions mean.
func (s *Settings) AnnouncePurge(ctx context.Context, queries []api.CacheQuery, cause content.Cause) error {
	changes := make([]content.Change, len(queries))
	for i, q := range queries {
		src, err := json.Marshal(q)
		if err != nil {
			return err
		}
		changes[i] = content.Change{Kind: content.SettingsChange, What: KindPurge, Entry: string(src), Cause: cause}
	}
	return s.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Exec(`begin`)
		if err := s.changes.Queue(&b, [][]content.Change{changes}); err != nil {
			return err
		}
		b.Exec(`commit`)
		return b.Run(ctx, conn)
	})
}

// named gives the errors of Queue's statements their names.
func named(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && (pg.Code == "22012" || pg.ConstraintName == "setting_version_pkey") {
		return ErrVersion
	}
	return err
}

// Sealed is a secret as it is kept.
type Sealed struct {
	Name    string
	Version int64
	Value   []byte
	By      string
	At      time.Time
}

// Secrets returns all secrets, by name.
func (s *Settings) Secrets(ctx context.Context) ([]Sealed, error) {
	rows, err := s.db.Conns(ctx).Query(ctx, `select name, version, sealed, by, at from secret where environment = $1
		order by name`, s.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Sealed])
}

// KindSecret is what announcements of secrets are about.
const KindSecret = "secret"

// SaveSecret keeps an encrypted value under a name, and announces it to all nodes.
func (s *Settings) SaveSecret(ctx context.Context, name string, sealed []byte, cause content.Cause) error {
	return s.secret(ctx, name, "secret set", cause, func(b *db.Batch) {
		b.Exec(`insert into secret (environment, name, sealed, by) values ($1, $2, $3, $4)
			on conflict (environment, name) do update set sealed = excluded.sealed, by = excluded.by,
			version = secret.version + 1, at = clock_timestamp()`, s.environment, name, sealed, cause.Name)
	})
}

// RemoveSecret forgets a secret. Its error is db.ErrNotFound if there is none.
func (s *Settings) RemoveSecret(ctx context.Context, name string, cause content.Cause) error {
	found := false
	err := s.secret(ctx, name, "secret remove", cause, func(b *db.Batch) {
		b.Query(func(pgx.Rows) error { found = true; return nil },
			`delete from secret where environment = $1 and name = $2 returning 1`, s.environment, name)
	})
	if err == nil && !found {
		err = fmt.Errorf("secret %q: %w", name, db.ErrNotFound)
	}
	return err
}

func (s *Settings) secret(
	ctx context.Context, name, what string, cause content.Cause, write func(*db.Batch),
) error {
	return s.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Exec(`begin`)
		write(&b)
		s.audit.Queue(&b, audit.NewRecord(audit.ActorFrom(ctx, cause), what, name, nil, nil))
		if err := s.announce(&b, []Write{{Kind: KindSecret, Name: name}}, cause); err != nil {
			return err
		}
		b.Exec(`commit`)
		return b.Run(ctx, conn)
	})
}

// SiteReads returns, by site, the types that were read with its key within a time, sorted.
func (s *Settings) SiteReads(ctx context.Context, within time.Duration) (map[string][]string, error) {
	rows, err := s.db.Conns(ctx).Query(ctx, `select site, array_agg(type order by type) from site_read
		where environment = $1 and last > clock_timestamp() - $2::interval group by site`, s.environment, within)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]string{}
	for rows.Next() {
		var site string
		var types []string
		if err := rows.Scan(&site, &types); err != nil {
			return nil, err
		}
		out[site] = types
	}
	return out, rows.Err()
}

// AddSiteReads notes that types were read with the keys of sites: pairs of both.
func (s *Settings) AddSiteReads(ctx context.Context, sites, types []string) error {
	_, err := s.db.Conns(ctx).Exec(ctx, `insert into site_read (environment, site, type)
		select distinct $1, r.site, r.type from unnest($2::text[], $3::text[]) as r (site, type) order by 2, 3
		on conflict (environment, site, type) do update set last = clock_timestamp()`, s.environment, sites, types)
	return err
}

// Trim deletes the versions of settings that were removed longer ago, and the reads of sites that
// are older.
func (s *Settings) Trim(ctx context.Context, keep time.Duration) error {
	_, err := s.db.Conns(ctx).Exec(ctx, `with removed as (
			select kind, name from setting_version v where environment = $1 and not exists (select from setting n
				where n.environment = $1 and n.kind = v.kind and n.name = v.name)
			group by kind, name having max(at) < clock_timestamp() - $2::interval
		), reads as (
			delete from site_read where environment = $1 and last < clock_timestamp() - $2::interval
		)
		delete from setting_version where environment = $1 and (kind, name) in (select kind, name from removed)`,
		s.environment, keep)
	return err
}
