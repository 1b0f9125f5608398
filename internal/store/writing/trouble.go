package writing

import (
	"errors"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

// ContentReason reports whether an error of Apply has its reason in what was to be
// written, so that trying again does not help.
func ContentReason(err error) bool {
	var problems content.Problems
	var conflict *ConflictError
	var referred *ReferredError
	return errors.As(err, &problems) || errors.As(err, &conflict) || errors.As(err, &referred) ||
		errors.Is(err, db.ErrForeign) || errors.Is(err, db.ErrNotFound) || db.BadValue(err)
}
