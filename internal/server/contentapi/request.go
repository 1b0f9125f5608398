package contentapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/delivery"
	"ubiquon/internal/graphql"
)

// restRequest identifies a REST read.
func restRequest(r *http.Request) query.Request {
	return query.Request{Address: r.RequestURI, Language: r.Header.Get("Accept-Language")}
}

// recompile returns what compiles a request that was made before.
func (s *API) recompile(made query.Request) (delivery.Compiler, error) {
	if made.GraphQL != "" {
		req, err := graphqlOf(made.GraphQL)
		if err != nil {
			return nil, err
		}
		req, bad := s.NamedDocument(req)
		if bad != nil {
			return nil, *bad
		}
		return s.CompileGraphQL(made.Edition, made.Language, plainJSON, req), nil
	}
	u, err := url.ParseRequestURI(made.Address)
	if err != nil {
		return nil, err
	}
	edition, rest, ok := s.contentPath(u.Path)
	if !ok {
		return nil, fmt.Errorf("%s is no read of content", made.Address)
	}
	r := &http.Request{Method: http.MethodGet, URL: u, RequestURI: made.Address, Header: http.Header{}}
	if made.Language != "" {
		r.Header.Set("Accept-Language", made.Language)
	}
	return func(m *model.Model, _ *graphql.Schema) (*delivery.Plan, error) {
		return PlanREST(m, s.env.Delivery.Files, edition, rest, r)
	}, nil
}

// contentPath takes the path of a read apart.
func (s *API) contentPath(path string) (edition, rest string, ok bool) {
	parts := strings.SplitN(strings.TrimPrefix(path, "/content/"), "/", 3)
	if len(parts) < 3 || parts[0] != s.env.Replica.Environment() || !delivery.EditionKnown(parts[1]) {
		return "", "", false
	}
	return parts[1], parts[2], true
}

// graphqlOf reads a request as it came: the body of a POST, or the query of a GET.
func graphqlOf(text string) (req graphql.Request, err error) {
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		return req, json.Unmarshal([]byte(text), &req)
	}
	q, err := url.ParseQuery(text)
	if err != nil {
		return req, err
	}
	req.Query, req.OperationName, req.DocumentID = q.Get("query"), q.Get("operationName"), q.Get("documentId")
	if v := q.Get("variables"); v != "" {
		err = json.Unmarshal([]byte(v), &req.Variables)
	}
	if v := q.Get("extensions"); v != "" && err == nil {
		err = json.Unmarshal([]byte(v), &req.Extensions)
	}
	return req, err
}
