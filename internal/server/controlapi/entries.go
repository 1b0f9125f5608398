package controlapi

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/db"
)

// routeEntries mounts what is done with entries.
func (s *API) routeEntries(c routes) {
	id := func(r *http.Request) string { return chi.URLParam(r, "id") }
	// seen lets those read an entry who may read its type's drafts.
	seen := func(f func(*http.Request) (any, error)) func(*http.Request) (any, error) {
		return func(r *http.Request) (any, error) {
			if err := s.guard.RequireOnEntry(r, id(r), access.Read, "preview"); err != nil {
				return nil, err
			}
			return f(r)
		}
	}
	c.get("/entries", guard.Reads.InTurn(), s.listEntries)
	c.do("POST", "/edits", guard.WritesOrDecides.WithBody(guard.ContentBody), s.edit)
	c.get("/entries/{id}", guard.Reads, seen(func(r *http.Request) (any, error) {
		e, err := s.env.Diagnosis.Entry(r.Context(), id(r))
		e.ReferredBy = visibleReferrers(r, e.ReferredBy)
		return entryAnswer{e}, err
	}))
	c.do("PUT", "/entries/{id}", guard.WritesOrDecides.WithBody(guard.ContentBody), s.putEntry)
	c.do("POST", "/entries/{id}/duplicate", guard.WritesOrDecides, func(r *http.Request) (any, error) {
		if err := s.guard.RequireOnEntry(r, id(r), access.Write, "preview"); err != nil {
			return nil, err
		}
		made, done, err := s.env.Authoring.Duplicate(r.Context(), id(r), guard.ActorName(r))
		return outcome(done, made), err
	})
	c.get("/entries/{id}/revisions/{number}", guard.Reads, seen(func(r *http.Request) (any, error) {
		n, err := strconv.ParseInt(chi.URLParam(r, "number"), 10, 32)
		if err != nil {
			return nil, db.ErrNotFound
		}
		return s.env.Authoring.Revision(r.Context(), id(r), int(n))
	}))
	c.get("/entries/{id}/differences", guard.Reads, seen(s.differences))
	c.do("POST", "/entries/{id}/preview", guard.Reads, seen(s.preview))
	c.do("POST", "/entries/{id}/open", guard.Reads, seen(s.sawOpen))
	c.get("/linked-drafts", guard.ReadsAll, func(r *http.Request) (any, error) {
		p, err := guard.QueryValues(r, "ids")
		if err != nil {
			return nil, err
		}
		items, err := s.env.Authoring.LinkedDrafts(r.Context(), strings.Split(p["ids"], ","))
		return map[string]any{"items": items}, err
	})
	c.get("/coverage", guard.ReadsAll.InTurn(), func(r *http.Request) (any, error) {
		items, err := s.env.Authoring.Coverage(r.Context())
		return map[string]any{"locales": s.env.Replica.Model().Locales, "items": items}, err
	})
	c.handle("POST", "/import", guard.Administers.WithBody(guard.UnboundedBody), http.HandlerFunc(s.importLines))
	c.handle("GET", "/export", guard.Reads.InTurn(), http.HandlerFunc(s.export))
}

// entryAnswer is an entry with its entity tag.
type entryAnswer struct{ api.EntryDetail }

// RevisionNumber implements guard.Revised.
func (e entryAnswer) RevisionNumber() int { return e.Revision }

func (s *API) listEntries(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "type", "origin", "state", "search", "missing", "refersTo", "ids", "limit", "offset")
	if err != nil {
		return nil, err
	}
	f := api.EntryFilter{
		Type:     p["type"],
		Origin:   p["origin"],
		State:    content.State(p["state"]),
		Search:   p["search"],
		Missing:  p["missing"],
		RefersTo: p["refersTo"],
	}
	if p["ids"] != "" {
		f.IDs = strings.Split(p["ids"], ",")
	}
	if f.State != "" && !slices.Contains(content.States, f.State) {
		return nil, api.Problem{
			Kind:      "parameter",
			Status:    400,
			Parameter: "state",
			Detail: fmt.Sprintf(
				"there is no state %q%s", p["state"], strictyaml.DidYouMean(p["state"], stateNames()),
			),
		}
	}
	f.Types = guard.PrincipalOf(r).Rights.WholeTypes(access.Read, "preview", s.env.Replica.Model().TypeNames())
	if f.Limit, err = guard.Number(p, "limit"); err != nil {
		return nil, err
	}
	if f.Offset, err = guard.Number(p, "offset"); err != nil {
		return nil, err
	}
	items, total, err := s.env.Authoring.Entries(r.Context(), f)
	return map[string]any{"items": items, "total": total}, err
}

func stateNames() []string {
	out := make([]string, len(content.States))
	for i, s := range content.States {
		out[i] = string(s)
	}
	return out
}

