package gateway

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// ErrUnknownKey is the error of a well-formed key that is not one of this
// environment's.
var ErrUnknownKey = errors.New("the key is not known here; it may belong to another environment")

// keyring holds every key by the hash of its secret, and by that of its former
// one. Looking up takes no lock and no memory: each of the shards is replaced as
// a whole when a key in it changes.
type keyring struct {
	open   atomic.Pointer[access.Grants]
	shards [256]atomic.Pointer[map[[32]byte]*heldKey]

	mu   sync.Mutex // held by who writes
	byID map[string]*heldKey
}

type heldKey struct {
	*access.Key
	meter *access.Meter
}

func (k *keyring) find(hash [32]byte) *heldKey {
	if shard := k.shards[hash[0]].Load(); shard != nil {
		return (*shard)[hash]
	}
	return nil
}

// opened is what is open to everyone.
func (k *keyring) opened() access.Grants {
	if open := k.open.Load(); open != nil {
		return *open
	}
	return nil
}

// replace puts in, or takes out, some keys; nil stands for one that is gone.
func (k *keyring) replace(changed map[string]*access.Key) {
	k.mu.Lock()
	defer k.mu.Unlock()
	shards := map[byte]map[[32]byte]*heldKey{}
	of := func(hash [32]byte) map[[32]byte]*heldKey {
		if shards[hash[0]] == nil {
			shards[hash[0]] = map[[32]byte]*heldKey{}
			if old := k.shards[hash[0]].Load(); old != nil {
				maps.Copy(shards[hash[0]], *old)
			}
		}
		return shards[hash[0]]
	}
	for id, key := range changed {
		old := k.byID[id]
		if old != nil {
			delete(of(old.Hash), old.Hash)
			delete(of(old.Former), old.Former)
			delete(k.byID, id)
		}
		if key == nil {
			continue
		}
		held := &heldKey{key, access.NewMeter(key.PerMinute)}
		if old != nil && old.PerMinute == key.PerMinute {
			held.meter = old.meter
		}
		of(key.Hash)[key.Hash] = held
		if key.FormerUntil != nil {
			of(key.Former)[key.Former] = held
		}
		k.byID[id] = held
	}
	for first, shard := range shards {
		k.shards[first].Store(&shard)
	}
}

// load takes up all keys, and forgets those that are not there.
func (g *Gateway) loadKeys(ctx context.Context) error {
	open, err := g.store.Open(ctx)
	if err != nil {
		return err
	}
	g.keys.open.Store(&open)
	g.keys.mu.Lock()
	changed := make(map[string]*access.Key, len(g.keys.byID))
	for id := range g.keys.byID {
		changed[id] = nil
	}
	g.keys.mu.Unlock()
	if err := g.store.EachKey(ctx, func(k *access.Key) { changed[k.ID] = k }); err != nil {
		return err
	}
	g.keys.replace(changed)
	return nil
}

// loadAccess takes up what changes of access are about.
func (g *Gateway) loadAccess(ctx context.Context, changes []content.Change) error {
	changed := map[string]*access.Key{}
	open, documents := false, false
	for i := range changes {
		switch c := &changes[i]; {
		case c.Kind != content.AccessChange:
		case c.What == content.KeyAccess:
			changed[c.Entry] = nil
		case c.What == content.DocumentAccess:
			documents = true
		default:
			open = true
		}
	}
	if open {
		grants, err := g.store.Open(ctx)
		if err != nil {
			return err
		}
		g.keys.open.Store(&grants)
	}
	if documents {
		if err := g.loadDocuments(ctx); err != nil {
			return err
		}
	}
	if len(changed) == 0 {
		return nil
	}
	found, err := g.store.Keys(ctx, slices.Collect(maps.Keys(changed))...)
	if err != nil {
		return err
	}
	for _, k := range found {
		changed[k.ID] = k
	}
	g.keys.replace(changed)
	return nil
}

// Everyone is who asks without a key.
func (g *Gateway) Everyone() access.Reader {
	return access.Reader{Kind: access.Everyone, Name: "everyone", Rights: access.Rights{Open: g.keys.opened()}}
}

