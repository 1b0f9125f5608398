package controlapi

import (
	"net/http"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// previewOperations are what is done with preview links: those who may read an entry's drafts
// make links and see them, and who may administer, or has made one, ends it.
func previewOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("POST /entries/{id}/preview", "createPreviewLink", "Make a link that reads an entry in preview",
			guard.Reads, (*API).preview).
			WithExample(api.PreviewOptions{EntryRef: api.EntryRef{ID: "ice-on-the-piers"}}),
		operation.Call("GET /previews", "listPreviewLinks", "List preview links that have not expired",
			guard.Reads, (*API).listPreviews).
			WithExample(api.PreviewFilter{Entry: "ice-on-the-piers"}),
		operation.Call("DELETE /previews/{preview}", "revokePreviewLink", "Revoke a preview link",
			guard.Reads, (*API).revokePreview),
	}
}

// preview makes a link that reads the entry in preview.
func (s *API) preview(r *http.Request, in api.PreviewOptions) (out api.IssuedPreviewLink, err error) {
	if err := s.mayRead(r, in.ID); err != nil {
		return out, err
	}
	minutes := 60
	if in.Minutes != nil {
		minutes = *in.Minutes
	}
	good := time.Duration(min(max(minutes, 0), 1<<20)) * time.Minute
	return s.env.PreviewLinks.MakePreviewLink(
		r.Context(), in.ID, identity.LinkOptions{Locale: in.Locale, Good: good, Backs: in.WaysBack},
		guard.PrincipalOf(r),
	)
}

func (s *API) listPreviews(r *http.Request, in api.PreviewFilter) (api.Items[api.PreviewLink], error) {
	all, err := s.env.PreviewLinks.PreviewLinks(r.Context(), in.Entry)
	types := guard.PrincipalOf(r).Rights.WholeTypes(access.Read, content.Preview, s.env.Replica.Model().TypeNames())
	return operation.Items(
		slices.DeleteFunc(all, func(l api.PreviewLink) bool { return !slices.Contains(types, l.Type) }),
		err,
	)
}

func (s *API) revokePreview(r *http.Request, in api.PreviewRef) (api.Revoked, error) {
	l, err := s.env.PreviewLinks.PreviewLink(r.Context(), in.Preview)
	if err == nil && l.By != guard.ActorName(r) {
		err = guard.Require(r, access.Administer)
	}
	if err == nil {
		err = s.env.PreviewLinks.RevokePreviewLink(r.Context(), l.ID, guard.ActorName(r))
	}
	return api.Revoked{Revoked: err == nil}, err
}
