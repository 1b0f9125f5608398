package client

import "errors"

// ErrUnreachable is the error of a service that does not answer.
var ErrUnreachable = errors.New("no service answers")
