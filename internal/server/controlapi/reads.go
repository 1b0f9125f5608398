package controlapi

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/records"
	"ubiquon/internal/delivery"
	"ubiquon/internal/graphql"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/store/db"
)

// readOperations are what is done with reads: trying them with every detail, keeping them, and
// trusting GraphQL documents.
func readOperations() []*operation.Operation {
	const body = 512 << 10
	return []*operation.Operation{
		operation.Call("POST /reads", "examineRead", "Run a read, and tell everything about it",
			guard.Reads.WithBody(body), (*API).examine).
			WithExample(api.ReadQuestion{Request: "/notices?limit=3", As: "everyone"}),
		operation.Call(
			"GET /reads/saved",
			"listSavedReads",
			"List the reads that were kept",
			guard.Reads,
			(*API).listSavedReads,
		).
			WithExample(api.None{}),
		operation.Call("POST /reads/saved", "saveRead", "Keep a read under a name",
			guard.WritesOrDecides.WithBody(body), (*API).saveRead).
			WithExample(api.NewSavedRead{Name: "latest notices", Read: json.RawMessage(`{"request": "/notices?limit=3"}`)}),
		operation.Call("DELETE /reads/saved/{id}", "forgetRead", "Throw a kept read away",
			guard.WritesOrDecides, (*API).forgetRead),
		operation.Call("GET /records", "getRecordModel", "Describe events and the audit log as types, for filters on them",
			guard.Reads, (*API).recordModel).
			WithExample(api.None{}),
		operation.Call("GET /views", "listViews", "List the views that were saved", guard.Reads, (*API).listViews).
			WithExample(api.None{}),
		operation.Call(
			"POST /views", "saveView", "Save a view of a list under a name", guard.WritesOrDecides, (*API).saveView).
			WithExample(api.NewSavedView{Page: "entries", Name: "drafts of notices", Query: "type=notice&state=draft"}),
		operation.Call(
			"DELETE /views/{id}",
			"removeView",
			"Remove a saved view",
			guard.WritesOrDecides,
			(*API).removeView,
		),
		operation.Call(
			"GET /documents",
			"listDocuments",
			"List the trusted GraphQL documents",
			guard.Reads,
			(*API).listDocuments,
		).
			WithExample(api.None{}),
		operation.Call("POST /documents", "trustDocument", "Trust a GraphQL document",
			guard.Administers.WithBody(body), (*API).trustDocument).
			WithExample(api.NewDocument{Name: "board", Text: "query board { notices(first: 3) { nodes { id } } }"}),
		operation.Call("DELETE /documents/{document}", "distrustDocument", "End the trust in a document",
			guard.Administers, (*API).distrustDocument).
			WithExample(api.DocumentRef{Document: "board"}),
	}
}

func (s *API) listSavedReads(r *http.Request, _ api.None) (api.Items[api.SavedRead], error) {
	return operation.Items(s.env.Documents.SavedReads(r.Context()))
}

func (s *API) saveRead(r *http.Request, in api.NewSavedRead) (api.SavedRead, error) {
	if len(in.Read) == 0 || in.Name == "" {
		return api.SavedRead{}, api.Problem{
			Kind:      "body",
			Status:    http.StatusBadRequest,
			Parameter: "read",
			Detail:    "name the read, and say which it is",
			Hint:      `as in {"name": "notices", "read": {"request": "/notices?limit=3"}}`,
		}
	}
	return s.env.Documents.SaveRead(r.Context(), in.Name, in.Read, guard.ActorName(r))
}

func (s *API) forgetRead(r *http.Request, in api.SavedReadRef) (out api.None, err error) {
	return out, s.env.Documents.ForgetRead(r.Context(), in.ID, guard.ActorName(r))
}

func (s *API) recordModel(*http.Request, api.None) (*model.Model, error) { return records.Model(), nil }

func (s *API) listViews(r *http.Request, _ api.None) (api.Items[api.SavedView], error) {
	return operation.Items(s.env.Documents.Views(r.Context()))
}

func (s *API) saveView(r *http.Request, in api.NewSavedView) (api.SavedView, error) {
	return s.env.Documents.SaveView(r.Context(), in, guard.ActorName(r))
}

func (s *API) removeView(r *http.Request, in api.SavedViewRef) (out api.None, err error) {
	return out, s.env.Documents.RemoveView(r.Context(), in.ID, guard.ActorName(r))
}

func (s *API) listDocuments(r *http.Request, _ api.None) (api.Items[api.TrustedDocument], error) {
	return operation.Items(s.env.Documents.Documents(r.Context()))
}

func (s *API) trustDocument(r *http.Request, in api.NewDocument) (api.TrustedDocument, error) {
	return s.env.Documents.Trust(r.Context(), in.Name, in.Text, guard.ActorName(r))
}

func (s *API) distrustDocument(r *http.Request, in api.DocumentRef) (out api.None, err error) {
	return out, s.env.Documents.Distrust(r.Context(), in.Document, guard.ActorName(r))
}

func (s *API) examine(r *http.Request, form api.ReadQuestion) (api.Examined, error) {
	rights, edition, err := s.readsAs(r, &form)
	if err != nil {
		return api.Examined{}, err
	}
	var out api.Examined
	var compile delivery.Compiler
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
			return api.Examined{}, api.Problem{
				Kind:      "body",
				Status:    400,
				Parameter: "documentId",
				Detail:    bad.Message,
			}
		}
		compile = s.content.CompileGraphQL(edition, form.Language, contentapi.GraphqlResponse, req)
	} else if compile, err = s.restRead(&form, edition); err != nil {
		return api.Examined{}, err
	}
	if err == nil && !rights.AllowsAny(access.Read, edition) {
		path, _, _ := strings.Cut(strings.TrimPrefix(form.Request, "/"), "?")
		err = &access.DeniedError{Grant: s.content.NeedOf(edition, path)}
	}
	var parsing time.Duration
	for try := 0; err == nil && try < 4; try++ {
		begin := time.Now()
		var p *delivery.Plan
		principal := s.guard.QueueName(guard.PrincipalOf(r), r)
		if p, err = s.env.Delivery.Compile(r.Context(), principal, compile); err != nil {
			break
		}
		parsing = time.Since(begin)
		if out, err = s.env.Delivery.Examine(r.Context(), p, rights, delivery.ReadOptions{
			Lenient:   form.Lenient,
			Principal: principal,
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
		return api.Examined{
			Status: b.Status, Header: b.Header(), Body: b.Body.String(), Grants: []string{},
			Statements: []api.TracedStatement{},
		}, nil
	}
	out.Milliseconds.AddParse(parsing)
	if _, missing := guard.ReadsAll.Need(guard.PrincipalOf(r).Rights); !missing {
		err = s.env.Delivery.NameDependencies(r.Context(), &out)
	}
	return out, err
}

// readsAs returns the rights of who is to read, and the edition. Whoever may read
// all of preview may try what everyone, or any key, gets; nobody gets more by it.
func (s *API) readsAs(r *http.Request, form *api.ReadQuestion) (access.Rights, string, error) {
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
func (s *API) restRead(form *api.ReadQuestion, edition string) (delivery.Compiler, error) {
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
		if form.Shapes != nil {
			var err error
			if m, err = m.WithShapes(form.Shapes); err != nil {
				return nil, &query.Error{Parameter: "shape", Detail: err.Error()}
			}
		}
		return contentapi.PlanREST(m, s.env.Delivery.Files, edition, rest, one)
	}, nil
}
