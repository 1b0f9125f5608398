package controlapi

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/delivery"
	"ubiquon/internal/graphql"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/db"
)

// routeReads mounts what is done with reads: trying them with every detail,
// keeping them, and trusting GraphQL documents.
func (s *API) routeReads(c routes) {
	c.do("POST", "/reads", guard.Reads.WithBody(512<<10), s.examine)
	c.get("/reads/saved", guard.Reads, func(r *http.Request) (any, error) {
		all, err := s.env.Documents.SavedReads(r.Context())
		return map[string]any{"items": append([]api.SavedRead{}, all...)}, err
	})
	c.do("POST", "/reads/saved", guard.WritesOrDecides.WithBody(512<<10), func(r *http.Request) (any, error) {
		var form struct {
			Name string          `json:"name"`
			Read json.RawMessage `json:"read"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		if len(form.Read) == 0 || form.Name == "" {
			return nil, api.Problem{
				Kind:      "body",
				Status:    400,
				Parameter: "read",
				Detail:    "name the read, and say which it is",
				Hint:      `as in {"name": "notices", "read": {"request": "/notices?limit=3"}}`,
			}
		}
		return s.env.Documents.SaveRead(r.Context(), form.Name, form.Read, guard.ActorName(r))
	})
	c.do("DELETE", "/reads/saved/{id}", guard.WritesOrDecides, func(r *http.Request) (any, error) {
		return map[string]any{}, s.env.Documents.ForgetRead(r.Context(), chi.URLParam(r, "id"), guard.ActorName(r))
	})
	c.get("/documents", guard.Reads, func(r *http.Request) (any, error) {
		all, err := s.env.Documents.Documents(r.Context())
		return map[string]any{"items": append([]api.TrustedDocument{}, all...)}, err
	})
	c.do("POST", "/documents", guard.Administers.WithBody(512<<10), func(r *http.Request) (any, error) {
		var form struct {
			Name string `json:"name"`
			Text string `json:"text"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		return s.env.Documents.Trust(r.Context(), form.Name, form.Text, guard.ActorName(r))
	})
	c.do("DELETE", "/documents/{document}", guard.Administers, func(r *http.Request) (any, error) {
		return map[string]any{}, s.env.Documents.Distrust(r.Context(), chi.URLParam(r, "document"), guard.ActorName(r))
	})
}

// readForm is a read that is to be examined.
type readForm struct {
	// Request is a REST read: from the plural on, or from /content/ on.
	Request       string         `json:"request"`
	Query         string         `json:"query"`
	OperationName string         `json:"operationName"`
	Variables     map[string]any `json:"variables"`
	DocumentID    string         `json:"documentId"`

	Edition string `json:"edition"` // empty: published
	// As is who reads: empty for whoever asks, everyone, or a key by id, name or secret.
	As string `json:"as"`
	// Language is the Accept-Language header.
	Language string `json:"language"`
	Lenient  bool   `json:"lenient"`
	// Explain has PostgreSQL tell how it runs the statements.
	Explain bool `json:"explain"`
}

func (s *API) examine(r *http.Request) (any, error) {
	var form readForm
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	rights, edition, err := s.readsAs(r, &form)
	if err != nil {
		return nil, err
	}
	var out api.Examined
	var compile delivery.Compiler
	text := form.Request
	if form.Query != "" || form.DocumentID != "" {
		req, bad := s.content.NamedDocument(
			graphql.Request{
				Query:         form.Query,
				OperationName: form.OperationName,
				Variables:     form.Variables,
				DocumentID:    form.DocumentID,
			},
		)
		if bad != nil {
			return nil, api.Problem{Kind: "body", Status: 400, Parameter: "documentId", Detail: bad.Message}
		}
		text, compile = "graphql "+
			req.Query, s.content.CompileGraphQL(edition, form.Language, contentapi.GraphqlResponse, req)
	} else if compile, err = s.restRead(&form, edition); err != nil {
		return nil, err
	}
	if err == nil && !rights.AllowsAny(access.Read, edition) {
		path, _, _ := strings.Cut(strings.TrimPrefix(form.Request, "/"), "?")
		err = &access.DeniedError{Grant: s.content.NeedOf(edition, path)}
	}
	var parsing time.Duration
	for try := 0; err == nil && try < 4; try++ {
		begin := time.Now()
		var p *delivery.Plan
		if p, err = s.env.Delivery.Compile(r.Context(), guard.PrincipalOf(r).QueueName(s.guard.Network(r)), text,
			compile); err != nil {
			break
		}
		parsing = time.Since(begin)
		if out, err = s.env.Delivery.Examine(r.Context(), p, rights, delivery.ReadOptions{
			Lenient:   form.Lenient,
			Principal: guard.PrincipalOf(r).QueueName(s.guard.Network(r)),
		}, form.Explain); !errors.Is(
			err, delivery.ErrModelChanged,
		) {
			break
		}
		err = nil
	}
	err = contentapi.WithoutHiddenTypes(rights, edition, err)
	var denied *access.DeniedError
	if errors.As(err, &denied) {
		denied.Everyone = form.As == "everyone"
	}
	if err != nil {
		// The answer is what the reader would get: the same problem, or errors.
		b := guard.Recorded{}
		var refused contentapi.RequestErrors
		if errors.As(err, &refused) {
			contentapi.WriteGraphQLErrors(&b, http.StatusBadRequest, contentapi.GraphqlResponse, refused.List)
		} else {
			s.guard.Fail(&b, r, err)
		}
		return api.Examined{Status: b.Status, Header: b.Header(), Body: b.Body.String()}, nil
	}
	out.Milliseconds.AddParse(parsing)
	if _, missing := guard.ReadsAll.Need(guard.PrincipalOf(r).Rights); !missing {
		err = s.env.Delivery.NameDependencies(r.Context(), &out)
	}
	return out, err
}

// readsAs returns the rights of who is to read, and the edition. Whoever may read
// all of preview may try what everyone, or any key, gets; nobody gets more by it.
func (s *API) readsAs(r *http.Request, form *readForm) (access.Rights, string, error) {
	edition := form.Edition
	if edition == "" {
		edition = "published"
	}
	if !delivery.EditionKnown(edition) {
		return access.Rights{}, "", api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "edition",
			Detail:    "there is no such edition",
			Hint:      "say published or preview",
		}
	}
	own := guard.PrincipalOf(r).Rights
	if form.Explain && !own.Allows(access.Administer) {
		return own, "", &access.DeniedError{Grant: access.Administer}
	}
	switch form.As {
	case "":
		return own, edition, nil
	case "everyone":
		return s.env.Keys.Everyone().Rights, edition, nil
	}
	if missing, is := guard.ReadsAll.Need(own); is {
		return own, "", &access.DeniedError{Grant: missing}
	}
	rights, err := s.env.Keys.RightsOf(r.Context(), form.As)
	if errors.Is(err, db.ErrNotFound) || errors.Is(err, identity.ErrUnknownKey) ||
		errors.Is(err, access.ErrMalformed) {
		detail := "there is no such key"
		if !strings.HasPrefix(form.As, "ubq_") { // a secret is not told back
			detail = "there is no key with the id or name " + strconv.Quote(form.As)
		}
		err = api.Problem{Kind: "body", Status: 400, Parameter: "as", Detail: detail, Hint: "see ubiquon key list"}
	}
	return rights, edition, err
}

