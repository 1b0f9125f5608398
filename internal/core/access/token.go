package access

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/strictyaml"
)

// Issuer is who else may say who somebody is: signed tokens (JWT, RFC 7519) whose
// claims map to grants.
type Issuer struct {
	// Issuer is what the claim iss must be, Audience what aud must hold.
	Issuer   string `yaml:"issuer"`
	Audience string `yaml:"audience"`
	// Keys is the address or the file of the issuer's public keys, a JSON Web Key
	// Set (RFC 7517).
	Keys string `yaml:"keys"`
	// Algorithms that are accepted; none means RS256, PS256, ES256 and EdDSA.
	Algorithms []string `yaml:"algorithms"`
	// Longest is how long a token may be good, from when it was issued on; default 24h.
	Longest strictyaml.Duration `yaml:"longest"`
	// Grants that claims bring.
	Grants []ClaimGrants `yaml:"grants"`
}

// LongestLife is how long a token may be good.
func (i *Issuer) LongestLife() time.Duration { return i.Longest.Or(24 * time.Hour) }

// ClaimGrants are the grants of those whose claim is, or as a list or as words
// parted by spaces holds, the value.
type ClaimGrants struct {
	Claim  string   `yaml:"claim"`
	Is     string   `yaml:"is"`
	Grants []string `yaml:"grants"`

	parsed Grants
}

// safeAlgorithms have a public key to check with.
var safeAlgorithms = []string{
	"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA",
}

// Check says what is wrong with the configuration, and makes it ready for use.
func (i *Issuer) Check() error {
	var errs []error
	for name, v := range map[string]string{"issuer": i.Issuer, "audience": i.Audience, "keys": i.Keys} {
		if v == "" {
			errs = append(errs, fmt.Errorf("tokens: %s is missing", name))
		}
	}
	if u, err := url.Parse(i.Keys); err == nil && u.Scheme == "http" && !isLoopback(u.Hostname()) {
		errs = append(
			errs, fmt.Errorf("tokens: keys come from %s unprotected; give an https address, or a file", i.Keys),
		)
	}
	if len(i.Algorithms) == 0 {
		i.Algorithms = []string{"RS256", "PS256", "ES256", "EdDSA"}
	}
	for _, a := range i.Algorithms {
		if !slices.Contains(safeAlgorithms, a) {
			errs = append(
				errs, fmt.Errorf("tokens: the algorithm %q is none of %s", a, strings.Join(safeAlgorithms, ", ")),
			)
		}
	}
	if len(i.Grants) == 0 {
		errs = append(
			errs,
			errors.New(
				`tokens: no claim brings any grant; add grants: [{claim: role, is: crew, grants: ["read preview *"]}]`,
			),
		)
	}
	for n := range i.Grants {
		c := &i.Grants[n]
		var err error
		if c.parsed, err = ParseGrants(c.Grants); err != nil {
			errs = append(errs, fmt.Errorf("tokens: %w", err))
		}
		if c.Claim == "" || c.Is == "" {
			errs = append(errs, errors.New("tokens: grants need a claim and what it is"))
		}
	}
	return errors.Join(errs...)
}

// isLoopback tells whether a host is this machine.
func isLoopback(host string) bool {
	at, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && at.IsLoopback()
}

// GrantsOf returns what the claims of a token bring.
func (i *Issuer) GrantsOf(claims map[string]any) Grants {
	var out Grants
	for _, c := range i.Grants {
		if holds(claims[c.Claim], c.Is) {
			out = append(out, c.parsed...)
		}
	}
	return out
}

func holds(claim any, value string) bool {
	switch v := claim.(type) {
	case string:
		return v == value || slices.Contains(strings.Fields(v), value)
	case []any:
		return slices.Contains(v, any(value))
	}
	return false
}
