package controlapi

import (
	"net/http"
	"net/url"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/query"
	"ubiquon/internal/diagnose"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/guard"
)

// why answers why a reader cannot see an entry.
func (s *API) why(r *http.Request) (any, error) {
	var form struct {
		Entry   string `json:"entry"` // id, slug or path
		Type    string `json:"type"`
		Key     string `json:"key"` // id, name or secret; empty: everyone
		Edition string `json:"edition"`
		Locale  string `json:"locale"`
		// Request is a read that was refused, or a list that the entry should be in: an
		// address below /content/, or from a plural on.
		Request string `json:"request"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	q := diagnose.Question{
		Entry:   form.Entry,
		Type:    form.Type,
		Key:     form.Key,
		Edition: form.Edition,
		Locale:  form.Locale,
	}
	if form.Request != "" {
		if err := s.askedFor(form.Request, &q); err != nil {
			return nil, err
		}
	}
	if q.Entry == "" && q.Type == "" {
		return nil, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "entry",
			Detail:    "name an entry by id, slug or path, or the request that it is about",
		}
	}
	return s.env.Diagnosis.Why(r.Context(), q)
}

// askedFor takes from a read what is asked of it.
func (s *API) askedFor(request string, q *diagnose.Question) error {
	bad := func(detail string) error {
		return api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "request",
			Detail:    detail,
			Hint: "give it as in /content/" + s.env.Replica.Environment() + "/published/notices?limit=3, " +
				"or from the plural on",
		}
	}
	address := request
	if method, rest, spaced := strings.Cut(request, " "); spaced && strings.ToUpper(method) == method &&
		!strings.ContainsAny(method, "/?") {
		address = rest
	}
	u, err := url.Parse(address)
	if err != nil {
		return bad("it is no address")
	}
	rest := strings.TrimPrefix(u.Path, "/")
	if below, ok := strings.CutPrefix(u.Path, "/content/"+s.env.Replica.Environment()+"/"); ok {
		edition, after, _ := strings.Cut(below, "/")
		rest = after
		if q.Edition == "" {
			q.Edition = edition
		}
	}
	if rest == "graphql" || strings.HasPrefix(rest, "graphql/") {
		return bad("of a GraphQL request, name the entry instead")
	}
	m := s.env.Replica.Model()
	if q.Locale == "" {
		q.Locale = u.Query().Get("locale")
	}
	root, t, err := contentapi.Locate(m, rest)
	if err != nil {
		return err
	}
	if t != nil && q.Type == "" {
		q.Type = t.Name
	}
	switch root.By {
	case query.BySlug, query.ByID:
		q.Entry = root.Value
	case query.ByPath:
		q.Entry = u.Query().Get("path")
	case query.ByList:
		if q.Entry == "" {
			return nil
		}
		// The list itself is what is asked about.
		u.RawPath, u.Path = "", "/"+rest
		p, err := contentapi.PlanREST(m, "published", rest,
			&http.Request{Method: http.MethodGet, URL: u, Header: http.Header{}})
		if err != nil {
			return err
		}
		q.List, q.Asked, q.Type = &p.Query.Roots[0], u.RequestURI(), ""
	}
	return nil
}
