package identity

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/MicahParks/keyfunc/v3"
	"github.com/golang-jwt/jwt/v5"
	"github.com/maypok86/otter/v2"
	"golang.org/x/sync/singleflight"

	"ubiquon/internal/core/access"
)

// TokenError is the error of a token that is not accepted. Class is one of
// expired, not yet, too long, audience, issuer, algorithm, critical, key, signature,
// malformed and keys away.
type TokenError struct {
	Class  string
	Detail string
}

// Error implements error.
func (e *TokenError) Error() string {
	return "the token is not accepted (" + e.Class + "): " + e.Detail
}

const (
	// tokenKeysFor is how long an issuer's keys are used before they are asked for
	// again, tokenKeysPause how soon at most, when a token names an unknown one.
	tokenKeysFor   = 15 * time.Minute
	tokenKeysPause = 10 * time.Second
	// tokensHeld bounds the tokens that are remembered as checked.
	tokensHeld = 10_000
)

// tokens checks signed tokens of the issuer that the environment trusts.
type tokens struct {
	issuer  access.Issuer
	fetch   func(ctx context.Context, address string) ([]byte, error)
	checked *otter.Cache[[32]byte, checkedToken]

	log *slog.Logger

	keys     atomic.Pointer[keySet]
	fetching singleflight.Group
}

type checkedToken struct {
	name   string
	grants access.Grants
	until  time.Time // when it is checked again
	ends   time.Time
}

func newTokens(
	issuer access.Issuer, fetch func(context.Context, string) ([]byte, error), log *slog.Logger,
) (*tokens, error) {
	if err := issuer.Check(); err != nil {
		return nil, err
	}
	return &tokens{
		issuer:  issuer,
		fetch:   fetch,
		log:     log,
		checked: otter.Must(&otter.Options[[32]byte, checkedToken]{MaximumSize: tokensHeld}),
	}, nil
}

// reader checks a token and returns who it speaks of. A token that was good is
// remembered until it expires, or its issuer's keys are asked for again.
func (t *tokens) reader(ctx context.Context, text string, open access.Grants) (access.Principal, error) {
	hash := access.HashSecret(text)
	held, known := t.checked.GetIfPresent(hash)
	if !known || !time.Now().Before(held.until) {
		var err error
		if held, err = t.check(ctx, text); err != nil {
			return access.Principal{}, err
		}
		t.checked.Set(hash, held)
	}
	return access.Principal{
		Kind:   access.ByToken,
		Name:   held.name,
		Until:  held.ends,
		Rights: access.Rights{Open: open, Own: held.grants},
	}, nil
}

func (t *tokens) check(ctx context.Context, text string) (checkedToken, error) {
	claims := jwt.MapClaims{}
	// The header is looked at first, so that an algorithm without a secret of the
	// issuer's is never tried.
	bare, _, err := jwt.NewParser().ParseUnverified(text, jwt.MapClaims{})
	if err != nil {
		return checkedToken{}, &TokenError{"malformed", "it is no JSON Web Token"}
	}
	algorithm, _ := bare.Header["alg"].(string)
	if !slices.Contains(t.issuer.Algorithms, algorithm) {
		return checkedToken{}, &TokenError{
			"algorithm",
			fmt.Sprintf("it is signed with %q; accepted are %s", algorithm, strings.Join(t.issuer.Algorithms, ", ")),
		}
	}
	if _, critical := bare.Header["crit"]; critical {
		return checkedToken{}, &TokenError{
			"critical", "it has header parameters that must be understood (crit), and none is here",
		}
	}
	id, _ := bare.Header["kid"].(string)
	keys, err := t.keysFor(ctx, id)
	if err != nil {
		return checkedToken{}, err
	}
	_, err = jwt.NewParser(jwt.WithValidMethods(t.issuer.Algorithms), jwt.WithIssuer(t.issuer.Issuer),
		jwt.WithAudience(t.issuer.Audience),
		jwt.WithExpirationRequired(), jwt.WithLeeway(30*time.Second)).
		ParseWithClaims(text, claims, keys.Keyfunc)
	if err != nil {
		return checkedToken{}, tokenError(err)
	}
	expires, _ := claims.GetExpirationTime() // it was required
	subject, _ := claims.GetSubject()
	issued, _ := claims.GetIssuedAt()
	begin := time.Now()
	if issued != nil {
		begin = issued.Time
	}
	if longest := t.issuer.LongestLife(); expires.Sub(begin) > longest {
		return checkedToken{}, &TokenError{
			"too long",
			fmt.Sprintf(
				"it is good for %s, and accepted are tokens that are for at most %s",
				expires.Sub(begin).Round(time.Second), longest,
			),
		}
	}
	out := checkedToken{
		name:   "token of " + access.Printable(subject),
		grants: t.issuer.GrantsOf(claims),
		until:  expires.Time.Add(30 * time.Second),
		ends:   expires.Time,
	}
	if renewed := time.Now().Add(tokenKeysFor); renewed.Before(out.until) {
		out.until = renewed
	}
	return out, nil
}

