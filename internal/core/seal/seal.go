// Package seal encrypts small values under a name: AES-256-GCM with keys derived by HKDF-SHA-256.
// Several keys may be at hand, so that they can be changed: the first one encrypts, any of them
// decrypts.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
)

const (
	// version is the first byte of what is sealed.
	version  = 1
	idBytes  = 4
	keyBytes = 32
)

// ErrKey is the error of opening what none of the keys has sealed.
var ErrKey = errors.New("it was encrypted with a key that is not at hand")

// Ring is the keys at hand. It is safe for concurrent use.
type Ring struct{ keys []key }

type key struct {
	id   [idBytes]byte
	aead cipher.AEAD
}

// And returns a ring with the keys of another one after its own: they decrypt alone.
func (r *Ring) And(other *Ring) *Ring {
	return &Ring{keys: append(append([]key{}, r.keys...), other.keys...)}
}

// RingOf makes a ring of one key of a secret of any length.
func RingOf(secret []byte) (*Ring, error) {
	sum := sha256.Sum256(secret)
	k, err := newKey(sum[:])
	return &Ring{keys: []key{k}}, err
}

// NewKey returns the text of a new key: 32 random bytes in base64.
func NewKey() string {
	b := make([]byte, keyBytes)
	_, _ = rand.Read(b) // never fails
	return base64.StdEncoding.EncodeToString(b)
}

// ReadRing reads keys, each the base64 of 32 bytes, separated by commas, spaces or line ends.
// Its error repeats nothing of them.
func ReadRing(text string) (*Ring, error) {
	r := &Ring{}
	for i, one := range strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(", \t\r\n", c) }) {
		secret, err := base64.StdEncoding.DecodeString(one)
		if err != nil || len(secret) != keyBytes {
			return nil, fmt.Errorf("key %d is not the base64 of %d bytes", i+1, keyBytes)
		}
		k, err := newKey(secret)
		if err != nil {
			return nil, err
		}
		r.keys = append(r.keys, k)
	}
	if len(r.keys) == 0 {
		return nil, errors.New("there is no key")
	}
	return r, nil
}

func newKey(secret []byte) (k key, err error) {
	derived, err := hkdf.Key(sha256.New, secret, nil, "ubiquon secrets", keyBytes)
	if err != nil {
		return k, err
	}
	block, err := aes.NewCipher(derived)
	if err != nil {
		return k, err
	}
	sum := sha256.Sum256(derived)
	copy(k.id[:], sum[:])
	k.aead, err = cipher.NewGCM(block)
	return k, err
}

// Seal encrypts a value under a name with the first key: a version byte, the key's id, the
// nonce, the ciphertext.
func (r *Ring) Seal(name string, value []byte) []byte {
	k := r.keys[0]
	nonce := make([]byte, k.aead.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	out := append(append([]byte{version}, k.id[:]...), nonce...)
	return k.aead.Seal(out, nonce, value, []byte(name))
}

// Open decrypts what was sealed under the name. Its error is ErrKey if no key fits; any change
// of the bytes or the name is an error, too.
func (r *Ring) Open(name string, sealed []byte) ([]byte, error) {
	k, rest, err := r.keyOf(sealed)
	if err != nil {
		return nil, err
	}
	n := k.aead.NonceSize()
	if len(rest) < n {
		return nil, errors.New("what is sealed is cut off")
	}
	value, err := k.aead.Open(nil, rest[:n], rest[n:], []byte(name))
	if err != nil {
		return nil, errors.New("what is sealed was changed, or is another secret's")
	}
	return value, nil
}

// Current reports whether something was sealed with the first key.
func (r *Ring) Current(sealed []byte) bool {
	return len(sealed) > idBytes && [idBytes]byte(sealed[1:1+idBytes]) == r.keys[0].id
}

func (r *Ring) keyOf(sealed []byte) (k key, rest []byte, err error) {
	if len(sealed) < 1+idBytes || sealed[0] != version {
		return k, nil, errors.New("what is sealed has another form")
	}
	id := [idBytes]byte(sealed[1 : 1+idBytes])
	for _, k := range r.keys {
		if k.id == id {
			return k, sealed[1+idBytes:], nil
		}
	}
	return k, nil, ErrKey
}
