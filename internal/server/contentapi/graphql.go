package contentapi

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/vektah/gqlparser/v2/gqlerror"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/delivery"
	"ubiquon/internal/graphql"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/accounts"
)

const (
	GraphqlResponse = "application/graphql-response+json; charset=utf-8"
	plainJSON       = "application/json; charset=utf-8"
)

// mediaTypes are the two as values of a header.
var mediaTypes = map[string][]string{GraphqlResponse: {GraphqlResponse}, plainJSON: {plainJSON}}

// RequestErrors are the errors of a request that was not run.
type RequestErrors struct{ gqlerror.List }

// Error implements error.
func (e RequestErrors) Error() string { return e.List.Error() }

// graphql answers a request in the GraphQL-over-HTTP specification's form, or, where
// that is allowed, a list of requests with the list of their answers.
func (s *API) graphql(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string, begin time.Time,
) {
	if r.Method == http.MethodGet && r.URL.RawQuery == "" && strings.Contains(r.Header.Get("Accept"), "text/html") {
		// Somebody looks at it in a browser: there is a page to try requests on.
		http.Redirect(w, r, "/console/explorer", http.StatusFound)
		return
	}
	asked, several, err := s.graphqlRequest(w, r, edition)
	if err != nil {
		var bad badGraphQL
		_ = errors.As(err, &bad) // it is one
		WriteGraphQLErrors(w, bad.status, plainJSON, bad.list())
		return
	}
	if several == nil {
		s.graphqlOne(w, r, reader, edition, begin, asked)
		return
	}
	// They come in one answer: neither is conditional or encoded by itself.
	plain := r.Clone(r.Context())
	plain.Header.Del("If-None-Match")
	plain.Header.Del("Accept-Encoding")
	bodies := make([]json.RawMessage, len(several))
	for i, one := range several {
		answer := guard.Recorded{}
		src, _ := json.Marshal(one) // came out of JSON
		if one, bad := s.NamedDocument(one); bad != nil {
			WriteGraphQLErrors(&answer, bad.status, plainJSON, bad.list())
		} else {
			s.graphqlOne(&answer, plain, reader, edition, begin, askedOf(edition, r, string(src), one))
		}
		bodies[i] = answer.GraphQL()
	}
	w.Header().Set("Content-Type", plainJSON)
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(bodies) // the reader may be gone
}

// askedGraphQL is a request. What was sent in the same words before is not taken apart
// again: it has a plan, and is otherwise empty.
type askedGraphQL struct {
	graphql.Request
	made query.Request // as it was sent
	plan *delivery.Plan
}

func askedOf(edition string, r *http.Request, text string, req graphql.Request) askedGraphQL {
	return askedGraphQL{
		Request: req,
		made:    query.Request{GraphQL: text, Edition: edition, Language: r.Header.Get("Accept-Language")},
	}
}

// graphqlOne answers one request.
func (s *API) graphqlOne(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string, begin time.Time,
	asked askedGraphQL,
) {
	mediaType := plainJSON
	if accept := r.Header["Accept"]; accept != nil &&
		strings.Contains(accept[0], "application/graphql-response+json") {
		mediaType = GraphqlResponse
	}
	if s.trustedOnly && asked.DocumentID == "" && !reader.Rights.Allows(access.Administer) {
		if _, trusted := s.env.Documents.Document(accounts.DocumentID(asked.Query)); !trusted {
			WriteGraphQLErrors(
				w,
				http.StatusForbidden,
				mediaType,
				gqlerror.List{
					gqlerror.Errorf(
						"only trusted documents are answered here; name one by documentId (ubiquon document " +
							"list), or have this one added (ubiquon document add)",
					),
				},
			)
			return
		}
	}
	principal := s.guard.QueueName(reader, r)
	compile := func() (*delivery.Plan, error) {
		return s.env.Delivery.PlanFor(
			r.Context(),
			principal,
			asked.made,
			func(m *model.Model, schema *graphql.Schema) (*delivery.Plan, error) {
				if asked.Query == "" { // it was compiled before, and has to be once more
					var err error
					if asked.Request, err = graphqlOf(asked.made.GraphQL); err != nil {
						return nil, err
					}
				}
				return s.CompileGraphQL(edition, r.Header.Get("Accept-Language"), mediaType, asked.Request)(m, schema)
			},
		)
	}
	plan := func() (*delivery.Plan, error) {
		if once := asked.plan; once != nil {
			asked.plan = nil
			return once, nil
		}
		return compile()
	}
	if asked.plan == nil {
		var refused RequestErrors
		first, err := plan()
		if errors.As(err, &refused) &&
			!reader.Rights.Allows(access.Need{Verb: access.Read, Edition: edition, Type: access.Any}) {
			known := s.compileFor(edition, r.Header.Get("Accept-Language"), mediaType, asked.Request, reader.Rights)
			compile = func() (*delivery.Plan, error) {
				return s.env.Delivery.Compile(r.Context(), principal, known)
			}
			first, err = plan()
			refused = RequestErrors{}
		}
		if errors.As(err, &refused) {
			status := http.StatusOK
			if mediaType == GraphqlResponse {
				status = http.StatusBadRequest
			}
			WriteGraphQLErrors(w, status, mediaType, refused.List)
			return
		}
		asked.plan = first
	}
	s.answer(w, r, reader, edition, begin, plan, mediaType)
}

