package controlapi

import (
	"fmt"
	"net/http"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// entryOperations are what is done with entries.
func entryOperations() []*operation.Operation {
	writes := guard.WritesOrDecides.WithBody(guard.ContentBody)
	return append([]*operation.Operation{
		operation.Call("GET /entries", "listEntries", "List entries, the latest edited first",
			guard.Reads.InTurn(), (*API).listEntries).
			WithExample(api.EntryFilter{Type: "notice", Search: "fog", Limit: 5}),
		operation.Call("POST /edits", "edit", "Save, publish, unpublish, review or delete entries, all or none",
			writes, (*API).edit).Fails("content", "conflict", "referred", "foreign").
			WithExample(api.Edits{Edits: []api.Edit{{
				ID: "ice-on-the-piers", Type: "notice", Save: content.Fields{"title": map[string]any{"en": "Ice on the piers"}},
				Message: "first draft",
			}}}),
		operation.Call("GET /entries/{id}", "getEntry", "Get an entry with its history", guard.Reads, (*API).getEntry).
			WithExample(api.EntryRef{ID: "ice-on-the-piers"}),
		operation.Call("PUT /entries/{id}", "saveEntry", "Save an entry, if its revision is the one in If-Match",
			writes, (*API).putEntry).Fails("content", "conflict", "referred", "foreign"),
		operation.Call("POST /entries/{id}/duplicate", "duplicateEntry", "Save a copy of an entry as a draft",
			guard.WritesOrDecides, (*API).duplicate).Fails("content").
			WithExample(api.EntryRef{ID: "ice-on-the-piers"}),
		operation.Call("GET /entries/{id}/revisions/{number}", "getRevision", "Get a revision of an entry",
			guard.Reads, (*API).getRevision).
			WithExample(api.RevisionRef{EntryRef: api.EntryRef{ID: "ice-on-the-piers"}, Number: 1}),
		operation.Call("GET /entries/{id}/differences", "compareRevisions", "Compare two revisions of an entry",
			guard.Reads, (*API).differences).
			WithExample(api.RevisionRange{EntryRef: api.EntryRef{ID: "ice-on-the-piers"}}),
		operation.Call("POST /entries/{id}/open", "openEntry", "Say that somebody has the entry open, and learn who else has",
			guard.Reads, (*API).sawOpen).
			WithExample(api.EntryOpen{EntryRef: api.EntryRef{ID: "ice-on-the-piers"}, Session: "a-tab-of-mine"}),
		operation.Call("POST /prose", "renderProse", "Render a text as readers of drafts would get it",
			guard.ReadsAll.WithBody(1<<20).InTurn(), (*API).renderProse).
			WithExample(api.ProseText{Text: "Take the *stairs on the left*."}),
		operation.Call("GET /linked-drafts", "listLinkedDrafts", "List the drafts that entries refer to",
			guard.ReadsAll, (*API).linkedDrafts).
			WithExample(api.EntryIDs{IDs: []string{"ice-on-the-piers"}}),
		operation.Call("GET /coverage", "getCoverage", "Say how much of each type is translated into each locale",
			guard.ReadsAll.InTurn(), (*API).coverage).
			WithExample(api.None{}),
	}, transferOperations()...)
}

// mayRead lets those read an entry who may read its type's drafts.
func (s *API) mayRead(r *http.Request, id string) error {
	return s.guard.RequireOnEntry(r, id, access.Read, content.Preview)
}

func (s *API) getEntry(r *http.Request, in api.EntryRef) (out api.EntryDetail, err error) {
	if err := s.mayRead(r, in.ID); err != nil {
		return out, err
	}
	out, err = s.env.Diagnosis.Entry(r.Context(), in.ID)
	out.ReferredBy = visibleReferrers(r, out.ReferredBy)
	return out, err
}

func (s *API) duplicate(r *http.Request, in api.EntryRef) (out api.EditOutcome, err error) {
	if err := s.guard.RequireOnEntry(r, in.ID, access.Write, content.Preview); err != nil {
		return out, err
	}
	made, done, err := s.env.Authoring.Duplicate(r.Context(), in.ID, guard.ActorName(r))
	return outcome(done, made), err
}

func (s *API) getRevision(r *http.Request, in api.RevisionRef) (out content.Revision, err error) {
	if err := s.mayRead(r, in.ID); err != nil {
		return out, err
	}
	return s.env.Authoring.Revision(r.Context(), in.ID, in.Number)
}

func (s *API) linkedDrafts(r *http.Request, in api.EntryIDs) (api.Items[api.EntryInfo], error) {
	return operation.Items(s.env.Authoring.LinkedDrafts(r.Context(), in.IDs))
}

func (s *API) coverage(r *http.Request, _ api.None) (api.LocaleCoverage, error) {
	all, err := operation.Items(s.env.Authoring.Coverage(r.Context()))
	return api.LocaleCoverage{Locales: s.env.Replica.Model().Locales, Items: all.Items}, err
}

func (s *API) listEntries(r *http.Request, f api.EntryFilter) (api.Page[api.EntryInfo], error) {
	if f.State != "" && !slices.Contains(content.States, f.State) {
		return api.Page[api.EntryInfo]{}, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "state",
			Detail: fmt.Sprintf(
				"there is no state %q%s", f.State, strictyaml.DidYouMean(string(f.State), stateNames()),
			),
		}
	}
	f.Types = guard.PrincipalOf(r).Rights.WholeTypes(access.Read, "preview", s.env.Replica.Model().TypeNames())
	return operation.Page(s.env.Authoring.Entries(r.Context(), f))
}

func stateNames() []string {
	out := make([]string, len(content.States))
	for i, s := range content.States {
		out[i] = string(s)
	}
	return out
}

// sawOpen notes that somebody has the entry open, or, with closed, no longer.
func (s *API) sawOpen(r *http.Request, in api.EntryOpen) (api.EntryOthers, error) {
	if err := s.mayRead(r, in.ID); err != nil {
		return api.EntryOthers{}, err
	}
	if len(in.Session) < 8 || len(in.Session) > 100 {
		return api.EntryOthers{}, operation.BadMember(
			"session", "name the session with 8 to 100 characters of your own choice",
		)
	}
	who := guard.ActorName(r)
	if in.Closed {
		who = ""
	}
	if len(in.Field) > 200 {
		return api.EntryOthers{}, operation.BadMember("field", "a field's name has at most 200 bytes")
	}
	there, err := s.env.Authoring.SawOpen(r.Context(), in.ID, in.Session, who, in.Field)
	out := api.EntryOthers{Others: []string{}, Editing: []api.FieldEditor{}}
	for _, other := range there {
		if !slices.Contains(out.Others, other.Who) {
			out.Others = append(out.Others, other.Who)
		}
		if other.Field != "" {
			out.Editing = append(out.Editing, other)
		}
	}
	return out, err
}

func (s *API) renderProse(r *http.Request, in api.ProseText) (api.RenderedProse, error) {
	return s.env.Authoring.RenderProse(r.Context(), in)
}
