package authoring

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
)

// Entries lists entries. Its error is a *query.Error or an *api.BadParameterError where
// the filter or the order is wrong.
func (a *Service) Entries(ctx context.Context, f api.EntryFilter) ([]api.EntryInfo, int, error) {
	if by := strings.TrimPrefix(f.Sort, "-"); f.Sort != "" && !slices.Contains(entries.Sorts(), by) {
		return nil, 0, api.BadParameter("sort", "entries are not sorted by %q%s; take one of %s, with - for descending",
			by, strictyaml.DidYouMean(by, entries.Sorts()), strings.Join(entries.Sorts(), ", "))
	}
	where, err := a.draftFilter(&f)
	if err != nil {
		return nil, 0, err
	}
	return a.store.Entries.List(ctx, f, where)
}

// draftFilter reads the filter on drafts, and gives it a locale.
func (a *Service) draftFilter(f *api.EntryFilter) (*filter.Filter, error) {
	if f.Filter == "" {
		return nil, nil
	}
	m := a.replica.Model()
	known := m.TypeNames()
	if f.Types != nil {
		known = f.Types
	}
	switch {
	case f.Type == "":
		return nil, api.BadParameter("filter", "a filter is on the fields of one type: name it with type")
	case m.Type(f.Type) == nil || !slices.Contains(known, f.Type):
		return nil, api.BadParameter("type", "there is no type %q%s", f.Type, strictyaml.DidYouMean(f.Type, known))
	}
	if f.Locale == "" {
		f.Locale = m.Default()
	}
	if _, ok := m.Locale(f.Locale); !ok {
		return nil, api.BadParameter("locale", "there is no locale %q%s", f.Locale, strictyaml.DidYouMean(f.Locale, m.Tags()))
	}
	out, err := query.ParseFilter("filter", f.Filter, m, m.Type(f.Type))
	var wrong *query.Error
	unknown := func(typ string) bool { return !slices.Contains(known, typ) }
	if errors.As(err, &wrong) && slices.ContainsFunc(wrong.Types, unknown) {
		// It speaks of fields that whoever asks may not know.
		return nil, api.BadParameter("filter", "it reads entries of a type for which you lack a grant")
	}
	if err != nil {
		return nil, err
	}
	for _, r := range out.Reads() {
		if unknown(r.Type) {
			return nil, api.BadParameter("filter", "it reads entries of a type for which you lack a grant")
		}
	}
	return out, nil
}

// Revision returns one revision of an entry, with its fields.
func (a *Service) Revision(ctx context.Context, id string, number int) (content.Revision, error) {
	return a.store.Entries.Revision(ctx, id, number)
}

// CompareRevisions compares two revisions of an entry; 0 is what readers get. A
// to of -1 is the newest.
func (a *Service) CompareRevisions(ctx context.Context, id string, from, to int) (api.RevisionComparison, error) {
	e, err := a.store.Entries.Get(ctx, id)
	if err != nil {
		return api.RevisionComparison{}, err
	}
	if to < 0 {
		to = e.Revision
	}
	state := func(n int) (content.Fields, error) {
		switch n {
		case 0:
			return e.Shown, nil
		case e.Revision:
			return e.Newest, nil
		}
		v, err := a.store.Entries.Revision(ctx, id, n)
		return v.Fields, err
	}
	out := api.RevisionComparison{From: from, To: to}
	before, err := state(from)
	if err != nil {
		return out, err
	}
	after, err := state(to)
	if err != nil {
		return out, err
	}
	m := a.replica.Model()
	t := m.Type(e.Type)
	if t == nil {
		return out, fmt.Errorf("type %s: %w", e.Type, db.ErrNotFound)
	}
	out.Differences = content.Compare(m, t, before, after)
	return out, nil
}

// maxLinked bounds how many entries are followed in search of drafts.
const maxLinked = 500

// LinkedDrafts lists the entries that those named lead to, near or far, and of
// which readers do not have the newest state; of our own origin alone, since
// others are not published here.
func (a *Service) LinkedDrafts(ctx context.Context, ids []string) ([]api.EntryInfo, error) {
	seen := map[string]bool{}
	for _, id := range ids {
		seen[id] = true
	}
	var linked []string
	for next := ids; len(next) > 0 && len(linked) < maxLinked; {
		targets, err := a.store.Entries.LinkedFrom(ctx, next)
		if err != nil {
			return nil, err
		}
		next = nil
		for _, id := range targets {
			if !seen[id] {
				seen[id] = true
				next = append(next, id)
			}
		}
		linked = append(linked, next...)
	}
	out := []api.EntryInfo{}
	if len(linked) == 0 {
		return out, nil
	}
	items, _, err := a.store.Entries.List(
		ctx, api.EntryFilter{IDs: linked, Origin: content.Local, Limit: maxLinked}, nil,
	)
	for _, e := range items {
		if e.PublishedRevision == 0 || e.Behind {
			out = append(out, e)
		}
	}
	return out, err
}

// Duplicate saves a draft with the newest state of an entry under a new id. Its
// slug and its title tell that it is a copy; values that must be unique are left
// out.
func (a *Service) Duplicate(ctx context.Context, id, by string) (string, writing.Applied, error) {
	e, err := a.store.Entries.Get(ctx, id)
	if err != nil {
		return "", writing.Applied{}, err
	}
	t := a.replica.Model().Type(e.Type)
	if t == nil {
		return "", writing.Applied{}, fmt.Errorf("type %s: %w", e.Type, db.ErrNotFound)
	}
	fields := e.Newest
	for _, f := range t.Fields {
		if f.Kind == model.Slug || f.Unique {
			delete(fields, f.Name)
		}
	}
	const mark = " (copy)"
	switch title := fields[t.Title].(type) {
	case string:
		fields[t.Title] = title + mark
	case map[string]any:
		for tag, v := range title {
			if s, ok := v.(string); ok {
				title[tag] = s + mark
			}
		}
	}
	edit := writing.Edit{
		ID:      content.NewID(),
		Type:    e.Type,
		Origin:  content.Local,
		Save:    fields,
		Message: "copied from " + id,
	}
	cause := content.Cause{Kind: "user", Name: by}
	done, err := a.Apply(ctx, []writing.Edit{edit}, by, cause)
	var p content.Problems
	if errors.As(err, &p) && p[0].Rule == "unique" {
		// There is another copy already.
		ownSlug(a.replica.Model(), t, edit.ID, fields)
		done, err = a.Apply(ctx, []writing.Edit{edit}, by, cause)
	}
	return edit.ID, done, err
}

// Coverage returns how much of each type is translated into each locale.
func (a *Service) Coverage(ctx context.Context) ([]api.Coverage, error) {
	return a.store.Entries.Coverages(ctx, a.replica.Model().Tags())
}

// SawOpen notes that somebody has an entry open, and which field they edit, and returns who
// else has it open; a field is empty where none is edited.
func (a *Service) SawOpen(ctx context.Context, id, session, who, field string) ([]api.FieldEditor, error) {
	return a.store.Entries.RecordPresence(ctx, id, session, who, field)
}

// EntryAccess returns how entries stand, by id; of those that there are.
func (a *Service) EntryAccess(ctx context.Context, ids []string) (map[string]entries.EntryAccess, error) {
	return a.store.Entries.Access(ctx, ids)
}