// Authenticate finds out who sends a secret: a key, a preview link, or a token of
// the issuer that the environment trusts. Its error is access.ErrMalformed, ErrUnknownKey,
// access.ErrExpired, access.ErrRevoked, access.ErrRotated, access.ErrPreviewOver,
// access.ErrPreviewRevoked or a *TokenError. The address is where it comes from, for the
// audit log.
func (g *Gateway) Authenticate(ctx context.Context, secret, address string) (access.Reader, error) {
	if access.IsPreviewLink(secret) {
		return g.byPreviewLink(ctx, secret, address)
	}
	hash := access.HashSecret(secret)
	held := g.keys.find(hash)
	if held == nil {
		err := access.CheckSecret(secret)
		switch {
		case err == nil:
			err = ErrUnknownKey
		case g.tokens != nil && strings.Count(secret, ".") == 2:
			return g.tokens.reader(ctx, secret, g.keys.opened())
		}
		return access.Reader{}, err
	}
	if err := held.Good(hash, time.Now()); err != nil {
		return access.Reader{}, err
	}
	return g.readerOf(held.Key, held.meter), nil
}

func (g *Gateway) readerOf(k *access.Key, m *access.Meter) access.Reader {
	kind := access.ByKey
	if k.Site != "" {
		kind = access.BySiteKey
	}
	return access.Reader{Kind: kind, Name: k.Name, ID: k.ID, Site: k.Site, Rights: access.Rights{Open: g.keys.opened(), Own: k.Grants}, Meter: m}
}

// KeyInfo is a key with what it is used for.
type KeyInfo struct {
	*access.Key
	Use *store.KeyUse `json:"use"` // nil: never used
}

// Keys lists all keys, the newest first.
func (g *Gateway) Keys(ctx context.Context) ([]KeyInfo, error) {
	keys, err := g.store.Keys(ctx)
	if err != nil {
		return nil, err
	}
	return g.withUse(ctx, keys)
}

// Key returns the key with an id or a name.
func (g *Gateway) Key(ctx context.Context, name string) (KeyInfo, error) {
	k, err := g.store.KeyNamed(ctx, name)
	if err != nil {
		return KeyInfo{}, err
	}
	all, err := g.withUse(ctx, []*access.Key{k})
	if err != nil {
		return KeyInfo{}, err
	}
	return all[0], nil
}

func (g *Gateway) withUse(ctx context.Context, keys []*access.Key) ([]KeyInfo, error) {
	if err := g.keepUse(ctx); err != nil {
		return nil, err
	}
	uses, err := g.store.KeyUses(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]KeyInfo, len(keys))
	for i, k := range keys {
		out[i].Key = k
		if u, used := uses[k.ID]; used {
			out[i].Use = &u
		}
	}
	return out, nil
}

// keepUse writes down what keys were used for since the last time.
func (g *Gateway) keepUse(ctx context.Context) error {
	g.using.Lock()
	defer g.using.Unlock()
	more := map[string]access.Use{}
	g.keys.mu.Lock()
	for id, k := range g.keys.byID {
		if u, used := k.meter.Take(); used {
			more[id] = u
		}
	}
	g.keys.mu.Unlock()
	if len(more) == 0 {
		return nil
	}
	return g.store.AddKeyUse(ctx, more)
}