// CompileGraphQL compiles a request; language is its Accept-Language.
func (s *API) CompileGraphQL(edition, language, mediaType string, req graphql.Request) delivery.Compiler {
	return func(m *model.Model, schema *graphql.Schema) (*delivery.Plan, error) {
		req.Locale = negotiate(m, language)
		op, errs := schema.Compile(edition, req)
		if len(errs) > 0 {
			return nil, RequestErrors{errs}
		}
		return s.planGraphQL(m, op, mediaType), nil
	}
}

// compileFor compiles a request in which something is wrong, for a reader who may not
// know what.
func (s *API) compileFor(
	edition, language, mediaType string, req graphql.Request, rights access.Rights,
) delivery.Compiler {
	return func(m *model.Model, schema *graphql.Schema) (*delivery.Plan, error) {
		req.Locale = negotiate(m, language)
		op, errs := schema.CompileFor(edition, req, func(typ string) bool { return readsAnyOf(rights, edition, typ) })
		if len(errs) > 0 {
			return nil, RequestErrors{errs}
		}
		return s.planGraphQL(m, op, mediaType), nil
	}
}

func (s *API) planGraphQL(m *model.Model, op *graphql.Operation, mediaType string) *delivery.Plan {
	base := headers(m, &op.Query, mediaType, op.Negotiated)
	for i, vary := range base["Vary"] {
		base["Vary"][i] = vary + ", Accept"
	}
	p := &delivery.Plan{Query: &op.Query, GraphQL: op, Key: graphqlKey(op), Base: base}
	p.Narrow = s.narrowGraphQL
	p.Render = func(p *delivery.Plan, res *query.Result) (delivery.Rendered, error) {
		body, err := p.GraphQL.Write(res)
		return delivery.Rendered{
			Status: http.StatusOK,
			Header: setDeprecationOf(base, m, p.Query, res),
			Body:   body,
			Needs:  p.GraphQL.Query.NeedsOf(res),
		}, err
	}
	return p
}

// narrowGraphQL makes null what a reader may not have. Readers who lack the same
// share the answer: what is null, and why, is part of its key.
func (s *API) narrowGraphQL(p *delivery.Plan, rights access.Rights) *delivery.Plan {
	out := *p
	out.GraphQL = p.GraphQL.Restrict(rights)
	if p.GraphQL.Describes() {
		seen, err := s.env.Delivery.ModelFor(rights, p.Query.Edition)
		if err != nil {
			return nil // the reader is refused, and the error will show elsewhere
		}
		out.GraphQL = out.GraphQL.DescribedBy(seen.Schema)
	}
	out.Query, out.Key = &out.GraphQL.Query, graphqlKey(out.GraphQL)
	return &out
}

// graphqlKey is the canonical form of an operation's request.
func graphqlKey(op *graphql.Operation) string {
	if op.Negotiated {
		return "graphql negotiated " + op.Key()
	}
	return "graphql " + op.Key()
}

// badGraphQL is the error of a request that is none.
type badGraphQL struct {
	status  int
	Message string
	code    string // for clients; may be empty
}

// Error implements error.
func (e badGraphQL) Error() string { return e.Message }

func (e badGraphQL) list() gqlerror.List {
	one := gqlerror.Errorf("%s", e.Message)
	if e.code != "" {
		one.Extensions = map[string]any{"code": e.code}
	}
	return gqlerror.List{one}
}

// WriteGraphQLErrors writes a GraphQL answer that has errors and no data.
func WriteGraphQLErrors(w http.ResponseWriter, status int, mediaType string, errs gqlerror.List) {
	w.Header().Set("Content-Type", mediaType)
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	// The reader may be gone; nothing can be done about that.
	_ = json.NewEncoder(w).Encode(map[string]any{"errors": errs})
}

// description serves what there is to read, to whoever may read anything of the
// edition, as far as they may.
func (s *API) description(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition, mediaType string,
	of func(seen delivery.ModelView, base string) any,
) {
	if reader.Only != "" || !reader.Rights.AllowsAny(access.Read, edition) {
		s.refused(
			w, r, reader, edition,
			&access.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: access.Any}},
		)
		return
	}
	if _, err := guard.Parameters(r.URL, nil); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	seen, err := s.env.Delivery.ModelFor(reader.Rights, edition)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	made := of(seen, s.env.Automation.Address()+"/content/"+s.env.Replica.Environment()+"/"+edition)
	body, isText := made.(string)
	if !isText {
		src, err := json.Marshal(made)
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		body = string(src) + "\n"
	}
	tag := cache.EntityTag([]byte(body))
	h := w.Header()
	h.Set("Content-Type", mediaType)
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Etag", tag)
	if matches(r.Header.Get("If-None-Match"), tag) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	_, _ = io.WriteString(w, body) // the reader may be gone
}
