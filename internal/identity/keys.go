package identity

import (
	"context"
	"crypto/sha256"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/accounts"
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
func (k *keyring) publicGrants() access.Grants {
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

// Keys authenticates the secrets that requests send: keys, preview links and tokens, and
// keeps the keys of an environment. It is safe for concurrent use.
type Keys struct {
	replica *replication.Replica
	store   *store.Store
	log     *slog.Logger
	links   *PreviewLinks
	tokens  *tokens // nil: none are accepted
	ring    keyring
	using   sync.Mutex // held while uses are written down
	limits  limits.Limits
	news    *replication.Broadcaster
	work    *background.Group
}

// KeyOptions of NewKeys.
type KeyOptions struct {
	Replica *replication.Replica
	// Secret of the environment, by which preview links are signed.
	Secret []byte
	// Sites have the addresses of their previews.
	Sites map[string]rebuild.Site
	// Issuer of tokens that are accepted beside keys; nil for none.
	Issuer *access.Issuer
	// Fetch gets the issuer's keys.
	Fetch func(ctx context.Context, address string) ([]byte, error)
}

// NewKeys returns keys that are known once Load has returned, and the preview links that
// go with them.
func NewKeys(o KeyOptions) (*Keys, *PreviewLinks, error) {
	r := o.Replica
	ks := &Keys{
		replica: r,
		store:   r.Store(),
		log:     r.Log(),
		limits:  r.Limits(),
		news:    r.News(),
		work:    r.Work(),
		ring:    keyring{byID: map[string]*heldKey{}},
	}
	ks.links = &PreviewLinks{
		replica: r,
		store:   r.Store(),
		log:     r.Log(),
		limits:  r.Limits(),
		keys:    ks,
		secret:  o.Secret,
		sites:   o.Sites,
	}
	if o.Issuer == nil {
		return ks, ks.links, nil
	}
	var err error
	ks.tokens, err = newTokens(*o.Issuer, o.Fetch, ks.log)
	return ks, ks.links, err
}

// Start begins to write down what keys are used for.
func (ks *Keys) Start() { ks.work.Go(ks.recordUseLoop) }

// load takes up all keys, and forgets those that are not there.
func (ks *Keys) Load(ctx context.Context) error {
	open, err := ks.store.Keys.PublicGrants(ctx)
	if err != nil {
		return err
	}
	ks.ring.open.Store(&open)
	ks.ring.mu.Lock()
	changed := make(map[string]*access.Key, len(ks.ring.byID))
	for id := range ks.ring.byID {
		changed[id] = nil
	}
	ks.ring.mu.Unlock()
	if err := ks.store.Keys.EachKey(ctx, func(k *access.Key) { changed[k.ID] = k }); err != nil {
		return err
	}
	ks.ring.replace(changed)
	return nil
}

// Changed takes up what changes of access are about.
func (ks *Keys) Changed(ctx context.Context, changes []content.Change) error {
	changed := map[string]*access.Key{}
	open := false
	for i := range changes {
		switch c := &changes[i]; {
		case c.Kind != content.AccessChange:
		case c.What == content.KeyAccess:
			changed[c.Entry] = nil
		case c.What == content.DocumentAccess:
		default:
			open = true
		}
	}
	if open {
		grants, err := ks.store.Keys.PublicGrants(ctx)
		if err != nil {
			return err
		}
		ks.ring.open.Store(&grants)
	}
	if len(changed) == 0 {
		return nil
	}
	found, err := ks.store.Keys.Keys(ctx, slices.Collect(maps.Keys(changed))...)
	if err != nil {
		return err
	}
	for _, k := range found {
		changed[k.ID] = k
	}
	ks.ring.replace(changed)
	return nil
}

// Everyone is who asks without a key.
func (ks *Keys) Everyone() access.Reader {
	return access.Reader{Kind: access.Everyone, Name: "everyone", Rights: access.Rights{Open: ks.ring.publicGrants()}}
}

// Authenticate finds out who sends a secret: a key, a preview link, or a token of
// the issuer that the environment trusts. Its error is access.ErrMalformed, ErrUnknownKey,
// access.ErrExpired, access.ErrRevoked, access.ErrRotated, access.ErrPreviewOver,
// access.ErrPreviewRevoked or a *TokenError. The address is where it comes from, for the
// audit log.
func (ks *Keys) Authenticate(ctx context.Context, secret, address string) (access.Reader, error) {
	if access.IsPreviewLink(secret) {
		return ks.links.byPreviewLink(ctx, secret, address)
	}
	hash := access.HashSecret(secret)
	held := ks.ring.find(hash)
	if held == nil {
		err := access.CheckSecret(secret)
		switch {
		case err == nil:
			err = ErrUnknownKey
		case ks.tokens != nil && strings.Count(secret, ".") == 2:
			return ks.tokens.reader(ctx, secret, ks.ring.publicGrants())
		}
		return access.Reader{}, err
	}
	if err := held.Good(hash, time.Now()); err != nil {
		return access.Reader{}, err
	}
	return ks.readerOf(held.Key, held.meter), nil
}

func (ks *Keys) readerOf(k *access.Key, m *access.Meter) access.Reader {
	kind := access.ByKey
	if k.Site != "" {
		kind = access.BySiteKey
	}
	return access.Reader{
		Kind:   kind,
		Name:   k.Name,
		ID:     k.ID,
		Site:   k.Site,
		Rights: access.Rights{Open: ks.ring.publicGrants(), Own: k.Grants},
		Meter:  m,
	}
}

// KeyInfo is a key with what it is used for.
type KeyInfo struct {
	*access.Key
	Use *accounts.KeyUse `json:"use"` // nil: never used
}

// Keys lists all keys, the newest first.
func (ks *Keys) Keys(ctx context.Context) ([]KeyInfo, error) {
	keys, err := ks.store.Keys.Keys(ctx)
	if err != nil {
		return nil, err
	}
	return ks.withUse(ctx, keys)
}

// Key returns the key with an id or a name.
func (ks *Keys) Key(ctx context.Context, name string) (KeyInfo, error) {
	k, err := ks.store.Keys.KeyNamed(ctx, name)
	if err != nil {
		return KeyInfo{}, err
	}
	all, err := ks.withUse(ctx, []*access.Key{k})
	if err != nil {
		return KeyInfo{}, err
	}
	return all[0], nil
}

func (ks *Keys) withUse(ctx context.Context, keys []*access.Key) ([]KeyInfo, error) {
	if err := ks.recordUse(ctx); err != nil {
		return nil, err
	}
	uses, err := ks.store.Keys.KeyUses(ctx)
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
func (ks *Keys) recordUse(ctx context.Context) error {
	ks.using.Lock()
	defer ks.using.Unlock()
	more := map[string]access.Use{}
	ks.ring.mu.Lock()
	for id, k := range ks.ring.byID {
		if u, used := k.meter.Take(); used {
			more[id] = u
		}
	}
	ks.ring.mu.Unlock()
	if len(more) == 0 {
		return nil
	}
	return ks.store.Keys.AddKeyUse(ctx, more)
}

// noteUse writes down what keys are used for, every few seconds, and at the end.
func (ks *Keys) recordUseLoop(ctx context.Context) {
	for background.Sleep(ctx, 5*time.Second, nil) {
		if err := ks.recordUse(ctx); err != nil && ctx.Err() == nil {
			ks.log.Debug("what keys were used for could not be kept", "error", err)
		}
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	_ = ks.recordUse(last) // a count, and the service ends
}

// checkGrants says what is wrong with grants, given the present model.
func (ks *Keys) checkGrants(grants access.Grants) error {
	m := ks.replica.Model()
	return grants.Check(m.TypeNames(), m.Tags())
}

// CreateKey makes a key and returns its secret, which is kept nowhere.
func (ks *Keys) CreateKey(ctx context.Context, k access.Key, by string) (*access.Key, string, error) {
	secret := access.NewSecret()
	return &k, secret, ks.KeepKey(ctx, &k, secret, by)
}

// KeepKey makes a key of a secret that somebody has already. An error that is
// the caller's is a *BadParameterError.
func (ks *Keys) KeepKey(ctx context.Context, k *access.Key, secret, by string) error {
	switch {
	case strings.TrimSpace(k.Name) == "" || len(k.Name) > 100:
		return api.BadParameter("name", "a key needs a name of at most 100 characters")
	case strings.ContainsAny(k.Name, "@\x00\n"):
		return api.BadParameter("name", "the name of a key has no @, which would make it look like a person")
	case len(k.Grants) == 0:
		return api.BadParameter("grants", `a key needs at least one grant, as in "read published notice"`)
	case k.PerMinute < 0:
		return api.BadParameter("perMinute", "the bound is a number of requests, or 0 for none")
	case k.Expires != nil && !k.Expires.After(time.Now()):
		return api.BadParameter(
			"expires", "the key would have expired already, at %s", k.Expires.Format(time.RFC3339),
		)
	}
	if err := ks.checkGrants(k.Grants); err != nil {
		return api.BadParameter("grants", "%s", err)
	}
	k.Hash = access.HashSecret(secret)
	if err := ks.store.Keys.AddKey(ctx, k, content.UserCause(by)); err != nil {
		return err
	}
	return ks.replica.CatchUp(ctx)
}

func (ks *Keys) changeKey(
	ctx context.Context, name, what, by string, change func(*access.Key, time.Time) error,
) (*access.Key, error) {
	k, err := ks.store.Keys.KeyNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	if k, err = ks.store.Keys.ChangeKey(ctx, k.ID, what, content.UserCause(by), change); err != nil {
		return nil, err
	}
	return k, ks.replica.CatchUp(ctx)
}

// RevokeKey ends a key, named or by id. When it returns, this node refuses it;
// the others do within their lease.
func (ks *Keys) RevokeKey(ctx context.Context, name, by string) (*access.Key, error) {
	return ks.changeKey(ctx, name, "key revoke", by, func(k *access.Key, now time.Time) error {
		k.Revoked = &now
		return nil
	})
}

// RotateKey gives a key a new secret, and returns it. The one before is good for
// the overlap still.
func (ks *Keys) RotateKey(ctx context.Context, name, by string, overlap time.Duration) (*access.Key, string, error) {
	secret := access.NewSecret()
	k, err := ks.changeKey(ctx, name, "key rotate", by, func(k *access.Key, now time.Time) error {
		until := now.Add(overlap)
		k.Former, k.FormerUntil, k.Hash = k.Hash, &until, access.HashSecret(secret)
		return nil
	})
	return k, secret, err
}

// GrantKey adds grants to a key, and takes others away.
func (ks *Keys) GrantKey(ctx context.Context, name, by string, add, take access.Grants) (*access.Key, error) {
	if err := ks.checkGrants(add); err != nil {
		return nil, api.BadParameter("grants", "%s", err)
	}
	return ks.changeKey(ctx, name, "key grant", by, func(k *access.Key, _ time.Time) error {
		k.Grants = edited(k.Grants, add, take)
		if len(k.Grants) == 0 {
			return api.BadParameter("take", "nothing would be left that the key may do; revoke it instead")
		}
		return nil
	})
}

// ExtendKey has a key expire so many days from now; 0 means never.
func (ks *Keys) ExtendKey(ctx context.Context, name, by string, days int) (*access.Key, error) {
	if days < 0 || days > 3650 {
		return nil, api.BadParameter("days", "a key is good for 1 to 3650 days, or with 0 for ever")
	}
	return ks.changeKey(ctx, name, "key extend", by, func(k *access.Key, now time.Time) error {
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
func (ks *Keys) PublicGrants() access.Grants { return ks.ring.publicGrants() }

// OpenTo opens grants to everyone, and closes others. What may be opened is
// reading, and handing in.
func (ks *Keys) ChangePublicGrants(ctx context.Context, by string, add, take access.Grants) (access.Grants, error) {
	for _, one := range add {
		if one.Verb != access.Read && one.Verb != access.Submit {
			return nil, api.BadParameter(
				"open", "%s: what may be open to everyone is read and submit; make a key for the rest", one,
			)
		}
		if one.Verb == access.Submit && one.Type == access.Any {
			return nil, api.BadParameter("open", "%s: name the type that may be handed in", one)
		}
	}
	if err := ks.checkGrants(add); err != nil {
		return nil, api.BadParameter("open", "%s", err)
	}
	what := "open"
	if len(add) == 0 {
		what = "close"
	}
	open, err := ks.store.Keys.ChangePublicGrants(
		ctx, what, content.UserCause(by), func(held access.Grants) access.Grants { return edited(held, add, take) },
	)
	if err != nil {
		return nil, err
	}
	return open, ks.replica.CatchUp(ctx)
}

// hashOf is what is kept of a cookie or link.
func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// RightsOf returns the rights of a key, by id, name or secret. Its errors are those
// of Authenticate.
func (ks *Keys) RightsOf(ctx context.Context, key string) (access.Rights, error) {
	k, hash, err := ks.KeyFor(ctx, key)
	if err != nil {
		return access.Rights{}, err
	}
	return access.Rights{Open: ks.ring.publicGrants(), Own: k.Grants}, k.Good(hash, time.Now())
}

// keyFor returns the key with an id, a name or a secret, and the hash that it is
// asked about.
func (ks *Keys) KeyFor(ctx context.Context, name string) (*access.Key, [32]byte, error) {
	if strings.HasPrefix(name, "ubq_") {
		if err := access.CheckSecret(name); err != nil {
			return nil, [32]byte{}, err
		}
		hash := access.HashSecret(name)
		held := ks.ring.find(hash)
		if held == nil {
			return nil, hash, ErrUnknownKey
		}
		return held.Key, hash, nil
	}
	k, err := ks.store.Keys.KeyNamed(ctx, name)
	if err != nil {
		return nil, [32]byte{}, err
	}
	return k, k.Hash, nil
}
