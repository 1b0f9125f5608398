// Package api holds the wire types of the control endpoints: what requests and answers consist
// of, and the problem documents. Server, client and command line share it. It contains no logic
// and imports no database driver.
//
// A request type is one struct: fields with a path or query tag are parameters of the address,
// fields with a json tag are members of the body. A member that may be left out has omitempty.
package api

import "fmt"

// None is a request without parameters, or an answer without members.
type None struct{}

// Items is an answer that lists something. Items is never null.
type Items[T any] struct {
	Items []T `json:"items"`
}

// Page is a part of a list, and how many there are in all.
type Page[T any] struct {
	Items []T `json:"items"`
	Total int `json:"total"`
}

// BadParameterError is the error of a request that cannot be carried out as it was made.
type BadParameterError struct{ Parameter, Detail string }

// Error implements error.
func (e *BadParameterError) Error() string { return e.Detail }

// BadParameter returns a *BadParameterError that says what is wrong with a parameter.
func BadParameter(parameter, format string, args ...any) error {
	return &BadParameterError{parameter, fmt.Sprintf(format, args...)}
}
