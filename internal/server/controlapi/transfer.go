package controlapi

import (
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// transferOperations take in and give out entries as NDJSON.
func transferOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Lines("POST /import", "importEntries", "Take in entries as NDJSON, as the export writes them",
			guard.Administers.WithBody(guard.UnboundedBody), (*API).importLines).
			Takes(operation.MediaLines).Fails("bad-line"),
		operation.Raw[*API, api.ExportFilter, content.Entry]("GET /export", "exportEntries", "Export entries as NDJSON",
			guard.Reads.InTurn(), (*API).export).AnswersWith(operation.MediaLines).
			WithExample(api.ExportFilter{Types: []string{"notice"}}),
	}
}

// importLines takes in entries as NDJSON, and sends its progress while they arrive.
func (s *API) importLines(r *http.Request, in api.ImportOptions, send func(api.ImportProgress)) error {
	if in.Bad != "" && in.Bad != "skip" && in.Bad != "stop" {
		return api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: "bad", Detail: "bad is skip or stop",
		}
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "import", "", nil, map[string]any{
		"check": in.Check, "after": in.After, "bad": in.Bad,
	}); err != nil {
		return err
	}
	return s.env.Authoring.Import(r.Context(), r.Body, guard.ActorName(r), in, send)
}

// export writes entries as NDJSON.
func (s *API) export(w http.ResponseWriter, r *http.Request, in api.ExportFilter) {
	needs := []access.Need{{Verb: access.Read, Edition: content.Preview, Type: access.Any}}
	if in.Types != nil {
		needs = nil
		for _, t := range in.Types {
			needs = append(needs, access.Need{Verb: access.Read, Edition: content.Preview, Type: t})
		}
	}
	if err := guard.Require(r, needs...); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "export", "", nil, map[string]any{
		"types": in.Types, "origin": access.Printable(in.Origin), "revisions": in.Revisions,
	}); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	out := guard.NewStream(w)
	w.Header().Set("Content-Type", operation.MediaLines)
	counted := &countingWriter{w: w}
	if _, err := s.env.Authoring.Export(r.Context(), counted, in.Types, in.Origin, in.Revisions); err != nil {
		if counted.n == 0 {
			s.guard.Fail(w, r, err)
			return
		}
		// Half an export must not look like a whole one.
		s.log.Error("an export broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
	_ = out.Out.Flush() // the reader may be gone
}

type countingWriter struct {
	w http.ResponseWriter
	n int
}

// Write implements io.Writer.
func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += n
	return n, err
}
