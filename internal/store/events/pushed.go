package events

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
)

// PushedItem is what an origin has written here of one item.
type PushedItem struct {
	Kind, Key string
	Item      json.RawMessage
}

// PutPushed keeps items, in the place of those of the same keys.
func (us *RejectedItems) PutPushed(ctx context.Context, origin string, all []PushedItem) error {
	kinds, keys, items := make([]string, len(all)), make([]string, len(all)), make([]string, len(all))
	for i := range all {
		kinds[i], keys[i], items[i] = all[i].Kind, all[i].Key, string(all[i].Item)
	}
	_, err := us.db.Conns(ctx).Exec(ctx, `insert into pushed (environment, origin, kind, key, item)
		select distinct on (n.kind, n.key) $1, $2, n.kind, n.key, n.item::jsonb from unnest($3::text[], $4::text[],
			$5::text[]) with ordinality as n (kind, key, item, nth) order by n.kind, n.key, nth desc
		on conflict (environment, origin, kind, key) do update set item = excluded.item`,
		us.environment, origin, kinds, keys, items)
	return err
}

// DropPushed forgets an item, and tells whether there was one.
func (us *RejectedItems) DropPushed(ctx context.Context, origin, kind, key string) (was bool, err error) {
	tag, err := us.db.Conns(ctx).Exec(ctx, `delete from pushed where environment = $1 and origin = $2 and kind = $3
		and key = $4`, us.environment, origin, kind, key)
	return tag.RowsAffected() > 0, err
}

// PushedAfter returns up to 200 of the items of a kind after a key, by key.
func (us *RejectedItems) PushedAfter(ctx context.Context, origin, kind, after string) ([]PushedItem, error) {
	rows, err := us.db.Conns(ctx).Query(ctx, `select kind, key, item from pushed where environment = $1 and
		origin = $2 and kind = $3 and key > $4 order by key limit 200`, us.environment, origin, kind, after)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[PushedItem])
}

// Pushed returns an item; ok is false if there is none.
func (us *RejectedItems) Pushed(ctx context.Context, origin, kind, key string) (p PushedItem, ok bool, err error) {
	p.Kind, p.Key = kind, key
	err = us.db.Conns(ctx).QueryRow(ctx, `select item from pushed where environment = $1 and origin = $2 and kind = $3
		and key = $4`, us.environment, origin, kind, key).Scan(&p.Item)
	if errors.Is(err, pgx.ErrNoRows) {
		return p, false, nil
	}
	return p, err == nil, err
}

// NoteCompared keeps the last comparison with an origin.
func (us *RejectedItems) NoteCompared(ctx context.Context, origin, node string, c *api.LastComparison) error {
	_, err := us.db.Conns(ctx).Exec(ctx, `insert into comparison (environment, origin, at, node, outcome)
		values ($1, $2, $3, $4, $5) on conflict (environment, origin) do update set at = excluded.at,
		node = excluded.node, outcome = excluded.outcome`, us.environment, origin, c.At, node, c)
	return err
}

// Compared returns the last comparison with each origin, by any node.
func (us *RejectedItems) Compared(ctx context.Context) (map[string]*api.LastComparison, error) {
	rows, err := us.db.Conns(ctx).Query(ctx, `select origin, outcome from comparison where environment = $1`,
		us.environment)
	if err != nil {
		return nil, err
	}
	out := map[string]*api.LastComparison{}
	var name string
	var c *api.LastComparison
	_, err = pgx.ForEachRow(rows, []any{&name, &c}, func() error {
		out[name], c = c, nil
		return nil
	})
	return out, err
}

// ForgetOrigin forgets what is kept of an origin that is not configured any more.
func (us *RejectedItems) ForgetOrigin(ctx context.Context, origin string) error {
	for _, table := range []string{"pushed", "comparison", "subscription", "captured", "capture"} {
		if _, err := us.db.Conns(ctx).Exec(ctx, `delete from `+table+` where environment = $1 and origin = $2`,
			us.environment, origin); err != nil {
			return err
		}
	}
	return nil
}

