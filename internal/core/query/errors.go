package query

import (
	"fmt"
)

// Error is a read that cannot be compiled. It names the parameter that is
// wrong and, where there is one, how to fix it.
type Error struct {
	Parameter, Detail, Hint string
	// At is the character of the parameter's value, the first being 1, where it is
	// wrong; 0: nowhere in particular.
	At int
	// Types are those whose fields the error speaks of: it is for those alone who may read
	// them.
	Types []string
}

// Error implements error.
func (e *Error) Error() string {
	if e.Hint != "" {
		return e.Parameter + ": " + e.Detail + "; " + e.Hint
	}
	return e.Parameter + ": " + e.Detail
}

func failf(parameter, hint, format string, args ...any) *Error {
	return &Error{Parameter: parameter, Hint: hint, Detail: fmt.Sprintf(format, args...)}
}
