// Package changelog stores the change log of an environment, the model in force, and the nodes that
// follow the log. Whoever changes content appends with Queue, in the same transaction.
package changelog

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/clause"
	"ubiquon/internal/store/db"
)

// Log is the change log of an environment, and the nodes that follow it. It is safe for
// concurrent use.
type Log struct {
	db          *db.DB
	environment string
}

// New returns the change log of an environment.
func New(d *db.DB, environment string) *Log { return &Log{d, environment} }

// ErrGap is the error of following the change log from a place that it does
// not have: an older copy of the database was restored, or the log was trimmed.
var ErrGap = errors.New("the change log does not go on from here")

// Mark is a place in the change log: a sequence and the random id of the change
// that has it. The zero Mark is the place before the first change.
type Mark struct {
	Sequence int64
	ID       string
}

const ChangeColumns = `sequence, commit, id::text, at, kind, edition, entry, type, what, fields, before, after, cause`

// ScanChange reads a row of ChangeColumns.
func ScanChange(r pgx.Row) (content.Change, error) {
	var c content.Change
	err := r.Scan(
		&c.Sequence, &c.Commit, &c.ID, &c.At, &c.Kind, &c.Edition, &c.Entry, &c.Type, &c.What, &c.Fields, &c.Before,
		&c.After, &c.Cause,
	)
	return c, err
}

// Head returns the place of the newest change.
func (l *Log) Head(ctx context.Context) (Mark, error) {
	var m Mark
	err := l.db.Conns(ctx).
		QueryRow(ctx, `select sequence, id::text from change where environment = $1 order by sequence desc limit
			1`, l.environment).
		Scan(&m.Sequence, &m.ID)
	if errors.Is(err, pgx.ErrNoRows) {
		return Mark{}, nil
	}
	return m, err
}

// ErrLargeCommit is the error of following a commit with more changes than are read at
// once. Whoever follows goes on from the head of the log, and forgets what it knew.
var ErrLargeCommit = errors.New("a commit has more changes than are read at once")

const (
	// ChangesPerPoll is how many changes ChangesAfter returns at most, unless one commit has
	// more.
	ChangesPerPoll = 5000
	// LargestCommit bounds the changes of one commit that are returned.
	LargestCommit = 25_000
)

// ChangesAfter returns the changes behind the mark, whole commits only. Its
// error is ErrGap when the change at the mark is gone or is another one, and
// ErrLargeCommit when the next commit has more than LargestCommit changes.
func (l *Log) ChangesAfter(ctx context.Context, at Mark) ([]content.Change, error) {
	return changesAfter(ctx, l.db.Conns(ctx), l.environment, at)
}

func changesAfter(ctx context.Context, q db.Querier, environment string, at Mark) ([]content.Change, error) {
	read := func(from int64, limit int) ([]content.Change, error) {
		rows, err := q.Query(
			ctx,
			`select `+ChangeColumns+` from change where environment = $1 and sequence >= $2 order by sequence limit $3`,
			environment, from, limit,
		)
		if err != nil {
			return nil, err
		}
		return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return ScanChange(r) })
	}
	found, err := read(at.Sequence, ChangesPerPoll+1)
	if err != nil {
		return nil, err
	}
	if at.Sequence > 0 {
		if len(found) == 0 || found[0].ID != at.ID {
			return nil, ErrGap
		}
		found = found[1:]
	} else if len(found) > 0 && found[0].Sequence != 1 {
		return nil, ErrGap
	}
	if len(found) >= ChangesPerPoll {
		first, last := found[0].Commit, found[len(found)-1].Commit
		if first != last {
			return slices.DeleteFunc(found, func(c content.Change) bool { return c.Commit == last }), nil
		}
		var all int // how many changes the commit has, as far as it matters
		if err := q.QueryRow(ctx, `select count(*) from (select 1 from change where environment = $1 and sequence >=
			$2 and sequence <= $2 + $3::bigint and commit = $4 limit $3 + 1) c`,
			environment, found[0].Sequence, LargestCommit, first).Scan(&all); err != nil {
			return nil, err
		}
		if all > LargestCommit {
			return nil, ErrLargeCommit
		}
		rest, err := read(found[len(found)-1].Sequence+1, all-len(found))
		return append(found, rest...), err
	}
	return found, nil
}

// Probe is what is to be known of an entry once a change of it is made.
type Probe struct {
	Delta *invalidation.Delta
	invalidation.Probe
}

// maxReferrers is how many entries that lead to one are looked at; of more nothing is
// told.
const maxReferrers = 200

