package controlapi

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/diagnose"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/accounts"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
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
type entryAnswer struct{ diagnose.EntryDetail }

func (e entryAnswer) revision() int { return e.Revision }

func (s *API) listEntries(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "type", "origin", "state", "search", "missing", "refersTo", "ids", "limit", "offset")
	if err != nil {
		return nil, err
	}
	f := entries.EntryFilter{
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
		return nil, guard.Problem{
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

// editForm is one edit of an entry that is written here: what is saved, and what
// is done then.
type editForm struct {
	ID   string `json:"id"` // empty: a new one is given
	Type string `json:"type"`
	// Save is the whole of the fields.
	Save    content.Fields `json:"save"`
	Message string         `json:"message"`
	Do      string         `json:"do"` // one of edits, or empty
	// Locales that publish and unpublish are for; none means all.
	Locales []string `json:"locales"`
	// Revision that restore saves anew, or publish publishes.
	Revision int    `json:"revision"`
	Remark   string `json:"remark"` // of submit, approve and return
	// EvenIfReferred deletes or retires what others refer to.
	EvenIfReferred bool `json:"evenIfReferred"`
	// IfRevision refuses the edit when the newest revision is another.
	IfRevision int `json:"ifRevision"`
}

// edits has, by its name, what an edit does.
var edits = map[string]func(*editForm, *writing.Edit){
	"":          func(*editForm, *writing.Edit) {},
	"publish":   func(f *editForm, e *writing.Edit) { e.Live, e.PublishRevision = writing.PublishNewest, f.Revision },
	"unpublish": func(_ *editForm, e *writing.Edit) { e.Live = writing.TakeBack },
	"discard":   func(_ *editForm, e *writing.Edit) { e.Discard = true },
	"restore":   func(f *editForm, e *writing.Edit) { e.Restore = f.Revision },
	"submit":    func(_ *editForm, e *writing.Edit) { e.Review = content.Submitted },
	"approve":   func(_ *editForm, e *writing.Edit) { e.Review = content.Approved },
	"return":    func(_ *editForm, e *writing.Edit) { e.Review = content.Returned },
	"retire":    func(_ *editForm, e *writing.Edit) { e.Retire = true },
	"delete":    func(_ *editForm, e *writing.Edit) { e.Delete = true },
}

// maxEdits bounds what one write may do.
const maxEdits = 200

// compile turns the form into an edit; at is where it stands in the body.
func (s *API) compile(f *editForm, at string) (writing.Edit, error) {
	bad := func(name, format string, args ...any) error {
		return guard.Problem{Kind: "body", Status: 400, Parameter: at + name, Detail: fmt.Sprintf(format, args...)}
	}
	if f.ID == "" && f.Save != nil {
		f.ID = content.NewID()
	}
	do, known := edits[f.Do]
	m := s.env.Replica.Model()
	switch {
	case !content.ValidID(f.ID):
		return writing.Edit{}, bad("id", "%q is no id; use a-z, 0-9 and hyphens, 64 at most", f.ID)
	case !known:
		var names []string
		for name := range edits {
			names = append(names, name)
		}
		slices.Sort(names)
		return writing.Edit{}, bad(
			"do", "there is nothing named %q to do%s", f.Do, strictyaml.DidYouMean(f.Do, names[1:]),
		)
	case f.Do == "restore" && f.Revision < 1:
		return writing.Edit{}, bad("revision", "name the revision to restore")
	case f.Save != nil && m.Type(f.Type) == nil:
		return writing.Edit{}, bad(
			"type", "there is no type %q%s", f.Type, strictyaml.DidYouMean(f.Type, m.TypeNames()),
		)
	case f.Locales != nil && f.Do != "publish" && f.Do != "unpublish":
		return writing.Edit{}, bad("locales", "only publish and unpublish are for some locales")
	case f.Locales != nil && len(f.Locales) == 0:
		return writing.Edit{}, bad("locales", "name at least one, or leave locales out for all")
	}
	e := writing.Edit{
		ID:             f.ID,
		Type:           f.Type,
		Origin:         content.Local,
		Save:           f.Save,
		Message:        f.Message,
		Locales:        f.Locales,
		Remark:         f.Remark,
		EvenIfReferred: f.EvenIfReferred,
		IfRevision:     f.IfRevision,
	}
	do(f, &e)
	return e, nil
}

func (s *API) edit(r *http.Request) (any, error) {
	var form struct {
		Edits []editForm `json:"edits"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	if len(form.Edits) == 0 || len(form.Edits) > maxEdits {
		return nil, guard.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "edits",
			Detail:    fmt.Sprintf("%d edits given; send 1 to %d", len(form.Edits), maxEdits),
		}
	}
	wanted, err := guard.WantedRevision(r)
	if err != nil {
		return nil, err
	}
	all := make([]writing.Edit, len(form.Edits))
	for i := range form.Edits {
		if all[i], err = s.compile(&form.Edits[i], fmt.Sprintf("edits[%d].", i)); err != nil {
			return nil, err
		}
		if wanted != 0 && len(all) == 1 {
			all[i].IfRevision = wanted
		}
	}
	return s.apply(r, all)
}

// putEntry saves the whole of an entry's fields.
func (s *API) putEntry(r *http.Request) (any, error) {
	form := editForm{}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	wanted, err := guard.WantedRevision(r)
	if err != nil {
		return nil, err
	}
	form.ID = chi.URLParam(r, "id")
	if wanted != 0 {
		form.IfRevision = wanted
	}
	e, err := s.compile(&form, "")
	if err != nil {
		return nil, err
	}
	return s.apply(r, []writing.Edit{e})
}

// editOutcome is what edits came to.
type editOutcome struct {
	// Sequence of the last change, 0 if no reader could see a difference.
	Sequence int64         `json:"sequence"`
	Changes  int           `json:"changes"`
	Entries  []editedEntry `json:"entries"`
	// Warnings tell of what is stored, and not delivered as it is.
	Warnings content.Problems `json:"warnings,omitempty"`
	// Confirmed says, to a request that would wait, whether every node knows of it;
	// Unconfirmed are those of which that is not known.
	Confirmed   *bool    `json:"confirmed,omitempty"`
	Unconfirmed []string `json:"unconfirmed,omitempty"`
}

type editedEntry struct {
	ID       string `json:"id"`
	Revision int    `json:"revision"` // 0 when it is gone
}

// status is 202 when it is stored, and not known to be served everywhere that it should.
func (o editOutcome) status() int {
	if o.Confirmed != nil && !*o.Confirmed {
		return http.StatusAccepted
	}
	return http.StatusOK
}

func outcome(done writing.Applied, ids ...string) editOutcome {
	out := editOutcome{Sequence: done.Sequence, Changes: len(done.Changes), Entries: []editedEntry{}}
	for _, id := range ids {
		out.Entries = append(out.Entries, editedEntry{ID: id, Revision: done.Revisions[id]})
	}
	return out
}

// mayApply checks what each of the edits takes, given the type of its entry.
func (s *API) mayApply(r *http.Request, all []writing.Edit) error {
	var ids []string
	for i := range all {
		ids = append(ids, all[i].ID)
	}
	present, err := s.env.Authoring.EntryAccess(r.Context(), ids)
	if err != nil {
		return err
	}
	for i := range all {
		e := &all[i]
		typ := present[e.ID].Type
		if typ == "" {
			typ = e.Type
		}
		if typ == "" {
			return fmt.Errorf("entry %s: %w", e.ID, db.ErrNotFound)
		}
		var needs []access.Need
		if e.Save != nil || e.Discard || e.Restore != 0 || e.Delete || e.Retire || e.Review == content.Submitted {
			needs = append(needs, access.Need{Verb: access.Write, Edition: content.Preview, Type: typ})
		}
		decides := e.Live != writing.KeepLive || (e.Retire || e.Delete) && present[e.ID].Published ||
			e.Review != "" && e.Review != content.Submitted
		for _, locale := range e.Locales {
			needs = append(
				needs, access.Need{Verb: access.Publish, Edition: content.Published, Type: typ, Locale: locale},
			)
		}
		if decides && e.Locales == nil {
			needs = append(needs, access.Need{Verb: access.Publish, Edition: content.Published, Type: typ})
		}
		if err := guard.Require(r, needs...); err != nil {
			return err
		}
	}
	return nil
}

func (s *API) apply(r *http.Request, all []writing.Edit) (any, error) {
	if err := s.mayApply(r, all); err != nil {
		return nil, err
	}
	done, err := s.env.Authoring.Apply(r.Context(), all, guard.ActorName(r), content.Cause{Kind: "user", Name: guard.ActorName(r)})
	var lost *writing.ConflictError
	if errors.As(err, &lost) {
		return nil, s.bothSides(r, lost, all)
	}
	var referred *writing.ReferredError
	if errors.As(err, &referred) {
		return nil, onlyVisible(r, referred)
	}
	if err != nil {
		return nil, err
	}
	var ids []string
	for i := range all {
		ids = append(ids, all[i].ID)
	}
	out := outcome(done, ids...)
	for i := range all {
		if t := s.env.Replica.Model().Type(all[i].Type); t != nil && all[i].Save != nil {
			out.Warnings = append(out.Warnings, content.Lost(t, all[i].ID, all[i].Save)...)
		}
	}
	s.confirm(r, done, &out)
	return out, nil
}

// visibleReferrers are those of the referrers whose drafts who asks may read.
func visibleReferrers(r *http.Request, all []writing.Referrer) []writing.Referrer {
	rights := guard.PrincipalOf(r).Rights
	return slices.DeleteFunc(all, func(one writing.Referrer) bool {
		return !rights.Allows(access.Need{Verb: access.Read, Edition: content.Preview, Type: one.Type})
	})
}

// onlyVisible is the error of what others refer to, as who asks may know it.
func onlyVisible(r *http.Request, err *writing.ReferredError) error {
	n := len(err.By)
	err.By = visibleReferrers(r, err.By)
	if len(err.By) == n {
		return err
	}
	return guard.Problem{Kind: "referred", Status: http.StatusConflict, ReferredBy: err.By,
		Detail: fmt.Sprintf(
			"entry %s is referred to by %d entries, of which you may read %d; take the references out first, or "+
				"delete it even so",
			err.Entry, n, len(err.By),
		)}
}

// bothSides makes a problem of a lost update that shows what was saved meanwhile
// beside what was sent.
func (s *API) bothSides(r *http.Request, lost *writing.ConflictError, all []writing.Edit) error {
	p := guard.Problem{Kind: "conflict", Status: 412, Detail: lost.Error()}
	e, err := s.env.Diagnosis.Entry(r.Context(), lost.Entry)
	if err != nil || len(e.Revisions) == 0 ||
		guard.Require(r, access.Need{Verb: access.Read, Edition: content.Preview, Type: e.Type}) != nil {
		return p // who may only write is not shown what others wrote
	}
	c := guard.Conflict{Entry: lost.Entry, Present: e.Revisions[0]}
	c.Present.Fields = e.Newest
	for i := range all {
		if all[i].ID == lost.Entry {
			c.Yours = all[i].Save
		}
	}
	m := s.env.Replica.Model()
	if t := m.Type(e.Type); t != nil && c.Yours != nil {
		c.Differences = content.Compare(m, t, c.Present.Fields, content.Normalise(m, t, e.ID, c.Yours))
	}
	p.Conflict = &c
	return p
}

func (s *API) differences(r *http.Request) (any, error) {
	p, err := guard.QueryValues(r, "from", "to")
	if err != nil {
		return nil, err
	}
	from, err := guard.Number(p, "from")
	if err != nil {
		return nil, err
	}
	to := -1
	if p["to"] != "" {
		if to, err = guard.Number(p, "to"); err != nil {
			return nil, err
		}
	}
	return s.env.Authoring.CompareRevisions(r.Context(), chi.URLParam(r, "id"), from, to)
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
		all = slices.DeleteFunc(all, func(l accounts.PreviewLink) bool { return !slices.Contains(types, l.Type) })
		return map[string]any{"items": append([]accounts.PreviewLink{}, all...)}, err
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
		return nil, guard.Problem{
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
	o := authoring.ImportOptions{Check: p["check"] == "true", StopAtBad: p["bad"] == "stop"}
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
		func(p authoring.ImportProgress) { out.Write(p) }); err != nil {
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
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "export", "", nil, map[string]any{"types": types,
		"origin": access.Printable(p["origin"]), "revisions": p["revisions"] == "true"}); err != nil {
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

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += n
	return n, err
}
