// Package blob keeps bytes under keys: in a directory, or in an object store that speaks the S3
// protocol. What is kept is whole or not there at all, whatever happens while it is written.
package blob

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"
)

// ErrNotFound is the error of a key that nothing is kept under.
var ErrNotFound = errors.New("nothing is kept under this key")

// Reader reads what is kept, from any place. The caller closes it.
type Reader interface {
	io.ReadSeekCloser
}

// Item is what is kept under a key.
type Item struct {
	Key   string
	Bytes int64
	At    time.Time
}

// Store keeps bytes. It is safe for concurrent use, by several processes too. Keys are made of
// small letters, digits, hyphens, dots and slashes.
type Store interface {
	// Put keeps the file, which is the store's from now on: it may be moved. Keeping the same
	// again is no error. When Put has returned without an error the bytes survive a crash.
	Put(ctx context.Context, key, path string) error
	// Open reads what is kept. Its error is ErrNotFound if that is nothing.
	Open(ctx context.Context, key string) (Reader, Item, error)
	// Local returns a file with the bytes, which nobody changes, and what to call when it is
	// not needed any more.
	Local(ctx context.Context, key string) (path string, done func(), err error)
	// Delete removes what is kept; nothing is no error.
	Delete(ctx context.Context, key string) error
	// List calls each for all keys that begin so, in any order, until it returns an error.
	List(ctx context.Context, prefix string, each func(Item) error) error
	// Temporary is a directory for files that are to be put.
	Temporary() string
}

// ErrTooLarge is the error of bytes that go on past their bound.
type ErrTooLarge struct{ Most int64 }

func (e *ErrTooLarge) Error() string { return fmt.Sprintf("more than %d bytes", e.Most) }

// HashOf is the SHA-256 of a file, and its size.
func HashOf(path string) (hash string, bytes int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = f.Close() }()
	sum := sha256.New()
	if bytes, err = io.Copy(sum, f); err != nil {
		return "", 0, err
	}
	return hex.EncodeToString(sum.Sum(nil)), bytes, nil
}

// Spool writes what comes into a temporary file of the store, with its SHA-256; more than most
// bytes is an *ErrTooLarge. The caller puts or removes the file.
func Spool(s Store, in io.Reader, most int64) (path, hash string, bytes int64, err error) {
	f, err := os.CreateTemp(s.Temporary(), "coming-*")
	if err != nil {
		return "", "", 0, err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	sum := sha256.New()
	if bytes, err = io.Copy(io.MultiWriter(f, sum), io.LimitReader(in, most+1)); err != nil {
		return "", "", 0, err
	}
	if bytes > most {
		return "", "", 0, &ErrTooLarge{most}
	}
	if err = f.Sync(); err != nil {
		return "", "", 0, err
	}
	if err = f.Close(); err != nil {
		return "", "", 0, err
	}
	return f.Name(), hex.EncodeToString(sum.Sum(nil)), bytes, nil
}
