package server

import (
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"github.com/vektah/gqlparser/v2/gqlerror"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/gateway"
	"ubiquon/internal/graphql"
)

const (
	graphqlResponse = "application/graphql-response+json; charset=utf-8"
	plainJSON       = "application/json; charset=utf-8"
	maxGraphQLBody  = 256 << 10
)

// requestErrors are the errors of a request that was not run.
type requestErrors struct{ gqlerror.List }

func (e requestErrors) Error() string { return e.List.Error() }

// graphql answers one request in the GraphQL-over-HTTP specification's form.
func (s *Server) graphql(w http.ResponseWriter, r *http.Request, reader *access.Reader, edition string, begin time.Time) {
	mediaType := plainJSON
	if strings.Contains(r.Header.Get("Accept"), "application/graphql-response+json") {
		mediaType = graphqlResponse
	}
	text, req, ok := s.graphqlRequest(w, r)
	if !ok {
		return
	}
	if !reader.Rights.AllowsAny(access.Read, edition) {
		// Nothing could come back but refusals.
		s.refused(w, r, reader, edition, &gateway.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: access.Any}})
		return
	}
	plan := func() (*gateway.Plan, error) {
		return s.g.Plan("graphql "+edition+" "+text, func(m *model.Model, schema *graphql.Schema) (*gateway.Plan, error) {
			op, errs := schema.Compile(edition, req)
			if len(errs) > 0 {
				return nil, requestErrors{errs}
			}
			base := headers(m, &op.Query, mediaType, false)
			p := &gateway.Plan{Query: &op.Query, GraphQL: op, Key: "graphql " + op.Key()}
			p.Narrow = narrowGraphQL
			p.Render = func(p *gateway.Plan, res *query.Result) gateway.Rendered {
				h := make(map[string][]string, len(base)+4)
				for name, v := range base {
					h[name] = v
				}
				return gateway.Rendered{Status: http.StatusOK, Header: h, Body: p.GraphQL.Write(res), Needs: p.GraphQL.Query.NeedsOf(res)}
			}
			return p, nil
		})
	}
	var refused requestErrors
	if _, err := plan(); errors.As(err, &refused) {
		status := http.StatusOK
		if mediaType == graphqlResponse {
			status = http.StatusBadRequest
		}
		writeGraphQLErrors(w, status, mediaType, refused.List)
		return
	}
	s.answer(w, r, reader, edition, begin, plan, mediaType)
}

// narrowGraphQL makes null what a reader may not have. Readers who lack the same
// share the answer: what is null, and why, is part of its key.
func narrowGraphQL(p *gateway.Plan, rights access.Rights) *gateway.Plan {
	out := *p
	out.GraphQL = p.GraphQL.Restrict(rights)
	out.Query, out.Key = &out.GraphQL.Query, "graphql "+out.GraphQL.Key()
	return &out
}

// graphqlRequest reads the request of either method; text is what tells it
// from others.
func (s *Server) graphqlRequest(w http.ResponseWriter, r *http.Request) (text string, req graphql.Request, ok bool) {
	bad := func(status int, message string) (string, graphql.Request, bool) {
		writeGraphQLErrors(w, status, plainJSON, gqlerror.List{gqlerror.Errorf("%s", message)})
		return "", req, false
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		q := r.URL.Query()
		req.Query, req.OperationName = q.Get("query"), q.Get("operationName")
		if v := q.Get("variables"); v != "" {
			if err := json.Unmarshal([]byte(v), &req.Variables); err != nil {
				return bad(400, "variables is not a JSON object")
			}
		}
		text = r.URL.RawQuery
	case http.MethodPost:
		media, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
		if err != nil || media != "application/json" || (params["charset"] != "" && !strings.EqualFold(params["charset"], "utf-8")) {
			return bad(415, "send the request as application/json in UTF-8")
		}
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxGraphQLBody))
		if err != nil {
			return bad(413, "the request has more than 256 KiB")
		}
		if err := json.Unmarshal(body, &req); err != nil {
			return bad(400, "the body is not a JSON object with query, operationName and variables")
		}
		text = string(body)
	default:
		w.Header().Set("Allow", "GET, HEAD, POST")
		return bad(405, "send GraphQL with GET or POST")
	}
	if req.Query == "" {
		return bad(400, "the request has no query")
	}
	return text, req, true
}

func writeGraphQLErrors(w http.ResponseWriter, status int, mediaType string, errs gqlerror.List) {
	w.Header().Set("Content-Type", mediaType)
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	// The reader may be gone; nothing can be done about that.
	_ = json.NewEncoder(w).Encode(map[string]any{"errors": errs})
}

// description serves what there is to read, to whoever may read anything of the
// edition.
func (s *Server) description(w http.ResponseWriter, r *http.Request, reader *access.Reader, edition, mediaType string, of func(base string) any) {
	if reader.Only != "" || !reader.Rights.AllowsAny(access.Read, edition) {
		s.refused(w, r, reader, edition, &gateway.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: access.Any}})
		return
	}
	if _, err := parameters(r.URL, nil); err != nil {
		s.fail(w, r, err)
		return
	}
	made := of(s.g.Address() + "/content/" + s.g.Environment() + "/" + edition)
	body, isText := made.(string)
	if !isText {
		src, err := json.Marshal(made)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		body = string(src) + "\n"
	}
	tag := gateway.EntityTag([]byte(body))
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
