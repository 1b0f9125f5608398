package guard

import (
	"fmt"
	"html"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
)

// WriteProblem writes a problem document as the answer.
func WriteProblem(w http.ResponseWriter, p api.Problem) {
	h := w.Header()
	h.Set("Content-Type", "application/problem+json")
	h.Set("Cache-Control", "no-store")
	if p.Status == http.StatusUnauthorized && h.Get("WWW-Authenticate") == "" {
		h.Set("WWW-Authenticate", `Bearer realm="ubiquon"`)
	}
	w.WriteHeader(p.Status)
	// The reader may be gone; nothing can be done about that.
	_, _ = w.Write(p.Bytes())
}

// ProblemOf returns the problem that an error is told as (see errorCodes). An error that is a fault
// of this service is logged, and told as that.
func (g *Guard) ProblemOf(r *http.Request, err error) api.Problem {
	return g.problemFor(http.Header{}, r, err)
}

// problemFor is ProblemOf, and sets the headers that go with the problem.
func (g *Guard) problemFor(h http.Header, r *http.Request, err error) api.Problem {
	p, known := g.problemOf(h, r, err)
	if !known {
		if r.Context().Err() == nil {
			g.log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		}
		p = api.Problem{Kind: "internal", Status: 500, Detail: "something went wrong here; the log has more"}
	}
	return p
}

// Fail writes the problem document for an error: see ProblemOf. Nothing is written if the client is
// gone.
func (g *Guard) Fail(w http.ResponseWriter, r *http.Request, err error) {
	p := g.problemFor(w.Header(), r, err)
	if p.Kind == "internal" && r.Context().Err() != nil {
		return // the client is gone
	}
	if strings.HasPrefix(r.URL.Path, "/content/") {
		g.Metrics.Content[p.Status/100].Add(1)
	}
	WriteProblem(w, p)
}

// ProblemPage describes a kind of problem, at the address that is its type.
func ProblemPage(w http.ResponseWriter, r *http.Request) {
	kind, ok := api.ProblemKinds[chi.URLParam(r, "name")]
	if !ok {
		WriteProblem(w, api.Problem{Kind: "not-found", Status: 404, Detail: "there is no problem of that name"})
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(
		w,
		"<!doctype html><html lang=en><title>%s</title><body style=\"font:16px/1.5 "+
			"sans-serif;max-width:40em;margin:3em auto\"><h1>%[1]s</h1><p>%s</p></body></html>\n",
		html.EscapeString(kind[0]), html.EscapeString(kind[1]),
	)
}