// ChangesWith is ChangesAfter for who wants to know, of some entries that changed,
// what conditions on others come to: as of the last of the changes. It finds out
// nothing when there are more changes than it returns.
func (l *Log) ChangesWith(
	ctx context.Context, m *model.Model, at Mark, probes func([]invalidation.Delta) []Probe,
) (deltas []invalidation.Delta, err error) {
	err = pgx.BeginTxFunc(
		ctx,
		l.db.Conns(ctx),
		pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
		func(tx pgx.Tx) error {
			changes, err := changesAfter(ctx, tx, l.environment, at)
			deltas = invalidation.Deltas(changes...)
			if err != nil || len(changes) >= ChangesPerPoll/2 {
				return err
			}
			var b pgx.Batch
			for _, a := range probes(deltas) {
				if t := m.Type(a.Type); a.Path != nil && t != nil {
					l.probeReferrers(&b, a, t)
				} else if a.Path == nil {
					l.probeOwn(&b, a)
				}
			}
			return tx.SendBatch(ctx, &b).Close()
		},
	)
	return deltas, err
}

// values is the SQL of what the conditions come to.
func (a *Probe) values(args *clause.Params, but string) string {
	c := clause.Condition{Args: args, Except: but}
	columns := make([]string, len(a.Atoms))
	for i, e := range a.Atoms {
		text := c.Expr(e, "document")
		columns[i] = "case when " + text + " then 2 when not (" + text + ") then 1 else 0 end"
	}
	return "array[" + strings.Join(columns, ", ") + "]"
}

func (a *Probe) byText(truths []int8) map[string]int8 {
	out := make(map[string]int8, len(truths))
	for i, t := range truths {
		out[a.Texts[i]] = t
	}
	return out
}

func (l *Log) probeOwn(b *pgx.Batch, a Probe) {
	args := clause.Params{l.environment, a.Delta.Edition, a.Locale, a.Delta.Entry}
	b.Queue("select "+a.values(&args, "")+" from document where environment = $1 and edition = $2 and locale = $3 "+
		"and entry = $4", args...).
		QueryRow(func(r pgx.Row) error {
			var truths []int8
			if err := r.Scan(&truths); errors.Is(err, pgx.ErrNoRows) {
				return nil // it is gone again
			} else if err != nil {
				return err
			}
			if a.Delta.PredicateValues == nil {
				a.Delta.PredicateValues = map[string]map[string]int8{}
			}
			a.Delta.PredicateValues[a.Locale] = a.byText(truths)
			return nil
		})
}

// probeReferrers asks of the entries that lead to the one that changed: it walks the way
// backwards, by what the change says of its last step and by what there is of the
// others.
func (l *Log) probeReferrers(b *pgx.Batch, a Probe, t *model.Type) {
	args := clause.Params{l.environment, a.Delta.Edition, a.Locale}
	const here = " from document where environment = $1 and edition = $2 and locale = $3"
	last := a.Path[len(a.Path)-1]
	var found string
	if !last.Back {
		found = "links <> '{}' and links @> array[" + args.Add(last.Field+"/"+a.Delta.Entry, "text") + "]"
	} else {
		ids := append(filter.Texts(a.Delta.Before[a.Locale][last.Field]),
			filter.Texts(a.Delta.After[a.Locale][last.Field])...)
		found = "entry = any(" + args.Add(ids, "text[]") + ")"
	}
	for i := len(a.Path) - 2; i >= 0; i-- {
		step := a.Path[i]
		next := here + " and type = any(" + args.Add(step.Types, "text[]") + ") and " + found
		field := "fields -> " + clause.Quote(step.Field)
		if step.Back {
			found = "entry in (select jsonb_array_elements_text(case jsonb_typeof(" + field + ") when 'array' " +
				"then " + field + " else jsonb_build_array(" + field + ") end)" + next + ")"
		} else {
			found = "links <> '{}' and links && array(select " + clause.Quote(step.Field+"/") + " || entry" + next + ")"
		}
	}
	truths := a.values(&args, "") + ", " + a.values(&args, clause.Quote(a.Delta.Entry))
	b.Queue("select entry, coalesce(slug, ''), about, fields, "+truths+here+
		clause.InType(l.environment, t.Name)+" and "+found+" limit "+args.Add(maxReferrers+1, "bigint"), args...).
		Query(func(rows pgx.Rows) error {
			led := []invalidation.Referrer{}
			for rows.Next() {
				d := content.Document{Type: t.Name, Locale: a.Locale}
				var truths, others []int8
				if err := rows.Scan(&d.Entry, &d.Slug, &d.About, &d.Fields, &truths, &others); err != nil {
					return err
				}
				led = append(
					led,
					invalidation.Referrer{
						ID: d.Entry, Values: d.Values(t), PredicateValues: a.byText(truths),
						Others: a.byText(others),
					},
				)
			}
			if len(led) > maxReferrers {
				return rows.Err()
			}
			if a.Delta.Referrers == nil {
				a.Delta.Referrers = map[string]map[string][]invalidation.Referrer{}
			}
			if a.Delta.Referrers[a.Locale] == nil {
				a.Delta.Referrers[a.Locale] = map[string][]invalidation.Referrer{}
			}
			a.Delta.Referrers[a.Locale][a.Key] = led
			return rows.Err()
		})
}

// ChangesFrom returns so many changes after a sequence.
func (l *Log) ChangesFrom(ctx context.Context, after int64, limit int) ([]content.Change, error) {
	rows, err := l.db.Conns(ctx).
		Query(ctx, `select `+ChangeColumns+` from change where environment = $1 and sequence > $2 order by sequence
			limit $3`, l.environment, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return ScanChange(r) })
}

