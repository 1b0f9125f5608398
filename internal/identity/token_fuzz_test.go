package identity

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/golang-jwt/jwt/v5"

	"ubiquon/internal/core/access"
	"ubiquon/internal/testkit/cost"
)

// FuzzTokens reads what somebody sends as a token: none is good that the issuer has not
// signed.
func FuzzTokens(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	point, _ := key.PublicKey.Bytes()
	set := fmt.Sprintf(
		`{"keys": [{"kty": "EC", "crv": "P-256", "kid": "one", "use": "sig", "x": %q, "y": %q}]}`,
		base64.RawURLEncoding.EncodeToString(point[1:33]), base64.RawURLEncoding.EncodeToString(point[33:]),
	)
	tokens, err := newTokens(
		access.Issuer{
			Issuer:   "https://id.skerry.example",
			Audience: "gateway",
			Keys:     "https://id.skerry.example/keys",
			Grants:   []access.ClaimGrants{{Claim: "role", Is: "crew", Grants: []string{"read preview *"}}},
		},
		func(context.Context, string) ([]byte, error) { return []byte(set), nil },
		slog.New(slog.DiscardHandler),
	)
	if err != nil {
		f.Fatal(err)
	}
	made := jwt.NewWithClaims(
		jwt.SigningMethodES256, jwt.MapClaims{"iss": "https://id.skerry.example", "aud": "gateway", "exp": 2e9},
	)
	made.Header["kid"] = "one"
	good, _ := made.SignedString(key)
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`))
	for _, seed := range []string{
		good, "a.b.c", none + "." + strings.Split(good, ".")[1] + ".",
		strings.Replace(good, ".", "..", 1), "eyJhbGciOiJFUzI1NiIsImNyaXQiOlsieCJdfQ.e30.AA",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		cost.Bound(t, func() {
			if _, err := tokens.reader(t.Context(), text, nil); err == nil {
				t.Errorf("%q is good", text)
			}
		})
	})
}

// TestKeySetsForOtherUses leaves out keys that are not for signatures.
func TestKeySetsForOtherUses(t *testing.T) {
	ec := `"kty": "EC", "crv": "P-256", "x": "MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4", "y": "4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM"`
	for set, want := range map[string]int{
		`{"keys": [{` + ec + `, "kid": "a", "use": "sig"}, {` + ec +
			`, "kid": "b", "use": "enc"}]}`: 1,
		`{"keys": [{` + ec + `, "kid": "a"}, {` + ec + `, "kid": "b", "key_ops": ["verify"]}, {` + ec +
			`, "kid": "c", "key_ops": ["encrypt"]}]}`: 2,
		`{"keys": [{` + ec + `, "kid": "b", "use": "enc"}]}`: 0, `{"keys": []}`: 0, `{`: 0, `{"keys": [1]}`: 0,
	} {
		_, ids, err := signingKeys([]byte(set))
		if len(ids) != want || (err == nil) != (want > 0) {
			t.Errorf("%.80s: %v, %v", set, ids, err)
		}
	}
}
