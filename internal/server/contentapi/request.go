package contentapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/delivery"
	"ubiquon/internal/graphql"
)

// The texts by which plans are remembered, and requests computed anew when nobody
// asks: a line for each part that the answer depends on.

func restText(r *http.Request) string {
	if l := r.Header.Get("Accept-Language"); l != "" {
		return r.RequestURI + "\n" + l
	}
	return r.RequestURI
}

const graphqlMark = "graphql"

func graphqlText(edition, language, request string) string {
	return graphqlMark + "\n" + edition + "\n" + language + "\n" + request
}

// recompile returns what compiles the request that a text stands for.
func (s *API) recompile(text string) (delivery.Compiler, error) {
	if rest, is := strings.CutPrefix(text, graphqlMark+"\n"); is {
		edition, rest, _ := strings.Cut(rest, "\n")
		language, request, _ := strings.Cut(rest, "\n")
		req, err := graphqlOf(request)
		if err != nil {
			return nil, err
		}
		req, bad := s.NamedDocument(req)
		if bad != nil {
			return nil, *bad
		}
		return s.CompileGraphQL(edition, language, plainJSON, req), nil
	}
	uri, language, _ := strings.Cut(text, "\n")
	u, err := url.ParseRequestURI(uri)
	if err != nil {
		return nil, err
	}
	edition, rest, ok := s.contentPath(u.Path)
	if !ok {
		return nil, fmt.Errorf("%s is no read of content", uri)
	}
	r := &http.Request{Method: http.MethodGet, URL: u, RequestURI: uri, Header: http.Header{}}
	if language != "" {
		r.Header.Set("Accept-Language", language)
	}
	return func(m *model.Model, _ *graphql.Schema) (*delivery.Plan, error) { return PlanREST(m, edition, rest, r) }, nil
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