// ChangesIn returns so many changes of an edition after a sequence: what happened, and in
// which locales, without the values.
func (l *Log) ChangesIn(ctx context.Context, edition string, after int64, limit int) ([]content.Change, error) {
	rows, err := l.db.Conns(ctx).
		Query(ctx, `select sequence, at, what, entry, type, array(select jsonb_object_keys(fields)),
			(select jsonb_object_agg(key, jsonb_build_object('slug', value -> 'slug', 'about.path', value ->
			'about.path')) from jsonb_each(before)),
			(select jsonb_object_agg(key, jsonb_build_object('slug', value -> 'slug', 'about.path', value ->
			'about.path')) from jsonb_each(after)) from change
		where environment = $1 and edition = $2 and sequence > $3 order by sequence limit
		$4`, l.environment, edition, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) {
		c := content.Change{Edition: edition, Kind: content.ContentChange}
		var locales []string
		err := r.Scan(&c.Sequence, &c.At, &c.What, &c.Entry, &c.Type, &locales, &c.Before, &c.After)
		c.Fields = make(map[string][]string, len(locales))
		for _, tag := range locales {
			c.Fields[tag] = nil
		}
		return c, err
	})
}

// LogBounds returns the sequences of the oldest change in the log and of the newest; 0
// if there is none.
func (l *Log) LogBounds(ctx context.Context) (oldest, newest int64, err error) {
	err = l.db.Conns(ctx).
		QueryRow(ctx, `select coalesce((select sequence from change where environment = $1 order by sequence limit
			1), 0),
		coalesce((select sequence from change where environment = $1 order by sequence desc limit 1),
		0)`, l.environment).
		Scan(&oldest, &newest)
	return oldest, newest, err
}

// PublishedHead returns the end of the last commit that readers of the published edition
// could see something of; 0 if there is none in the log.
func (l *Log) PublishedHead(ctx context.Context) (sequence int64, err error) {
	err = l.db.Conns(ctx).QueryRow(ctx, `with ends as (
			select c.sequence, c.commit from unnest(array['published', '']) e
			cross join lateral (select sequence, commit from change where environment = $1 and edition = e order by
			sequence desc limit 1) c
			order by c.sequence desc limit 1)
		select coalesce(max(n.sequence), 0) from ends join change n on n.environment = $1 and n.sequence >=
		ends.sequence and n.commit = ends.commit`, l.environment).Scan(&sequence)
	return sequence, err
}

// Changes lists changes, the newest first: of an entry, if one is given, and below a
// sequence, if that is not 0.
func (l *Log) Changes(ctx context.Context, entry string, below int64, limit int) ([]content.Change, error) {
	rows, err := l.db.Conns(ctx).
		Query(ctx, `select `+ChangeColumns+` from change where environment = $1 and ($2 = '' or entry = $2) and ($3
			= 0 or sequence < $3) order by sequence desc limit $4`, l.environment, entry, below, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (content.Change, error) { return ScanChange(r) })
}

const channel = "ubiquon_change"

// Announce tells all nodes that there are new changes. It is sent after the
// commit, not in it, since PostgreSQL lets only one notifying commit through at
// a time.
func (l *Log) Announce(ctx context.Context) error {
	_, err := l.db.Conns(ctx).Exec(ctx, `select pg_notify($1, $2)`, channel, l.environment)
	return err
}

// Listen calls wake whenever some node announces changes, and once when it
// begins, until ctx ends or the connection breaks.
func (l *Log) Listen(ctx context.Context, wake func()) error {
	conn, err := l.db.Conns(ctx).Acquire(ctx)
	if err != nil {
		return err
	}
	// The connection goes with us: a listening one must not return to the pool.
	c := conn.Hijack()
	defer func() {
		closing, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		c.Close(closing)
	}()
	if _, err := c.Exec(ctx, `listen `+channel); err != nil {
		return err
	}
	wake()
	for {
		n, err := c.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if n.Payload == l.environment {
			wake()
		}
	}
}

// TrimAtOnce bounds how many changes go in one statement.
const TrimAtOnce = 5000

// TrimChanges takes changes out of the log that are older than keep, that every node
// has applied and that every background reader is done with; never the newest. It
// returns how many went: fewer than there are, if those are many.
func (l *Log) TrimChanges(ctx context.Context, keep time.Duration) (int, error) {
	tag, err := l.db.Conns(ctx).Exec(ctx, `delete from change where environment = $1 and sequence in (
		select sequence from change where environment = $1 and at < clock_timestamp() - $2::interval and sequence <
		least(
			(select sequence from change where environment = $1 order by sequence desc limit 1),
			(select min(applied) from node where environment = $1),
			(select min(sequence) from position where environment = $1))
		order by sequence limit $3)`, l.environment, keep, TrimAtOnce)
	return int(tag.RowsAffected()), err
}
