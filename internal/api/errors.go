// Package api holds what server, client and command line share of the control endpoints. It
// contains no logic.
package api

import (
	"fmt"
)

// Breakage is a request that a model does not answer, though the present one does.
type Breakage struct {
	// What it is: a trusted document, a saved read, or what readers ask for at present.
	What    string `json:"what"`
	Request string `json:"request"`
	Reason  string `json:"reason"`
}

// BadParameterError is the error of a request that cannot be carried out as it was made.
type BadParameterError struct{ Parameter, Detail string }

// Error implements error.
func (e *BadParameterError) Error() string { return e.Detail }

// BadParameter returns a *BadParameterError that says what is wrong with a parameter.
func BadParameter(parameter, format string, args ...any) error {
	return &BadParameterError{parameter, fmt.Sprintf(format, args...)}
}
