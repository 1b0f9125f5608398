package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/MicahParks/keyfunc/v3"
	"github.com/golang-jwt/jwt/v5"
	"github.com/maypok86/otter/v2"

	"ubiquon/internal/core/access"
)

// TokenError is the error of a token that is not accepted. Class is one of
// expired, not yet, audience, issuer, algorithm, key, signature, malformed and
// keys away.
type TokenError struct {
	Class  string
	Detail string
}

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

	mu      sync.Mutex
	keys    keyfunc.Keyfunc
	fetched time.Time
	ids     []string
}

type checkedToken struct {
	name   string
	grants access.Grants
	until  time.Time
}

func newTokens(issuer access.Issuer, fetch func(context.Context, string) ([]byte, error)) (*tokens, error) {
	if err := issuer.Check(); err != nil {
		return nil, err
	}
	return &tokens{issuer: issuer, fetch: fetch, checked: otter.Must(&otter.Options[[32]byte, checkedToken]{MaximumSize: tokensHeld})}, nil
}

// reader checks a token and returns who it speaks of. A token that was good is
// remembered until it expires, or its issuer's keys are asked for again.
func (t *tokens) reader(ctx context.Context, text string, open access.Grants) (access.Reader, error) {
	hash := access.HashSecret(text)
	held, known := t.checked.GetIfPresent(hash)
	if !known || !time.Now().Before(held.until) {
		var err error
		if held, err = t.check(ctx, text); err != nil {
			return access.Reader{}, err
		}
		t.checked.Set(hash, held)
	}
	return access.Reader{Kind: access.ByToken, Name: held.name, Rights: access.Rights{Open: open, Own: held.grants}}, nil
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
		return checkedToken{}, &TokenError{"algorithm", fmt.Sprintf("it is signed with %q; accepted are %s", algorithm, strings.Join(t.issuer.Algorithms, ", "))}
	}
	id, _ := bare.Header["kid"].(string)
	keys, err := t.keysFor(ctx, id)
	if err != nil {
		return checkedToken{}, err
	}
	_, err = jwt.NewParser(jwt.WithValidMethods(t.issuer.Algorithms), jwt.WithIssuer(t.issuer.Issuer), jwt.WithAudience(t.issuer.Audience),
		jwt.WithExpirationRequired(), jwt.WithLeeway(30*time.Second)).ParseWithClaims(text, claims, keys.Keyfunc)
	if err != nil {
		return checkedToken{}, tokenError(err)
	}
	expires, _ := claims.GetExpirationTime() // it was required
	subject, _ := claims.GetSubject()
	out := checkedToken{name: "token of " + subject, grants: t.issuer.GrantsOf(claims), until: expires.Time.Add(30 * time.Second)}
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

// keysFor returns the issuer's keys, asking for them when they are old or do not
// have the one that a token names.
func (t *tokens) keysFor(ctx context.Context, id string) (keyfunc.Keyfunc, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	age := time.Since(t.fetched)
	if t.keys != nil && age < tokenKeysFor && (slices.Contains(t.ids, id) || age < tokenKeysPause) {
		return t.known(id)
	}
	src, err := t.source(ctx)
	var keys keyfunc.Keyfunc
	var set struct {
		Keys []struct {
			ID string `json:"kid"`
		} `json:"keys"`
	}
	if err == nil {
		err = json.Unmarshal(src, &set)
	}
	if err == nil {
		keys, err = keyfunc.NewJWKSetJSON(src)
	}
	if err != nil && t.keys == nil {
		return nil, &TokenError{"keys away", "the issuer's keys cannot be had at the moment"}
	}
	t.fetched = time.Now()
	if err == nil {
		t.keys, t.ids = keys, nil
		for _, k := range set.Keys {
			t.ids = append(t.ids, k.ID)
		}
		t.checked.InvalidateAll()
	}
	return t.known(id)
}

func (t *tokens) known(id string) (keyfunc.Keyfunc, error) {
	if id != "" && !slices.Contains(t.ids, id) {
		return nil, &TokenError{"key", fmt.Sprintf("the issuer has no key %q", id)}
	}
	return t.keys, nil
}

func (t *tokens) source(ctx context.Context) ([]byte, error) {
	if strings.Contains(t.issuer.Keys, "://") {
		return t.fetch(ctx, t.issuer.Keys)
	}
	return os.ReadFile(t.issuer.Keys)
}
