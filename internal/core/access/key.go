package access

import (
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"hash/crc32"
	"regexp"
	"strings"
	"time"
)

// Key is what is kept of a key: everything but the secret itself.
type Key struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Grants Grants `json:"grants"`
	// Site that reads with it, if any.
	Site string `json:"site,omitempty"`
	// PerMinute bounds the requests that each node answers in a minute; 0 means
	// no bound.
	PerMinute int        `json:"perMinute,omitempty"`
	Created   time.Time  `json:"created"`
	By        string     `json:"by"` // who made it
	Expires   *time.Time `json:"expires"`
	Revoked   *time.Time `json:"revoked"`
	// Hash is the SHA-256 of the secret. Former is that of the secret before it
	// was rotated, good until FormerUntil.
	Hash        [32]byte   `json:"-"`
	Former      [32]byte   `json:"-"`
	FormerUntil *time.Time `json:"formerUntil,omitempty"`
}

// The errors of keys that are not good any more. Whoever has the secret may know.
var (
	ErrExpired = errors.New("the key has expired")
	ErrRevoked = errors.New("the key has been revoked")
	ErrRotated = errors.New("the key has been rotated, and this is its former secret; take the new one")
)

// Good returns why a secret with this hash is not good now, nil if it is.
func (k *Key) Good(hash [32]byte, now time.Time) error {
	switch {
	case k.Revoked != nil:
		return ErrRevoked
	case k.Expires != nil && !now.Before(*k.Expires):
		return ErrExpired
	case hash != k.Hash && (k.FormerUntil == nil || !now.Before(*k.FormerUntil)):
		return ErrRotated
	}
	return nil
}

const (
	prefix   = "ubq_"
	alphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
	length   = len(prefix) + 32 + 6
)

// ErrMalformed is the error of a text that cannot be a key: wrong form or a
// checksum that does not fit, as after a slip in copying.
var ErrMalformed = errors.New(
	"this is no key of ours: a key is ubq_ and 38 letters or digits, and its last six are a checksum; was it " +
		"copied whole?",
)

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

var secretForm = regexp.MustCompile(prefix + "[0-9A-Za-z]{38}|" + previewPrefix + "[0-9A-Za-z_-]+[.]")

// HoldsSecret tells whether a text holds something of a key's form.
func HoldsSecret(text string) bool {
	return (strings.Contains(text, prefix) || strings.Contains(text, previewPrefix)) && secretForm.MatchString(text)
}

// HashSecret returns what is kept of a secret.
func HashSecret(secret string) [32]byte {
	var room [96]byte // enough for those that we make
	return sha256.Sum256(append(room[:0], secret...))
}

func checksum(s string) string {
	n := uint64(crc32.ChecksumIEEE([]byte(s)))
	var out [6]byte
	for i := 5; i >= 0; i-- {
		out[i] = alphabet[n%62]
		n /= 62
	}
	return string(out[:])
}
