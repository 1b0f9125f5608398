package writing

import (
	"errors"
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
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

// ContentReason reports whether an error of Apply has its reason in what was to be
// written, so that trying again does not help.
func ContentReason(err error) bool {
	var problems content.Problems
	var conflict *ConflictError
	var referred *ReferredError
	return errors.As(err, &problems) || errors.As(err, &conflict) || errors.As(err, &referred) ||
		errors.Is(err, db.ErrForeign) || errors.Is(err, db.ErrNotFound) || db.BadValue(err)
}
