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

// Fail writes the problem document for an error: see errorCodes. Nothing is written if the
// client is gone.
func (g *Guard) Fail(w http.ResponseWriter, r *http.Request, err error) {
	p, known := g.problemOf(w.Header(), r, err)
	switch {
	case known:
	case r.Context().Err() != nil:
		return // the client is gone
	default:
		g.log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		p = api.Problem{Kind: "internal", Status: 500, Detail: "something went wrong here; the log has more"}
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
