package diagnose

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/core/why"
	"ubiquon/internal/delivery"
	"ubiquon/internal/identity"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
)

// Question is what Why is asked: who does not see which entry?
type Question struct {
	// Entry is its id, slug or path; empty for a whole list.
	Entry string
	// Type narrows it, where several types have the slug.
	Type string
	// Key is the id, the name or the secret of a key; empty for everyone.
	Key string
	// Edition and Locale that are read; empty for published, and for the default.
	Edition, Locale string
	// List, if not nil, is the list that the entry should be in, as it was spelled
	// in Asked.
	List  *query.Root
	Asked string
}

// Why answers why a reader cannot see an entry: every reason that holds now, the
// most fundamental first. If it can be seen, it says since when and where.
func (d *Service) Why(ctx context.Context, q Question) (api.WhyAnswer, error) {
	w := investigation{g: d, q: q, m: d.replica.Model()}
	if w.q.Edition == "" {
		w.q.Edition = content.Published
	}
	if !delivery.EditionKnown(w.q.Edition) {
		return api.WhyAnswer{}, api.BadParameter(
			"edition", "there is no edition %q%s", w.q.Edition, strictyaml.DidYouMean(w.q.Edition, content.Editions),
		)
	}
	w.facts = why.Facts{Asked: q.Entry, Edition: w.q.Edition, Now: time.Now()}
	for _, step := range []func(context.Context) error{w.reader, w.locale, w.entry, w.list} {
		if err := step(ctx); err != nil {
			return api.WhyAnswer{}, err
		}
	}
	out := api.WhyAnswer{
		Reader:  w.facts.Reader.Name,
		Edition: w.q.Edition,
		Locale:  w.facts.Locale,
		Entry:   w.info,
		Others:  w.others,
	}
	out.Reasons, out.Remarks = why.Explain(w.facts)
	out.Reasons, out.Remarks = append([]why.Reason{}, out.Reasons...), append([]why.Reason{}, out.Remarks...)
	if out.Visible = len(out.Reasons) == 0; out.Visible && w.info != nil {
		return out, w.where(ctx, &out)
	}
	return out, nil
}

type investigation struct {
	g      *Service
	q      Question
	m      *model.Model
	facts  why.Facts
	info   *api.EntryInfo
	others []why.Near
}

// reader finds out with whose eyes the entry is seen.
func (w *investigation) reader(ctx context.Context) error {
	r := &w.facts.Reader
	r.Rights.Open = w.g.keys.PublicGrants()
	if w.q.Key == "" {
		r.Kind, r.Name = access.Everyone, "everyone"
		return nil
	}
	r.Kind, r.Name = access.ByKey, "the key"
	k, hash, err := w.g.keys.KeyFor(ctx, w.q.Key)
	switch {
	case errors.Is(err, access.ErrMalformed):
		r.Problem = "malformed"
		return nil
	case errors.Is(err, identity.ErrUnknownKey):
		r.Problem = "unknown"
		if r.Environment, err = w.g.store.Keys.KeyElsewhere(ctx, hash); r.Environment != "" {
			r.Problem = "elsewhere"
		}
		return err
	case err != nil:
		return err
	}
	r.Name, r.ID, r.Rights.Own = k.Name, k.ID, k.Grants
	switch k.Good(hash, time.Now()) {
	case access.ErrRevoked:
		r.Problem, r.Since = "revoked", k.Revoked
	case access.ErrExpired:
		r.Problem, r.Since = "expired", k.Expires
	case access.ErrRotated:
		r.Problem, r.Since = "rotated", k.FormerUntil
	}
	return nil
}

func (w *investigation) locale(context.Context) error {
	f := &w.facts
	f.DefaultLocale, f.Locale = w.m.Default(), w.q.Locale
	if f.Locale == "" {
		f.Locale = f.DefaultLocale
	}
	l, known := w.m.Locale(f.Locale)
	if !known {
		f.UnknownLocale, f.NearLocale = true, strictyaml.Nearest(f.Locale, w.m.Tags())
		return nil
	}
	f.Locale = l.Tag
	f.Chain = w.m.Chain(l.Tag)
	return nil
}

