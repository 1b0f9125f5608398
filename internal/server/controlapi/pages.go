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
		operation.Call(
			"POST /pages/check",
			"checkPages",
			"Make the requests of a site's pages again, and hold what they give against the ledger",
			guard.Administers,
			(*API).checkPages,
		).WithExample(api.PageCheckRequest{Site: "skerry-web"}),
	}
}

func (s *API) checkPages(r *http.Request, in api.PageCheckRequest) (api.PageCheck, error) {
	return s.env.Pages.Check(r.Context(), in.Site)
}

func (s *API) listPages(r *http.Request, in api.PageFilter) (api.SitePages, error) {
	return s.env.Pages.List(r.Context(), in)
}
