// Package operation declares the routes of the control endpoints: once, with the types of request
// and answer, for what serves them and for what describes them.
package operation

import (
	"io"
	"net/http"
	"reflect"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/server/guard"
)

// Operation is one route of the control endpoints. It is declared once, with the types of its
// request and its answer; what serves it and what describes it are made from that.
type Operation struct {
	// Method and Path, below /control/v1, in the form of chi's patterns.
	Method, Path string
	// ID names it in the OpenAPI document; Summary says what it does, in one line.
	ID, Summary string
	// Area is the part of the document that it stands in.
	Area string
	// Permit says who may use it, and bounds its body.
	Permit guard.Permit
	// In is the type of the request: see guard.Decode. Out is that of the answer.
	In, Out reflect.Type
	// Other is the type of another answer that it may give, in the content type OtherMedia.
	Other      reflect.Type
	OtherMedia string
	// Body and Media are the content types of request and answer, where they are not JSON.
	Body, Media string
	// AnyBody says that the body is any JSON object.
	AnyBody bool
	// Problems are the kinds of problem that it has besides those of every operation.
	Problems []string
	// Example is a request that works on the demo's content, of the type In; nil: none.
	Example any

	// Handler makes what serves it, for the host that it was declared for.
	Handler func(host any) http.Handler
}

// Host is what serves operations.
type Host interface{ Guard() *guard.Guard }

// Content types of answers.
const (
	MediaJSON   = "application/json"
	MediaLines  = "application/x-ndjson"
	MediaEvents = "text/event-stream"
)

// Declare declares an operation without what serves it.
func Declare[In, Out any](line, id, summary string, p guard.Permit) *Operation {
	method, path, _ := strings.Cut(line, " ")
	return &Operation{
		Method: method, Path: path, ID: id, Summary: summary, Permit: p,
		In: reflect.TypeFor[In](), Out: reflect.TypeFor[Out](), Body: MediaJSON, Media: MediaJSON,
	}
}

// Call declares an operation that answers with JSON.
func Call[H Host, In, Out any](
	line, id, summary string, p guard.Permit, f func(H, *http.Request, In) (Out, error),
) *Operation {
	op := Declare[In, Out](line, id, summary, p)
	op.Handler = func(host any) http.Handler {
		s := host.(H)
		var h http.Handler = guard.JSON(s.Guard(), func(r *http.Request) (any, error) {
			var in In
			if err := guard.Decode(r, &in); err != nil {
				return nil, err
			}
			return f(s, r, in)
		})
		if p.Once {
			h = s.Guard().Background(p.Proved, s.Guard().Idempotent(p.Proved, h))
		}
		return h
	}
	return op
}

// Lines declares an operation that does long work, and answers with its progress as NDJSON. An
// error is a problem, or, once a line was sent, the last line: {"problem": …}.
func Lines[H Host, In, Line any](
	line, id, summary string, p guard.Permit, f func(H, *http.Request, In, func(Line)) error,
) *Operation {
	return Raw[H, In, Line](line, id, summary, p, func(s H, w http.ResponseWriter, r *http.Request, in In) {
		out := guard.NewStream(w)
		// What is left of the body must be read before the handler ends, for the answer has begun
		// already; an error is told before that.
		defer io.Copy(io.Discard, r.Body)
		err := f(s, r, in, func(one Line) { out.Write(one) })
		switch {
		case err == nil:
		case out.Started:
			out.Write(api.FailedLine{Problem: s.Guard().ProblemOf(r, err).Filled()})
		default:
			s.Guard().Fail(w, r, err)
		}
	}).AnswersWith(MediaLines).Or(reflect.TypeFor[api.FailedLine](), MediaLines)
}

// Raw declares an operation that writes its answer itself.
func Raw[H Host, In, Out any](
	line, id, summary string, p guard.Permit, f func(H, http.ResponseWriter, *http.Request, In),
) *Operation {
	op := Declare[In, Out](line, id, summary, p)
	op.Handler = func(host any) http.Handler {
		s := host.(H)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			var in In
			if err := guard.Decode(r, &in); err != nil {
				s.Guard().Fail(w, r, err)
				return
			}
			f(s, w, r, in)
		})
	}
	return op
}

// AnswersWith sets the content type of the answer.
func (op *Operation) AnswersWith(kind string) *Operation {
	op.Media = kind
	return op
}

// Or adds another answer that the operation may give.
func (op *Operation) Or(other reflect.Type, media string) *Operation {
	op.Other, op.OtherMedia = other, media
	return op
}

// Takes sets the content type of the request.
func (op *Operation) Takes(kind string) *Operation {
	op.Body = kind
	return op
}

// TakesAny says that the body is any JSON object.
func (op *Operation) TakesAny() *Operation {
	op.AnyBody = true
	return op
}

// Fails adds kinds of problem.
func (op *Operation) Fails(kinds ...string) *Operation {
	op.Problems = append(op.Problems, kinds...)
	return op
}

// WithExample sets the example.
func (op *Operation) WithExample(request any) *Operation {
	op.Example = request
	return op
}

// Items is the answer that lists something.
func Items[T any](all []T, err error) (api.Items[T], error) {
	return api.Items[T]{Items: append([]T{}, all...)}, err
}

// Page is the answer that lists a part of something.
func Page[T any](all []T, total int, err error) (api.Page[T], error) {
	return api.Page[T]{Items: append([]T{}, all...), Total: total}, err
}

// BadMember is the error of a member of the body with a value that cannot be.
func BadMember(name, detail string) error {
	return api.Problem{Kind: "body", Status: http.StatusBadRequest, Parameter: name, Detail: detail}
}
