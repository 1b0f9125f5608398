package controlapi

import (
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// pageOperations are what is asked of the pages of sites.
func pageOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call(
			"GET /pages",
			"listPages",
			"List the pages of a site, with what they read and since when they are stale",
			guard.ReadsAll,
			(*API).listPages,
		).WithExample(api.PageFilter{Site: "skerry-web", Limit: 2}),
	}
}

func (s *API) listPages(r *http.Request, in api.PageFilter) (api.SitePages, error) {
	return s.env.Pages.List(r.Context(), in)
}
