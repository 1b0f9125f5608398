package gateway

import (
	"context"
	"errors"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
)

// ErrUnknownKey is the error of a well-formed key that is not, or no longer,
// one of this environment's.
var ErrUnknownKey = errors.New("the key is not known here; it may have been revoked, or belong to another environment")

// ErrExpiredKey is the error of a key whose time is over.
var ErrExpiredKey = errors.New("the key has expired")

// keyring holds every key by the hash of its secret.
type keyring map[[32]byte]*access.Key

func (k *keyring) find(secret string, now time.Time) (*access.Key, error) {
	if err := access.CheckSecret(secret); err != nil {
		return nil, err
	}
	key := (*k)[access.HashSecret(secret)]
	if key == nil {
		return nil, ErrUnknownKey
	}
	if key.Expired(now) {
		return nil, ErrExpiredKey
	}
	return key, nil
}

func (g *Gateway) loadKeys(ctx context.Context) error {
	all, err := g.store.Keys(ctx)
	if err != nil {
		return err
	}
	ring := make(keyring, len(all))
	for _, k := range all {
		ring[k.Hash] = k
	}
	g.keys.Store(&ring)
	return nil
}

// Keys lists all keys.
func (g *Gateway) Keys(ctx context.Context) ([]*access.Key, error) { return g.store.Keys(ctx) }

// CreateKey makes a key and returns its secret, which is kept nowhere.
func (g *Gateway) CreateKey(ctx context.Context, k access.Key, by string) (*access.Key, string, error) {
	secret := access.NewSecret()
	return &k, secret, g.KeepKey(ctx, &k, secret, by)
}

// KeepKey makes a key of a secret that somebody has already.
func (g *Gateway) KeepKey(ctx context.Context, k *access.Key, secret, by string) error {
	k.Hash = access.HashSecret(secret)
	if err := g.store.AddKey(ctx, k, content.Cause{Kind: "user", Name: by}); err != nil {
		return err
	}
	return g.catchUp(ctx)
}

// RevokeKey ends a key. When it returns, this node refuses it.
func (g *Gateway) RevokeKey(ctx context.Context, id, by string) error {
	if err := g.store.RemoveKey(ctx, id, content.Cause{Kind: "user", Name: by}); err != nil {
		return err
	}
	return g.catchUp(ctx)
}
