package access

import (
	"errors"
	"fmt"
)

// DeniedError is the error of a read that takes a grant the reader lacks.
type DeniedError struct {
	Grant Need
	// Everyone says that no key was sent.
	Everyone bool
}

// Error implements error.
func (e *DeniedError) Error() string { return fmt.Sprintf("the grant %q is missing", e.Grant) }

// ErrTooMany is the error of trying something too often.
var ErrTooMany = errors.New("too many tries; wait a little")

// ErrOneEntry is the error of reading with a preview link what is not its entry.
var ErrOneEntry = errors.New("this link reads one entry in preview, and what that shows, by slug, id or path")
