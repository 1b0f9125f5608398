package controlapi

import (
	_ "embed"
	"net/http"

	"ubiquon/internal/server/operation"
)

// document is the OpenAPI document of the control endpoints. It is made from Operations by
// tools/apidoc.
//
//go:embed openapi.json
var document []byte

// Document returns the OpenAPI document.
func Document() []byte { return document }

// description answers with the OpenAPI document.
func (s *API) description(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", operation.MediaJSON)
	_, _ = w.Write(document) // the reader may be gone
}
