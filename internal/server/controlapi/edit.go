package controlapi

import (
	"errors"
	"fmt"
	"net/http"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// edits has, by its name, what an edit does.
var edits = map[string]func(*api.Edit, *writing.Edit){
	"":          func(*api.Edit, *writing.Edit) {},
	"publish":   func(f *api.Edit, e *writing.Edit) { e.Live, e.PublishRevision = writing.PublishNewest, f.Revision },
	"unpublish": func(_ *api.Edit, e *writing.Edit) { e.Live = writing.TakeBack },
	"discard":   func(_ *api.Edit, e *writing.Edit) { e.Discard = true },
	"restore":   func(f *api.Edit, e *writing.Edit) { e.Restore = f.Revision },
	"submit":    func(_ *api.Edit, e *writing.Edit) { e.Review = content.Submitted },
	"approve":   func(_ *api.Edit, e *writing.Edit) { e.Review = content.Approved },
	"return":    func(_ *api.Edit, e *writing.Edit) { e.Review = content.Returned },
	"retire":    func(_ *api.Edit, e *writing.Edit) { e.Retire = true },
	"delete":    func(_ *api.Edit, e *writing.Edit) { e.Delete = true },
}

// maxEdits bounds what one write may do.
const maxEdits = 200

// compile turns the form into an edit; at is where it stands in the body.
func (s *API) compile(f *api.Edit, at string) (writing.Edit, error) {
	bad := func(name, format string, args ...any) error {
		return api.Problem{Kind: "body", Status: 400, Parameter: at + name, Detail: fmt.Sprintf(format, args...)}
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

func (s *API) edit(r *http.Request, in api.Edits) (out api.EditOutcome, err error) {
	if len(in.Edits) == 0 || len(in.Edits) > maxEdits {
		return out, operation.BadMember("edits", fmt.Sprintf("%d edits given; send 1 to %d", len(in.Edits), maxEdits))
	}
	wanted, err := guard.WantedRevision(r)
	if err != nil {
		return out, err
	}
	all := make([]writing.Edit, len(in.Edits))
	for i := range in.Edits {
		if all[i], err = s.compile(&in.Edits[i], fmt.Sprintf("edits[%d].", i)); err != nil {
			return out, err
		}
		if wanted != 0 && len(all) == 1 {
			all[i].IfRevision = wanted
		}
	}
	return s.apply(r, all)
}

// putEntry saves the whole of an entry's fields.
func (s *API) putEntry(r *http.Request, in api.EntrySave) (out api.EditOutcome, err error) {
	wanted, err := guard.WantedRevision(r)
	if err != nil {
		return out, err
	}
	in.ID = in.Entry
	if wanted != 0 {
		in.IfRevision = wanted
	}
	e, err := s.compile(&in.Edit, "")
	if err != nil {
		return out, err
	}
	return s.apply(r, []writing.Edit{e})
}

func outcome(done writing.Applied, ids ...string) api.EditOutcome {
	out := api.EditOutcome{Sequence: done.Sequence, Changes: len(done.Changes), Entries: []api.EditedEntry{}}
	for _, id := range ids {
		out.Entries = append(out.Entries, api.EditedEntry{ID: id, Revision: done.Revisions[id]})
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

func (s *API) apply(r *http.Request, all []writing.Edit) (out api.EditOutcome, err error) {
	if err := s.mayApply(r, all); err != nil {
		return out, err
	}
	done, err := s.env.Authoring.Apply(r.Context(), all, guard.ActorName(r), content.Cause{
		Kind: "user",
		Name: guard.ActorName(r),
	})
	var lost *writing.ConflictError
	if errors.As(err, &lost) {
		return out, s.bothSides(r, lost, all)
	}
	var referred *writing.ReferredError
	if errors.As(err, &referred) {
		return out, onlyVisible(r, referred)
	}
	if err != nil {
		return out, err
	}
	var ids []string
	for i := range all {
		ids = append(ids, all[i].ID)
	}
	out = outcome(done, ids...)
	for i := range all {
		if t := s.env.Replica.Model().Type(all[i].Type); t != nil && all[i].Save != nil {
			out.Warnings = append(out.Warnings, content.Lost(t, all[i].ID, all[i].Save)...)
		}
	}
	s.confirm(r, done, &out)
	return out, nil
}

// visibleReferrers are those of the referrers whose drafts who asks may read.
func visibleReferrers(r *http.Request, all []api.Referrer) []api.Referrer {
	rights := guard.PrincipalOf(r).Rights
	return slices.DeleteFunc(all, func(one api.Referrer) bool {
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
	return api.Problem{
		Kind: "referred", Status: http.StatusConflict, ReferredBy: err.By,
		Detail: fmt.Sprintf(
			"entry %s is referred to by %d entries, of which you may read %d; take the references out first, or "+
				"delete it even so",
			err.Entry, n, len(err.By),
		),
	}
}

// bothSides makes a problem of a lost update that shows what was saved meanwhile
// beside what was sent.
func (s *API) bothSides(r *http.Request, lost *writing.ConflictError, all []writing.Edit) error {
	p := api.Problem{Kind: "conflict", Status: 412, Detail: lost.Error()}
	e, err := s.env.Diagnosis.Entry(r.Context(), lost.Entry)
	if err != nil || len(e.Revisions) == 0 ||
		guard.Require(r, access.Need{Verb: access.Read, Edition: content.Preview, Type: e.Type}) != nil {
		return p // who may only write is not shown what others wrote
	}
	c := api.Conflict{Entry: lost.Entry, Present: e.Revisions[0]}
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

func (s *API) differences(r *http.Request, in api.RevisionRange) (out api.RevisionComparison, err error) {
	if err := s.mayRead(r, in.ID); err != nil {
		return out, err
	}
	to := -1
	if in.To != nil {
		to = *in.To
	}
	return s.env.Authoring.CompareRevisions(r.Context(), in.ID, in.From, to)
}
