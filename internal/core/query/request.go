package query

import (
	"errors"
	"strings"
)

// Request identifies a read as it was made: everything that its compiled form depends on besides
// the model. Requests that are equal are compiled to the same query. The zero Request stands for
// a read that is compiled for itself, and not remembered.
type Request struct {
	// Address is the path and query string of a REST read; empty for GraphQL.
	Address string
	// GraphQL is a GraphQL request as it came: the body of a POST, or the query string of a GET.
	// Edition is the one that it reads.
	GraphQL string
	Edition string
	// Language is the Accept-Language header.
	Language string
}

// graphqlMark begins the text of a GraphQL request; an address begins with a slash.
const graphqlMark = "graphql"

// ErrNoRequest is the error of a text that no request is written as.
var ErrNoRequest = errors.New("this is not the text of a request")

// Text writes the request in a form that ParseRequest reads: a line for each part.
func (r Request) Text() string {
	switch {
	case r.GraphQL != "":
		return strings.Join([]string{graphqlMark, r.Edition, r.Language, r.GraphQL}, "\n")
	case r.Language != "":
		return r.Address + "\n" + r.Language
	}
	return r.Address
}

// ParseRequest reads what Text has written. Its error is ErrNoRequest.
func ParseRequest(text string) (Request, error) {
	if rest, is := strings.CutPrefix(text, graphqlMark+"\n"); is {
		parts := strings.SplitN(rest, "\n", 3)
		if len(parts) < 3 {
			return Request{}, ErrNoRequest
		}
		return Request{Edition: parts[0], Language: parts[1], GraphQL: parts[2]}, nil
	}
	address, language, _ := strings.Cut(text, "\n")
	if !strings.HasPrefix(address, "/") {
		return Request{}, ErrNoRequest
	}
	return Request{Address: address, Language: language}, nil
}

// String is the request in one line, to be shown to people.
func (r Request) String() string { return strings.ReplaceAll(r.Text(), "\n", " ") }

// Size is how many bytes the request has.
func (r Request) Size() int {
	return len(r.Address) + len(r.GraphQL) + len(r.Edition) + len(r.Language)
}
