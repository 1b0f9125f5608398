package controlapi

import (
	"io"
	"net/http"
	"reflect"
	"strings"

	"github.com/go-chi/chi/v5"

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
	// Problems are the kinds of problem that it has besides those of every operation.
	Problems []string
	// Example is a request that works on the demo's content, of the type In; nil: none.
	Example any

	handler func(*API) http.Handler
}

const (
	mediaJSON   = "application/json"
	mediaLines  = "application/x-ndjson"
	mediaEvents = "text/event-stream"
)

func declare[In, Out any](line, id, summary string, p guard.Permit) *Operation {
	method, path, _ := strings.Cut(line, " ")
	return &Operation{
		Method: method, Path: path, ID: id, Summary: summary, Permit: p,
		In: reflect.TypeFor[In](), Out: reflect.TypeFor[Out](), Body: mediaJSON, Media: mediaJSON,
	}
}

// call declares an operation that answers with JSON.
func call[In, Out any](
	line, id, summary string, p guard.Permit, f func(*API, *http.Request, In) (Out, error),
) *Operation {
	op := declare[In, Out](line, id, summary, p)
	op.handler = func(s *API) http.Handler {
		var h http.Handler = guard.JSON(s.guard, func(r *http.Request) (any, error) {
			var in In
			if err := guard.Decode(r, &in); err != nil {
				return nil, err
			}
			return f(s, r, in)
		})
		if p.Once {
			h = s.guard.Background(p.Proved, s.guard.Idempotent(p.Proved, h))
		}
		return h
	}
	return op
}

// lines declares an operation that does long work, and answers with its progress as NDJSON. An
// error is a problem, or, once a line was sent, the last line: {"problem": …}.
func lines[In, Line any](
	line, id, summary string, p guard.Permit, f func(*API, *http.Request, In, func(Line)) error,
) *Operation {
	return raw[In, Line](line, id, summary, p, func(s *API, w http.ResponseWriter, r *http.Request, in In) {
		out := guard.NewStream(w)
		// What is left of the body must be read before the handler ends, for the answer has begun
		// already; an error is told before that.
		defer io.Copy(io.Discard, r.Body)
		err := f(s, r, in, func(one Line) { out.Write(one) })
		switch {
		case err == nil:
		case out.Started:
			out.Write(api.FailedLine{Problem: s.guard.ProblemOf(r, err).Filled()})
		default:
			s.guard.Fail(w, r, err)
		}
	}).media(mediaLines).or(reflect.TypeFor[api.FailedLine](), mediaLines)
}

// raw declares an operation that writes its answer itself.
func raw[In, Out any](
	line, id, summary string, p guard.Permit, f func(*API, http.ResponseWriter, *http.Request, In),
) *Operation {
	op := declare[In, Out](line, id, summary, p)
	op.handler = func(s *API) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			var in In
			if err := guard.Decode(r, &in); err != nil {
				s.guard.Fail(w, r, err)
				return
			}
			f(s, w, r, in)
		})
	}
	return op
}

// media sets the content type of the answer.
func (op *Operation) media(kind string) *Operation {
	op.Media = kind
	return op
}

// or adds another answer that the operation may give.
func (op *Operation) or(other reflect.Type, media string) *Operation {
	op.Other, op.OtherMedia = other, media
	return op
}

// takes sets the content type of the request.
func (op *Operation) takes(kind string) *Operation {
	op.Body = kind
	return op
}

// fails adds kinds of problem.
func (op *Operation) fails(kinds ...string) *Operation {
	op.Problems = append(op.Problems, kinds...)
	return op
}

// example sets the example.
func (op *Operation) example(request any) *Operation {
	op.Example = request
	return op
}

// Operations lists the operations in the order of the document.
func Operations() []*Operation {
	var out []*Operation
	for _, area := range []struct {
		name string
		all  []*Operation
	}{
		{"Session", sessionOperations()},
		{"Model", modelOperations()},
		{"Entries", entryOperations()},
		{"Schedules", scheduleOperations()},
		{"Preview links", previewOperations()},
		{"Reads", readOperations()},
		{"Diagnosis", whyOperations()},
		{"Keys", keyOperations()},
		{"Accounts", accountOperations()},
		{"Events and origins", originOperations()},
		{"Sites and builds", buildOperations()},
		{"Rules", ruleOperations()},
		{"Files", fileOperations()},
		{"Settings", settingOperations()},
		{"Cache and changes", cacheOperations()},
	} {
		for _, op := range area.all {
			op.Area = area.name
			out = append(out, op)
		}
	}
	return out
}

// Mount mounts the control endpoints, and the document that describes them.
func (s *API) Mount(r chi.Router) {
	for _, op := range Operations() {
		r.Method(op.Method, op.Path, s.guard.Guard(op.Permit, op.handler(s)))
	}
	r.Method("GET", "/openapi.json", s.guard.Guard(guard.Anybody, http.HandlerFunc(s.description)))
}

// items is the answer that lists something.
func items[T any](all []T, err error) (api.Items[T], error) {
	return api.Items[T]{Items: append([]T{}, all...)}, err
}

// page is the answer that lists a part of something.
func page[T any](all []T, total int, err error) (api.Page[T], error) {
	return api.Page[T]{Items: append([]T{}, all...), Total: total}, err
}
