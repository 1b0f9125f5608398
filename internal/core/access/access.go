// Package access says what a reader may do: keys, the grants behind them, and
// which grant is missing. Rights only ever add up.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"time"
)

// The verbs of a grant.
const (
	Read    = "read"
	Write   = "write"
	Publish = "publish"
	Manage  = "manage"
)

// Verbs lists every verb.
var Verbs = []string{Read, Write, Publish, Manage}

// Any stands for every edition or every type in a grant.
const Any = "*"

// Grant is one thing that a key may do: a verb in an edition on a type.
type Grant struct {
	Verb    string `json:"verb"`
	Edition string `json:"edition"`
	Type    string `json:"type"`
}

// String writes a grant as people do, as in "read published notice".
func (g Grant) String() string { return g.Verb + " " + g.Edition + " " + g.Type }

// ParseGrant reads the form that String writes.
func ParseGrant(s string) (Grant, error) {
	parts := strings.Fields(s)
	if len(parts) != 3 {
		return Grant{}, fmt.Errorf("grant %q: write verb, edition and type, as in \"read published notice\" or \"read preview *\"", s)
	}
	g := Grant{Verb: parts[0], Edition: parts[1], Type: parts[2]}
	if !slices.Contains(Verbs, g.Verb) {
		return Grant{}, fmt.Errorf("grant %q: the verb %q is none of %s", s, g.Verb, strings.Join(Verbs, ", "))
	}
	if g.Edition != "published" && g.Edition != "preview" && g.Edition != Any {
		return Grant{}, fmt.Errorf("grant %q: the edition is published, preview or *", s)
	}
	return g, nil
}

func (g Grant) covers(need Grant) bool {
	return g.Verb == need.Verb && (g.Edition == Any || g.Edition == need.Edition) && (g.Type == Any || g.Type == need.Type)
}

// Rights is all that one reader may do.
type Rights []Grant

// Missing returns the first needed grant that the rights do not cover.
func (r Rights) Missing(needs []Grant) (Grant, bool) {
	for _, need := range needs {
		if !slices.ContainsFunc(r, func(g Grant) bool { return g.covers(need) }) {
			return need, true
		}
	}
	return Grant{}, false
}

// Allows tells whether the rights cover the grant.
func (r Rights) Allows(need Grant) bool {
	_, missing := r.Missing([]Grant{need})
	return !missing
}

// AllowsAny tells whether the rights cover the verb in the edition on any type
// at all.
func (r Rights) AllowsAny(verb, edition string) bool {
	return slices.ContainsFunc(r, func(g Grant) bool { return g.Verb == verb && (g.Edition == Any || g.Edition == edition) })
}

// Key is what is kept of a key: everything but the secret itself.
type Key struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Grants  Rights     `json:"grants"`
	Site    string     `json:"site,omitempty"` // the site that reads with it
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires"`
	Hash    [32]byte   `json:"-"` // SHA-256 of the secret
}

// Expired tells whether the key has ended by now.
func (k *Key) Expired(now time.Time) bool { return k.Expires != nil && !now.Before(*k.Expires) }

const (
	prefix   = "ubq_"
	alphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
	length   = len(prefix) + 32 + 6
)

// ErrMalformed is the error of a text that cannot be a key: wrong form or a
// checksum that does not fit, as after a slip in copying.
var ErrMalformed = errors.New("this is no key of ours: a key is ubq_ and 38 letters or digits, and its last six are a checksum; was it copied whole?")

// NewSecret makes the secret of a key: ubq_, 32 random base-62 characters and
// the checksum of what stands before it.
func NewSecret() string {
	body := []byte(prefix)
	for len(body) < length-6 {
		var b [1]byte
		rand.Read(b[:]) // never fails
		if int(b[0]) < 4*len(alphabet) {
			body = append(body, alphabet[int(b[0])%len(alphabet)])
		}
	}
	return string(body) + checksum(string(body))
}

// CheckSecret returns ErrMalformed unless the text has a key's form and its
// checksum fits.
func CheckSecret(secret string) error {
	if len(secret) != length || secret[:len(prefix)] != prefix || checksum(secret[:length-6]) != secret[length-6:] {
		return ErrMalformed
	}
	return nil
}

// HashSecret returns what is kept of a secret.
func HashSecret(secret string) [32]byte { return sha256.Sum256([]byte(secret)) }

func checksum(s string) string {
	n := uint64(crc32.ChecksumIEEE([]byte(s)))
	var out [6]byte
	for i := 5; i >= 0; i-- {
		out[i] = alphabet[n%62]
		n /= 62
	}
	return string(out[:])
}
