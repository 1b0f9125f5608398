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
	"ubiquon/internal/server/operation"
)

// whyOperations are what is asked when something does not show.
func whyOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("POST /why", "why", "Say why a reader cannot see an entry", guard.ReadsAll.InTurn(), (*API).why).
			WithExample(api.WhyQuestion{Request: "/notices?limit=3", Entry: "fog-on-the-sound"}),
		operation.Call("GET /writes/{write}", "getWrite", "Say what became of a write that went on in the background",
			guard.WritesOrDecides, (*API).getWrite),
	}
}

func (s *API) getWrite(r *http.Request, in api.WriteRef) (api.WriteState, error) {
	return s.guard.WriteState(r, in.Write)
}

// why answers why a reader cannot see an entry.
func (s *API) why(r *http.Request, form api.WhyQuestion) (api.WhyAnswer, error) {
	q := diagnose.Question{
		Entry:   form.Entry,
		Type:    form.Type,
		Key:     form.Key,
		Edition: form.Edition,
		Locale:  form.Locale,
	}
	if form.Request != "" {
		if err := s.askedFor(form.Request, &q); err != nil {
			return api.WhyAnswer{}, err
		}
	}
	if q.Entry == "" && q.Type == "" {
		return api.WhyAnswer{}, api.Problem{
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
		p, err := contentapi.PlanREST(m, s.env.Delivery.Files, "published", rest,
			&http.Request{Method: http.MethodGet, URL: u, Header: http.Header{}})
		if err != nil {
			return err
		}
		q.List, q.Asked, q.Type = &p.Query.Roots[0], u.RequestURI(), ""
	}
	return nil
}
