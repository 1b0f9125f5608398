package controlapi

import (
	"net/http"
	"reflect"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// auditOperations are what is asked of the audit log.
func auditOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Raw[*API, api.AuditFilter, api.Items[api.AuditRecord]]("GET /audit", "listAudit",
			"List the audit log, the newest first; with Accept: application/x-ndjson, export it",
			guard.Administers.InTurn(), (*API).audit).
			Or(reflect.TypeFor[api.AuditRecord](), operation.MediaLines).
			WithExample(api.AuditFilter{What: "key", Limit: 5}),
		operation.Call("GET /audit/verify", "verifyAudit", "Check that no line of the audit log was changed or taken out",
			guard.Administers.InTurn(), (*API).verifyAudit).
			WithExample(api.AuditCheck{}),
	}
}

func (s *API) verifyAudit(r *http.Request, in api.AuditCheck) (api.AuditState, error) {
	return s.env.Audit.Verify(r.Context(), in.Contains)
}

// audit lists the audit log, or exports it as NDJSON.
func (s *API) audit(w http.ResponseWriter, r *http.Request, f api.AuditFilter) {
	if !strings.Contains(r.Header.Get("Accept"), operation.MediaLines) {
		out, err := operation.Items(s.env.Audit.Acts(r.Context(), f))
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		guard.WriteJSON(w, http.StatusOK, out)
		return
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "audit export", "", nil,
		map[string]string{"filter": access.Printable(r.URL.RawQuery)}); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	out := guard.NewStream(w)
	w.Header().Set("Content-Type", operation.MediaLines)
	const page = 500
	for left := f.Limit; ; {
		f.Limit = page
		if left > 0 {
			f.Limit = min(page, left)
		}
		acts, err := s.env.Audit.Acts(r.Context(), f)
		if err != nil && !out.Started {
			s.guard.Fail(w, r, err)
			return
		}
		if err != nil {
			s.log.Error("an export of the audit log broke off", "error", err)
			panic(http.ErrAbortHandler)
		}
		for i := range acts {
			out.Write(acts[i])
			f.Below = acts[i].ID
		}
		if left -= len(acts); len(acts) < page || left == 0 {
			return
		}
	}
}
