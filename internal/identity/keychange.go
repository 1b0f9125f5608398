package identity

import (
	"context"
	"crypto/sha256"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
)

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

// RotateKey gives a key a new secret, and returns it. The one before is valid for
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

// PublicGrants is what everyone may do without a key.
func (ks *Keys) PublicGrants() access.Grants { return ks.ring.publicGrants() }

// ChangePublicGrants opens grants to everyone, and closes others. What may be opened is
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

// KeyFor returns the key with an id, a name or a secret, and the hash that it is
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
