package identity

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
)

// ErrUnknownKey is the error of a well-formed key that is not one of this
// environment's.
var ErrUnknownKey = errors.New("the key is not known here; it may belong to another environment")

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
	// Sites returns the sites, which have the addresses of their previews.
	Sites func() map[string]rebuild.Site
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

// Load takes up all keys, and forgets those that are not there.
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
func (ks *Keys) Everyone() access.Principal {
	return access.Principal{Kind: access.Everyone, Name: "everyone", Rights: access.Rights{Open: ks.ring.publicGrants()}}
}

// Authenticate finds out who sends a secret: a key, a preview link, or a token of
// the issuer that the environment trusts. Its error is access.ErrMalformed, ErrUnknownKey,
// access.ErrExpired, access.ErrRevoked, access.ErrRotated, access.ErrPreviewOver,
// access.ErrPreviewRevoked or a *TokenError. The address is where it comes from, for the
// audit log: of preview links alone.
func (ks *Keys) Authenticate(ctx context.Context, secret, address string, now time.Time) (access.Principal, error) {
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
		return access.Principal{}, err
	}
	if err := held.Good(hash, now); err != nil {
		return access.Principal{}, err
	}
	return ks.readerOf(held.Key, held.meter), nil
}

func (ks *Keys) readerOf(k *access.Key, m *access.Meter) access.Principal {
	kind := access.ByKey
	if k.Site != "" {
		kind = access.BySiteKey
	}
	return access.Principal{
		Kind:   kind,
		Name:   k.Name,
		ID:     k.ID,
		Site:   k.Site,
		Rights: access.Rights{Open: ks.ring.publicGrants(), Own: k.Grants},
		Meter:  m,
	}
}

// Keys lists all keys, the newest first.
func (ks *Keys) Keys(ctx context.Context) ([]api.KeyInfo, error) {
	keys, err := ks.store.Keys.Keys(ctx)
	if err != nil {
		return nil, err
	}
	return ks.withUse(ctx, keys)
}

// Key returns the key with an id or a name.
func (ks *Keys) Key(ctx context.Context, name string) (api.KeyInfo, error) {
	k, err := ks.store.Keys.KeyNamed(ctx, name)
	if err != nil {
		return api.KeyInfo{}, err
	}
	all, err := ks.withUse(ctx, []*access.Key{k})
	if err != nil {
		return api.KeyInfo{}, err
	}
	return all[0], nil
}

func (ks *Keys) withUse(ctx context.Context, keys []*access.Key) ([]api.KeyInfo, error) {
	if err := ks.recordUse(ctx); err != nil {
		return nil, err
	}
	uses, err := ks.store.Keys.KeyUses(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]api.KeyInfo, len(keys))
	for i, k := range keys {
		out[i].Key = k
		if u, used := uses[k.ID]; used {
			out[i].Use = &u
		}
	}
	return out, nil
}

// recordUse writes down what keys were used for since the last time.
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

// recordUseLoop writes down what keys are used for, every few seconds, and at the end.
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