// Look returns the entries that are known by names: slugs, or paths, of a type, in the preview edition.
func (us *RejectedItems) Look(ctx context.Context, by, typ string, names []string) (map[string]string, error) {
	column := "slug"
	if by == "path" {
		column = "path"
	}
	rows, err := us.db.Conns(ctx).Query(ctx, `select distinct on (`+column+`) `+column+`, entry from document
		where environment = $1 and edition = $4 and type = $2 and `+column+` = any($3) order by `+column+`, entry`,
		us.environment, typ, names, content.Preview)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var name, id string
	_, err = pgx.ForEachRow(rows, []any{&name, &id}, func() error {
		out[name] = id
		return nil
	})
	return out, err
}

// Held is what is stored of an entry: its newest saved state, and the one that readers get.
type Held struct {
	ID, Title, Origin, OriginVersion string
	Retired                          bool
	Saved, Live                      content.Fields
}

// HeldOf returns what is stored of entries.
func (us *RejectedItems) HeldOf(ctx context.Context, ids []string) (map[string]Held, error) {
	rows, err := us.db.Conns(ctx).Query(ctx, `select e.id, e.title, e.origin, e.origin_version,
		e.retired is not null, r.fields, e.live from entry e
		join revision r on r.environment = e.environment and r.entry = e.id and r.number = e.revision
		where e.environment = $1 and e.id = any($2)`, us.environment, ids)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Held])
	out := make(map[string]Held, len(all))
	for _, h := range all {
		out[h.ID] = h
	}
	return out, err
}

// Subscription is one of a feed with its hub (WebSub).
type Subscription struct {
	Hub, Topic, Secret, State string
	Asked                     time.Time
	Until                     *time.Time
	Detail                    string
}

// The states of a subscription.
const (
	SubscriptionAsked   = "asked"
	SubscriptionActive  = "active"
	SubscriptionRefused = "refused"
)

// Subscription returns an origin's; nil if it has none.
func (us *RejectedItems) Subscription(ctx context.Context, origin string) (*Subscription, error) {
	rows, err := us.db.Conns(ctx).Query(ctx, `select hub, topic, secret, state, asked, until, detail from subscription
		where environment = $1 and origin = $2`, us.environment, origin)
	if err != nil {
		return nil, err
	}
	s, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Subscription])
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return &s, err
}

// ClaimSubscription keeps that a hub is asked, unless another node asked it since a time, and tells
// whether it is for the caller to ask.
func (us *RejectedItems) ClaimSubscription(
	ctx context.Context, origin string, s *Subscription, within time.Duration,
) (mine bool, err error) {
	tag, err := us.db.Conns(ctx).
		Exec(ctx, `insert into subscription as s (environment, origin, hub, topic, secret, state)
		values ($1, $2, $3, $4, $5, 'asked') on conflict (environment, origin) do update set hub = excluded.hub,
		topic = excluded.topic, state = case when s.hub = excluded.hub and s.topic = excluded.topic and s.until >
			clock_timestamp() then s.state else 'asked' end, asked = clock_timestamp(), detail = '',
		secret = case when s.hub = excluded.hub then s.secret else excluded.secret end
		where s.asked < clock_timestamp() - $6::interval or s.hub <> excluded.hub or s.topic <> excluded.topic`,
			us.environment, origin, s.Hub, s.Topic, s.Secret, within)
	return tag.RowsAffected() > 0, err
}

// SettleSubscription notes what a hub has said: until when it is active, or why it is refused.
func (us *RejectedItems) SettleSubscription(
	ctx context.Context, origin, state, detail string, lease time.Duration,
) error {
	_, err := us.db.Conns(ctx).Exec(ctx, `update subscription set state = $3, detail = $4,
		until = clock_timestamp() + $5::interval where environment = $1 and origin = $2`,
		us.environment, origin, state, detail, lease)
	return err
}