// noteUse writes down what keys are used for, every few seconds, and at the end.
func (g *Gateway) noteUse(ctx context.Context) {
	for sleep(ctx, 5*time.Second, nil) {
		if err := g.keepUse(ctx); err != nil && ctx.Err() == nil {
			g.log.Debug("what keys were used for could not be kept", "error", err)
		}
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	_ = g.keepUse(last) // a count, and the service ends
}

// checkGrants says what is wrong with grants, given the present model.
func (g *Gateway) checkGrants(grants access.Grants) error {
	m := g.Model()
	return grants.Check(m.TypeNames(), m.Tags())
}

// CreateKey makes a key and returns its secret, which is kept nowhere.
func (g *Gateway) CreateKey(ctx context.Context, k access.Key, by string) (*access.Key, string, error) {
	secret := access.NewSecret()
	return &k, secret, g.KeepKey(ctx, &k, secret, by)
}

// KeepKey makes a key of a secret that somebody has already. An error that is
// the caller's is a *BadAccessError.
func (g *Gateway) KeepKey(ctx context.Context, k *access.Key, secret, by string) error {
	switch {
	case strings.TrimSpace(k.Name) == "" || len(k.Name) > 100:
		return badAccess("name", "a key needs a name of at most 100 characters")
	case strings.ContainsAny(k.Name, "@\x00\n"):
		return badAccess("name", "the name of a key has no @, which would make it look like a person")
	case len(k.Grants) == 0:
		return badAccess("grants", `a key needs at least one grant, as in "read published notice"`)
	case k.PerMinute < 0:
		return badAccess("perMinute", "the bound is a number of requests, or 0 for none")
	case k.Expires != nil && !k.Expires.After(time.Now()):
		return badAccess("expires", "the key would have expired already, at %s", k.Expires.Format(time.RFC3339))
	}
	if err := g.checkGrants(k.Grants); err != nil {
		return badAccess("grants", "%s", err)
	}
	k.Hash = access.HashSecret(secret)
	if err := g.store.AddKey(ctx, k, userCause(by)); err != nil {
		return err
	}
	return g.catchUp(ctx)
}

// BadAccessError is the error of a key, account or grant that cannot be as it was
// asked for; Parameter names what is wrong.
type BadAccessError struct{ Parameter, Detail string }

func (e *BadAccessError) Error() string { return e.Detail }

func badAccess(parameter, format string, args ...any) error {
	return &BadAccessError{parameter, fmt.Sprintf(format, args...)}
}

func userCause(by string) content.Cause { return content.Cause{Kind: "user", Name: by} }

func (g *Gateway) changeKey(ctx context.Context, name, what, by string, change func(*access.Key, time.Time) error) (*access.Key, error) {
	k, err := g.store.KeyNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	if k, err = g.store.ChangeKey(ctx, k.ID, what, userCause(by), change); err != nil {
		return nil, err
	}
	return k, g.catchUp(ctx)
}

// RevokeKey ends a key, named or by id. When it returns, this node refuses it;
// the others do within their lease.
func (g *Gateway) RevokeKey(ctx context.Context, name, by string) (*access.Key, error) {
	return g.changeKey(ctx, name, "key revoke", by, func(k *access.Key, now time.Time) error {
		k.Revoked = &now
		return nil
	})
}

// RotateKey gives a key a new secret, and returns it. The one before is good for
// the overlap still.
func (g *Gateway) RotateKey(ctx context.Context, name, by string, overlap time.Duration) (*access.Key, string, error) {
	secret := access.NewSecret()
	k, err := g.changeKey(ctx, name, "key rotate", by, func(k *access.Key, now time.Time) error {
		until := now.Add(overlap)
		k.Former, k.FormerUntil, k.Hash = k.Hash, &until, access.HashSecret(secret)
		return nil
	})
	return k, secret, err
}

// GrantKey adds grants to a key, and takes others away.
func (g *Gateway) GrantKey(ctx context.Context, name, by string, add, take access.Grants) (*access.Key, error) {
	if err := g.checkGrants(add); err != nil {
		return nil, badAccess("grants", "%s", err)
	}
	return g.changeKey(ctx, name, "key grant", by, func(k *access.Key, _ time.Time) error {
		k.Grants = edited(k.Grants, add, take)
		if len(k.Grants) == 0 {
			return badAccess("take", "nothing would be left that the key may do; revoke it instead")
		}
		return nil
	})
}

// ExtendKey has a key expire so many days from now; 0 means never.
func (g *Gateway) ExtendKey(ctx context.Context, name, by string, days int) (*access.Key, error) {
	if days < 0 || days > 3650 {
		return nil, badAccess("days", "a key is good for 1 to 3650 days, or with 0 for ever")
	}
	return g.changeKey(ctx, name, "key extend", by, func(k *access.Key, now time.Time) error {
		if k.Expires = nil; days > 0 {
			until := now.AddDate(0, 0, days)
			k.Expires = &until
		}
		return nil
	})
}

// edited adds grants to others, and takes some away.
func edited(held, add, take access.Grants) access.Grants {
	same := func(a access.Grant) func(access.Grant) bool {
		return func(b access.Grant) bool { return a.String() == b.String() }
	}
	var out access.Grants
	for _, g := range slices.Concat(held, add) {
		if !slices.ContainsFunc(out, same(g)) && !slices.ContainsFunc(take, same(g)) {
			out = append(out, g)
		}
	}
	return out
}

// Open is what everyone may do without a key.
func (g *Gateway) Open() access.Grants { return g.keys.opened() }

// OpenTo opens grants to everyone, and closes others. What may be opened is
// reading, and handing in.
func (g *Gateway) OpenTo(ctx context.Context, by string, add, take access.Grants) (access.Grants, error) {
	for _, one := range add {
		if one.Verb != access.Read && one.Verb != access.Submit {
			return nil, badAccess("open", "%s: what may be open to everyone is read and submit; make a key for the rest", one)
		}
		if one.Verb == access.Submit && one.Type == access.Any {
			return nil, badAccess("open", "%s: name the type that may be handed in", one)
		}
	}
	if err := g.checkGrants(add); err != nil {
		return nil, badAccess("open", "%s", err)
	}
	what := "open"
	if len(add) == 0 {
		what = "close"
	}
	open, err := g.store.SetOpen(ctx, what, userCause(by), func(held access.Grants) access.Grants { return edited(held, add, take) })
	if err != nil {
		return nil, err
	}
	return open, g.catchUp(ctx)
}

// hashOf is what is kept of a cookie or link.
func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
