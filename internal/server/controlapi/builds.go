package controlapi

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/store/builds"
)

// buildOperations are what is done with sites and their builds.
func buildOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /sites", "listSites", "List sites with their latest builds", guard.ReadsAll, (*API).listSites).
			WithExample(api.None{}),
		operation.Call(
			"POST /sites/{site}/rebuild", "rebuildSite", "Ask for a build of a site", guard.Rebuilds, (*API).rebuild).
			WithExample(api.SiteRebuild{Site: "skerry-web"}),
		operation.Call("GET /builds", "listBuilds", "List builds, the newest first", guard.ReadsAll, (*API).listBuilds).
			WithExample(api.BuildFilter{Site: "skerry-web", Limit: 5}),
		operation.Call("GET /builds/{id}", "getBuild", "Get a build with its log", guard.ReadsAll, (*API).getBuild),
		operation.Call(
			"POST /sites/{site}/test",
			"testSite",
			"Call a site as a test, and get its answer",
			guard.Administers,
			(*API).testSite,
		),
		operation.Call(
			"POST /builds/{id}/cancel",
			"cancelBuild",
			"Take a waiting build back",
			guard.Rebuilds,
			(*API).cancelBuild,
		).
			Fails("not-running"),
		operation.Call("POST /builds/{id}/reports", "reportBuild", "Report how a build goes, with the site's key",
			guard.Reports, (*API).report).Fails("not-running"),
	}
}

func (s *API) listSites(r *http.Request, _ api.None) (api.Items[api.SiteInfo], error) {
	return operation.Items(s.env.Automation.Sites(r.Context()))
}

func (s *API) listBuilds(r *http.Request, f api.BuildFilter) (api.Items[rebuild.Build], error) {
	return operation.Items(s.env.Automation.Builds(r.Context(), f))
}

func (s *API) getBuild(r *http.Request, in api.BuildRef) (rebuild.Build, error) {
	return s.env.Automation.Build(r.Context(), in.ID)
}

func (s *API) rebuild(r *http.Request, in api.SiteRebuild) (rebuild.Build, error) {
	b, err := s.env.Automation.Rebuild(r.Context(), in.Site, guard.ActorName(r), in.Now)
	if err == nil {
		err = s.env.Audit.Note(
			r.Context(), guard.ActorName(r), "build start", in.Site, nil, map[string]any{"build": b.ID, "now": in.Now},
		)
	}
	return b, err
}

func (s *API) testSite(r *http.Request, in api.SiteRef) (api.CallAnswer, error) {
	out, err := s.env.Automation.TestSite(r.Context(), in.Site)
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "site test", in.Site, nil, nil)
	}
	return out, err
}

func (s *API) cancelBuild(r *http.Request, in api.BuildRef) (rebuild.Build, error) {
	b, err := s.env.Automation.CancelBuild(r.Context(), in.ID, guard.ActorName(r))
	if err == nil {
		err = s.env.Audit.Note(
			r.Context(),
			guard.ActorName(r),
			"build cancel",
			b.Site,
			nil,
			map[string]any{"build": b.ID},
		)
	}
	return b, err
}

const (
	maxReportLines = 100
	maxReportLine  = 2000
)

// checkReport returns what is wrong with what a report says besides the state.
func checkReport(in *api.BuildReport) error {
	if len(in.Log) > maxReportLines {
		return operation.BadMember("log", fmt.Sprintf("at most %d lines can be reported at once", maxReportLines))
	}
	for i, line := range in.Log {
		if len(line) > maxReportLine || strings.ContainsRune(line, 0) {
			return operation.BadMember(
				fmt.Sprintf("log[%d]", i),
				fmt.Sprintf("a line has %d bytes at most, and no NUL", maxReportLine),
			)
		}
	}
	if u, err := url.Parse(in.Link); in.Link != "" &&
		(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || len(in.Link) > maxReportLine) {
		return operation.BadMember("link", fmt.Sprintf("%q is no http address", in.Link))
	}
	return nil
}

// report takes a builder's report on a build, with the site's key.
func (s *API) report(r *http.Request, in api.BuildReport) (out rebuild.Build, err error) {
	b, err := s.env.Automation.Build(r.Context(), in.ID)
	if who := guard.PrincipalOf(r); !who.Rights.Allows(access.Administer) &&
		(err != nil || who.Site == "" || who.Site != b.Site) {
		return out, &access.DeniedError{Grant: access.Administer, Everyone: !who.Identified()}
	}
	if err != nil {
		return out, err
	}
	switch rebuild.State(in.State) {
	case "started", rebuild.Finished, rebuild.Failed:
		report := builds.Report{
			Started: in.State == "started", State: rebuild.State(in.State), Error: in.Error, Link: in.Link, Lines: in.Log,
		}
		if err := checkReport(&in); err != nil {
			return out, err
		}
		return s.env.Automation.ReportBuild(r.Context(), b.ID, report)
	}
	return out, operation.BadMember("state", fmt.Sprintf("%q is none of started, finished, failed", in.State))
}
