package server

import (
	"bytes"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/server/guard"
	"ubiquon/kit"
)

// serveKit serves the package that front ends install, to everyone: it says nothing of the model.
func serveKit(w http.ResponseWriter, r *http.Request) {
	if chi.URLParam(r, "name") != kit.Name {
		guard.WriteProblem(w, api.Problem{
			Kind: "not-found", Status: http.StatusNotFound, Detail: "there is nothing at " + r.URL.Path,
			Hint: "the package is at /kit/" + kit.Name,
		})
		return
	}
	tarball, err := kit.Tarball()
	if err != nil {
		guard.WriteProblem(w, api.Problem{Kind: "not-found", Status: http.StatusNotFound, Detail: err.Error()})
		return
	}
	w.Header().Set("Content-Type", "application/gzip")
	w.Header().Set("Cache-Control", "public, max-age=3600")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(tarball))
}
