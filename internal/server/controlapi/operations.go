package controlapi

import (
	"net/http"
	"slices"

	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/server/originapi"

	"github.com/go-chi/chi/v5"
)

// originArea is the area that a package of its own serves.
const originArea = "Events and origins"

// Operations lists the operations in the order of the document.
func Operations() []*operation.Operation {
	var out []*operation.Operation
	for _, area := range []struct {
		name string
		all  []*operation.Operation
	}{
		{"Session", sessionOperations()},
		{"Model", modelOperations()},
		{"Entries", entryOperations()},
		{"Schedules", scheduleOperations()},
		{"Preview links", previewOperations()},
		{"Reads", readOperations()},
		{"Diagnosis", whyOperations()},
		{"Keys", keyOperations()},
		{"Accounts", accountOperations()},
		{originArea, originapi.Operations()},
		{"Sites and builds", slices.Concat(buildOperations(), pageOperations())},
		{"Rules", ruleOperations()},
		{"Files", fileOperations()},
		{"Settings", settingOperations()},
		{"Cache and changes", cacheOperations()},
	} {
		for _, op := range area.all {
			op.Area = area.name
			out = append(out, op)
		}
	}
	return out
}

// Mount mounts the control endpoints, and the document that describes them.
func (s *API) Mount(r chi.Router) {
	for _, op := range Operations() {
		host := any(s)
		if op.Area == originArea {
			host = s.origins
		}
		r.Method(op.Method, op.Path, s.guard.Guard(op.Permit, op.Handler(host)))
	}
	r.Method("GET", "/openapi.json", s.guard.Guard(guard.Anybody, http.HandlerFunc(s.description)))
}