func tokenError(err error) error {
	for _, c := range []struct {
		is            error
		class, detail string
	}{
		{jwt.ErrTokenExpired, "expired", "its time is over; get a new one from the issuer"},
		{jwt.ErrTokenNotValidYet, "not yet", "its time has not come"},
		{jwt.ErrTokenUsedBeforeIssued, "not yet", "it was issued in the future"},
		{jwt.ErrTokenInvalidAudience, "audience", "it is meant for somebody else"},
		{jwt.ErrTokenInvalidIssuer, "issuer", "it comes from another issuer"},
		{jwt.ErrTokenRequiredClaimMissing, "malformed", "it does not say when it expires, by whom it is, or for whom"},
		{jwt.ErrTokenSignatureInvalid, "signature", "its signature does not fit"},
		{jwt.ErrTokenUnverifiable, "key", "its key is none of the issuer's"},
	} {
		if errors.Is(err, c.is) {
			return &TokenError{c.class, c.detail}
		}
	}
	return &TokenError{"malformed", "it is no JSON Web Token that could be checked"}
}

// keySet are the issuer's keys as they were fetched.
type keySet struct {
	keys    keyfunc.Keyfunc // nil: they could not be had
	ids     []string
	fetched time.Time
}

// serves tells whether the set will do for a token that names a key: it is new enough,
// or was fetched so lately that asking again would be no use.
func (k *keySet) serves(id string, now time.Time) bool {
	age := now.Sub(k.fetched)
	return age < tokenKeysPause || k.keys != nil && age < tokenKeysFor && slices.Contains(k.ids, id)
}

// keysFor returns the issuer's keys, asking for them when they are old or do not
// have the one that a token names. Of many who need them at once one asks, and nobody
// else waits.
func (t *tokens) keysFor(ctx context.Context, id string) (keyfunc.Keyfunc, error) {
	held := t.keys.Load()
	if held == nil || !held.serves(id, time.Now()) {
		fetched := t.fetching.DoChan("", func() (any, error) {
			if held := t.keys.Load(); held == nil || !held.serves(id, time.Now()) {
				t.refresh(context.WithoutCancel(ctx), held)
			}
			return nil, nil
		})
		select {
		case <-fetched:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		held = t.keys.Load()
	}
	switch {
	case held.keys == nil:
		return nil, &TokenError{"keys away", "the issuer's keys cannot be had at the moment"}
	case id != "" && !slices.Contains(held.ids, id):
		return nil, &TokenError{"key", fmt.Sprintf("the issuer has no key %q", access.Printable(id))}
	}
	return held.keys, nil
}

// refresh fetches the keys. If that fails, those that are held go on, and it is tried
// again after a pause.
func (t *tokens) refresh(ctx context.Context, held *keySet) {
	next := &keySet{fetched: time.Now()}
	if held != nil {
		next.keys, next.ids = held.keys, held.ids
	}
	src, err := t.source(ctx)
	if err == nil {
		var keys keyfunc.Keyfunc
		var ids []string
		if keys, ids, err = signingKeys(src); err == nil {
			next.keys, next.ids = keys, ids
			t.checked.InvalidateAll()
		}
	}
	if err != nil {
		t.log.Warn("the keys of the tokens' issuer cannot be had", "error", err)
	}
	t.keys.Store(next)
}

// signingKeys reads a JSON Web Key Set, and leaves out keys that are not for signatures
// (RFC 7517, sections 4.2 and 4.3).
func signingKeys(src []byte) (keyfunc.Keyfunc, []string, error) {
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.Unmarshal(src, &set); err != nil {
		return nil, nil, err
	}
	var kept []json.RawMessage
	var ids []string
	for _, raw := range set.Keys {
		var k struct {
			ID         string   `json:"kid"`
			Use        string   `json:"use"`
			Operations []string `json:"key_ops"`
		}
		if err := json.Unmarshal(raw, &k); err != nil {
			return nil, nil, err
		}
		if k.Use != "" && k.Use != "sig" || k.Operations != nil && !slices.Contains(k.Operations, "verify") {
			continue
		}
		kept, ids = append(kept, raw), append(ids, k.ID)
	}
	if kept == nil {
		return nil, nil, errors.New("the key set has no key for signatures")
	}
	src, err := json.Marshal(map[string]any{"keys": kept})
	if err != nil {
		return nil, nil, err
	}
	keys, err := keyfunc.NewJWKSetJSON(src)
	return keys, ids, err
}

func (t *tokens) source(ctx context.Context) ([]byte, error) {
	if strings.Contains(t.issuer.Keys, "://") {
		return t.fetch(ctx, t.issuer.Keys)
	}
	return os.ReadFile(t.issuer.Keys)
}
