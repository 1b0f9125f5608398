package db

import (
	"errors"
)

// ErrWriteTimeout is the error of a write whose transaction took too long; nothing of it
// is stored.
var ErrWriteTimeout = errors.New("the write took too long and was given up; nothing of it is stored")

// ErrUnsure is the error of a write that took too long when it was committed already: it may
// be stored.
var ErrUnsure = errors.New(
	"the write took too long, and it is not known whether it is stored; look at the entry, or send it again with " +
		"an Idempotency-Key",
)
