package db

import (
	"errors"
)

// ErrModelMoved is the error of a write or read that was planned with another
// version of the model than the database has. Plan again with the present one.
var ErrModelMoved = errors.New("the model has changed meanwhile")

// ErrForeign is the error of a local edit of an entry that comes from an
// outside origin.
var ErrForeign = errors.New("the entry comes from an outside origin; edit it there")