// restRead returns what compiles the form's REST read. The edition of an address
// that has one must be the form's.
func (s *API) restRead(form *readForm, edition string) (delivery.Compiler, error) {
	bad := func(detail string) error {
		return api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "request",
			Detail:    detail,
			Hint:      "write it as in /notices?limit=3",
		}
	}
	u, err := url.Parse(form.Request)
	if err != nil || form.Request == "" {
		return nil, bad("it is no address")
	}
	base := "/content/" + s.env.Replica.Environment() + "/" + edition + "/"
	rest := strings.TrimPrefix(u.Path, "/")
	if strings.HasPrefix(u.Path, "/content/") {
		if rest = strings.TrimPrefix(u.Path, base); rest == u.Path {
			return nil, bad("it is not below " + base)
		}
	}
	switch rest {
	case "graphql", "graphql/schema.graphql", "schema", "openapi.json", "changes":
		return nil, bad(rest + " is no read of content")
	}
	u.Scheme, u.Host, u.RawPath, u.Path = "", "", "", base+rest
	one := &http.Request{Method: http.MethodGet, URL: u, Header: http.Header{"Accept-Language": {form.Language}}}
	return func(m *model.Model, _ *graphql.Schema) (*delivery.Plan, error) {
		return contentapi.PlanREST(m, edition, rest, one)
	}, nil
}