// preview makes a link that reads the entry in preview.
func (s *API) preview(r *http.Request) (any, error) {
	form := struct {
		Locale   string `json:"locale"`
		Minutes  int    `json:"minutes"`
		WaysBack bool   `json:"waysBack"`
	}{Minutes: 60}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	good := time.Duration(min(max(form.Minutes, 0), 1<<20)) * time.Minute
	return s.env.PreviewLinks.MakePreviewLink(
		r.Context(), chi.URLParam(r, "id"),
		identity.LinkOptions{Locale: form.Locale, Good: good, Backs: form.WaysBack}, guard.PrincipalOf(r),
	)
}

// routePreviewLinks mounts what is done with links that were made: those who may read
// an entry's drafts see the links to it, and who may administer, or has made one, ends
// it.
func (s *API) routePreviewLinks(c routes) {
	c.get("/previews", guard.Reads, func(r *http.Request) (any, error) {
		p, err := guard.QueryValues(r, "entry")
		if err != nil {
			return nil, err
		}
		all, err := s.env.PreviewLinks.PreviewLinks(r.Context(), p["entry"])
		types := guard.PrincipalOf(r).Rights.WholeTypes(access.Read, content.Preview, s.env.Replica.Model().TypeNames())
		all = slices.DeleteFunc(all, func(l api.PreviewLink) bool { return !slices.Contains(types, l.Type) })
		return map[string]any{"items": append([]api.PreviewLink{}, all...)}, err
	})
	c.do("DELETE", "/previews/{preview}", guard.Reads, func(r *http.Request) (any, error) {
		l, err := s.env.PreviewLinks.PreviewLink(r.Context(), chi.URLParam(r, "preview"))
		if err == nil && l.By != guard.ActorName(r) {
			err = guard.Require(r, access.Administer)
		}
		if err == nil {
			err = s.env.PreviewLinks.RevokePreviewLink(r.Context(), l.ID, guard.ActorName(r))
		}
		return map[string]bool{"revoked": err == nil}, err
	})
}

// sawOpen notes that somebody has the entry open, or, with closed, no longer.
func (s *API) sawOpen(r *http.Request) (any, error) {
	var form struct {
		Session string `json:"session"`
		Closed  bool   `json:"closed"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	if len(form.Session) < 8 || len(form.Session) > 100 {
		return nil, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "session",
			Detail:    "name the session with 8 to 100 characters of your own choice",
		}
	}
	who := guard.ActorName(r)
	if form.Closed {
		who = ""
	}
	others, err := s.env.Authoring.SawOpen(r.Context(), chi.URLParam(r, "id"), form.Session, who)
	return map[string]any{"others": append([]string{}, others...)}, err
}

// importLines takes in entries as NDJSON, and answers with its progress as
// NDJSON while they arrive.
func (s *API) importLines(w http.ResponseWriter, r *http.Request) {
	p, err := guard.QueryValues(r, "check", "after", "bad")
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	o := api.ImportOptions{Check: p["check"] == "true", StopAtBad: p["bad"] == "stop"}
	if o.After, err = guard.Number(p, "after"); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "import", "", nil, o); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	out := guard.NewStream(w)
	// What is left of the body must be read before the handler ends, for the
	// answer has begun already.
	defer io.Copy(io.Discard, r.Body)
	if err := s.env.Authoring.Import(r.Context(), r.Body, guard.ActorName(r), o,
		func(p api.ImportProgress) { out.Write(p) }); err != nil {
		if !out.Started {
			s.guard.Fail(w, r, err)
			return
		}
		out.Write(map[string]any{"problem": map[string]string{"detail": err.Error()}})
	}
}

// export writes entries as NDJSON.
func (s *API) export(w http.ResponseWriter, r *http.Request) {
	p, err := guard.QueryValues(r, "type", "origin", "revisions")
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	var types []string
	if p["type"] != "" {
		types = strings.Split(p["type"], ",")
	}
	needs := []access.Need{{Verb: access.Read, Edition: content.Preview, Type: access.Any}}
	if types != nil {
		needs = nil
		for _, t := range types {
			needs = append(needs, access.Need{Verb: access.Read, Edition: content.Preview, Type: t})
		}
	}
	if err := guard.Require(r, needs...); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "export", "", nil, map[string]any{
		"types":  types,
		"origin": access.Printable(p["origin"]), "revisions": p["revisions"] == "true",
	}); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	out := guard.NewStream(w)
	w.Header().Set("Content-Type", "application/x-ndjson")
	counted := &countingWriter{w: w}
	if _, err := s.env.Authoring.Export(r.Context(), counted, types, p["origin"],
		p["revisions"] == "true"); err != nil {
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