// entry finds the entry, and all that matters of it.
func (w *investigation) entry(ctx context.Context) error {
	if w.q.Type != "" {
		t := w.m.Type(w.q.Type)
		if t == nil {
			return api.BadParameter(
				"type", "there is no type %q%s", w.q.Type, strictyaml.DidYouMean(w.q.Type, w.m.TypeNames()),
			)
		}
		w.facts.Type = typeFacts(t)
	}
	if w.q.Entry == "" {
		return nil
	}
	var slugs []string
	for _, t := range w.m.Types {
		if f := t.SlugField(); f != nil && !slices.Contains(slugs, f.Name) {
			slugs = append(slugs, f.Name)
		}
	}
	ids, present, err := w.g.store.Entries.EntriesNamed(ctx, w.q.Entry, slugs)
	if err != nil {
		return err
	}
	var found, before []api.EntryRecord
	for i, id := range ids[:min(len(ids), 5)] {
		e, err := w.g.store.Entries.Get(ctx, id)
		if errors.Is(err, db.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if w.q.Type != "" && e.Type != w.q.Type || w.m.Type(e.Type) == nil {
			continue
		}
		if i < present {
			found = append(found, e)
		} else {
			before = append(before, e)
		}
	}
	switch {
	case len(found) > 0:
		for _, o := range found[1:] {
			w.others = append(w.others, why.Near{ID: o.ID, Type: o.Type, Title: o.Title})
		}
		return w.found(ctx, &found[0])
	case len(before) > 0:
		return w.moved(ctx, &before[0])
	}
	return w.absent(ctx)
}

func typeFacts(t *model.Type) *why.Type {
	return &why.Type{Name: t.Name, Plural: t.Plural, Label: t.Label, Approval: t.Approval}
}

func (w *investigation) found(ctx context.Context, r *api.EntryRecord) error {
	t := w.m.Type(r.Type)
	w.info, w.facts.Type = &r.EntryInfo, typeFacts(t)
	e := &why.Entry{
		ID:                r.ID,
		Title:             r.Title,
		Origin:            r.Origin,
		Revision:          r.Revision,
		PublishedRevision: r.PublishedRevision,
		Retired:           r.Retired,
		Withheld:          r.Withheld,
		Review:            r.Review,
		HasTranslations:   t.HasTranslations(),
		Written:           content.WrittenIn(t, r.Newest),
		Live:              content.WrittenIn(t, r.Shown),
		AskedByPath:       strings.HasPrefix(w.q.Entry, "/"),
	}
	w.facts.Entry = e
	for _, tags := range []*[]string{&e.Written, &e.Live} {
		if len(*tags) == 0 && e.HasTranslations {
			*tags = []string{w.m.Default()}
		}
	}
	if source := w.g.ingest.Source(r.Origin); source != nil {
		e.EditAt = source.EditAddress(r.Type, r.OriginKey)
	}
	if len(r.Reviews) > 0 && r.Reviews[0].What == content.Submitted {
		e.ReviewAt, e.ReviewBy = &r.Reviews[0].At, r.Reviews[0].By
	}
	for _, s := range slices.Backward(r.Schedules) {
		if s.State == entries.SchedulePending && s.Action == entries.SchedulePublish {
			e.WillPublish = &why.Schedule{ID: s.ID, At: s.At, Zone: s.Zone}
		}
	}
	if r.PublishedRevision == 0 {
		switch c, err := w.g.store.Entries.LastChange(ctx, r.ID, content.Published, event.Unpublished); {
		case err == nil:
			e.TakenBackAt, e.TakenBackBy = &c.At, c.Cause.Name
		case !errors.Is(err, db.ErrNotFound):
			return err
		}
	}
	seen, err := w.g.store.Entries.DocumentOf(ctx, r.ID, w.q.Edition, w.facts.Locale)
	if err != nil || seen == nil {
		return err
	}
	e.HasDocument, e.Slug, e.Path = true, seen.Slug, seen.Path
	e.FilledIn = e.HasTranslations && !slices.Contains(seen.Locales, w.facts.Locale)
	return w.references(ctx, t, e)
}

// references finds what the entry leads to that the reader does not get.
func (w *investigation) references(ctx context.Context, t *model.Type, e *why.Entry) error {
	all, err := w.g.store.Entries.ReferencesOf(ctx, e.ID, w.q.Edition, w.facts.Locale)
	if err != nil {
		return err
	}
	for _, ref := range all {
		near := why.Near{ID: ref.ID, Type: ref.Type, Title: ref.Title}
		need := access.Need{Verb: access.Read, Edition: w.q.Edition, Type: ref.Type, Locale: w.facts.Locale}
		missing, lacks := w.facts.Reader.Rights.Missing([]access.Need{need})
		switch {
		case !ref.Shown:
			e.LeftOut = append(
				e.LeftOut, why.LeftOut{Field: ref.Field, Near: near, Local: ref.Origin == content.Local},
			)
			if slices.Contains(t.Parents(), ref.Field) {
				e.Parent = &near
			}
		case lacks:
			e.LeftOut = append(e.LeftOut, why.LeftOut{Field: ref.Field, Near: near, Grant: missing.String()})
		}
	}
	return nil
}

// moved tells where the entry is by now that was known by the name before.
func (w *investigation) moved(ctx context.Context, r *api.EntryRecord) error {
	w.info, w.facts.Type = &r.EntryInfo, typeFacts(w.m.Type(r.Type))
	m := &why.Near{ID: r.ID, Type: r.Type, Title: r.Title, Slug: r.ID}
	w.facts.Moved = m
	if f := w.m.Type(r.Type).SlugField(); f != nil {
		if slug, ok := r.Newest[f.Name].(string); ok {
			m.Slug = slug
		}
	}
	m.Path = m.Slug
	seen, err := w.g.store.Entries.DocumentOf(ctx, r.ID, w.q.Edition, w.facts.Locale)
	if seen != nil && seen.Path != "" {
		m.Path = seen.Path
	}
	return err
}

// absent gathers what may explain that there is no such entry.
func (w *investigation) absent(ctx context.Context) (err error) {
	if w.facts.Near, err = w.g.store.Entries.NearSlugs(ctx, w.q.Entry); err != nil {
		return err
	}
	untaken, err := w.g.store.Rejected.Named(ctx, w.q.Entry)
	if err != nil {
		return err
	}
	for _, u := range untaken {
		if w.q.Type == "" || w.q.Type == u.Type {
			w.facts.Untaken = append(
				w.facts.Untaken,
				why.Untaken{Origin: u.Origin, Type: u.Type, Key: u.Key, Reason: u.Reason, Since: u.Since},
			)
		}
	}
	for _, name := range w.g.ingest.Names() {
		o := why.Origin{Name: name}
		for _, typ := range slices.Sorted(maps.Keys(w.g.ingest.Source(name).Config.Types)) {
			if w.q.Type == "" || w.q.Type == typ {
				o.Types = append(o.Types, typ)
			}
		}
		if len(o.Types) == 0 {
			continue
		}
		if o.LastHeard, _, err = w.g.store.Events.LastHeard(ctx, name); err != nil {
			return err
		}
		if o.LastRefused, o.RefusedBecause, err = w.g.store.Entries.LastRefusal(ctx, name); err != nil {
			return err
		}
		w.facts.Origins = append(w.facts.Origins, o)
	}
	return nil
}
