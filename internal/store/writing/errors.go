package writing

import (
	"fmt"
)

// ConflictError is the error of an edit whose IfRevision does not fit.
type ConflictError struct {
	Entry           string
	Wanted, Present int
}

// Error implements error.
func (e *ConflictError) Error() string {
	return fmt.Sprintf(
		"entry %s is at revision %d by now, not %d; look at what was saved meanwhile, then write again", e.Entry,
		e.Present, e.Wanted,
	)
}
