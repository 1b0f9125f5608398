package diagnose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/core/filter"
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

// WhyAnswer is the answer to a Question.
type WhyAnswer struct {
	Reader  string `json:"reader"`
	Edition string `json:"edition"`
	Locale  string `json:"locale"`
	// Entry that it is about, nil if there is none.
	Entry *entries.EntryInfo `json:"entry"`
	// Others have the same slug, in other types.
	Others []why.Near `json:"others,omitempty"`
	// Visible is true when there is no reason; the rest tells more then.
	Visible bool         `json:"visible"`
	Reasons []why.Reason `json:"reasons"`
	// Remarks say what of the entry is left out.
	Remarks []why.Reason `json:"remarks"`
	// Since is the change that brought what is seen.
	Since *Since `json:"since,omitempty"`
	// Cached are the answers in this node's cache that were made of it.
	Cached []CachedAnswer `json:"cached,omitempty"`
	// Pages show it, or what refers to it.
	Pages []Page `json:"pages,omitempty"`
}

// Since is when an entry became as it is seen.
type Since struct {
	Sequence int64     `json:"sequence"`
	At       time.Time `json:"at"`
	What     string    `json:"what"`
}

// CachedAnswer is an answer in the cache.
type CachedAnswer struct {
	// Asked is the request that it was first computed for.
	Asked    string `json:"asked"`
	Sequence int64  `json:"sequence"`
	Bytes    int    `json:"bytes"`
}

// Page is a page of a site that shows an entry.
type Page struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	Entry   string `json:"entry"`
	Title   string `json:"title"`
}

// Why answers why a reader cannot see an entry: every reason that holds now, the
// most fundamental first. If it can be seen, it says since when and where.
func (d *Service) Why(ctx context.Context, q Question) (WhyAnswer, error) {
	w := investigation{g: d, q: q, m: d.replica.Model()}
	if w.q.Edition == "" {
		w.q.Edition = content.Published
	}
	if !delivery.EditionKnown(w.q.Edition) {
		return WhyAnswer{}, api.BadParameter(
			"edition", "there is no edition %q%s", w.q.Edition, strictyaml.DidYouMean(w.q.Edition, content.Editions),
		)
	}
	w.facts = why.Facts{Asked: q.Entry, Edition: w.q.Edition, Now: time.Now()}
	for _, step := range []func(context.Context) error{w.reader, w.locale, w.entry, w.list} {
		if err := step(ctx); err != nil {
			return WhyAnswer{}, err
		}
	}
	out := WhyAnswer{
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
	info   *entries.EntryInfo
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
	var found, before []entries.EntryRecord
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

func (w *investigation) found(ctx context.Context, r *entries.EntryRecord) error {
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
func (w *investigation) moved(ctx context.Context, r *entries.EntryRecord) error {
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

// maxPlaces bounds how far a list is followed in search of an entry.
const maxPlaces = 10_000

// list finds out where in a list the entry comes.
func (w *investigation) list(ctx context.Context) error {
	root := w.q.List
	if root == nil {
		return nil
	}
	l := &why.List{
		Asked:          w.q.Asked,
		Type:           root.Type,
		OnlyTranslated: root.Translated,
		Limit:          root.Limit,
		Sort:           sortText(root.Sort),
	}
	w.facts.List = l
	if w.info == nil || root.Type != w.info.Type || !w.facts.Entry.HasDocument {
		return nil
	}
	find := func(r query.Root) (*query.RootResult, int, error) {
		r.Locale = w.facts.Locale
		r.Selection, r.Count = query.Selection{Picks: []query.Pick{{As: "id", Kind: query.PickID}}}, false
		res, err := w.g.store.Reader.Read(
			ctx, w.g.replica.ModelVersion(), &query.Query{Edition: w.q.Edition, Roots: []query.Root{r}},
			int(w.g.limits.Answer),
		)
		if err != nil {
			return nil, 0, err
		}
		return &res.Roots[0], slices.IndexFunc(
			res.Roots[0].Rows, func(row *query.Row) bool { return row.ID == w.info.ID },
		), nil
	}
	if root.Filter != nil {
		docs, err := w.g.store.Entries.StoredDocuments(ctx, w.q.Edition, w.facts.Locale, []string{w.info.ID}, "", nil)
		if err != nil || len(docs) == 0 {
			return err
		}
		d := heldDocument{w: w, ctx: ctx, StoredDocument: docs[0], failed: new(error)}
		l.Untrue = root.Filter.Untrue(d, time.Now())
		if *d.failed != nil {
			return *d.failed
		}
	}
	_, at, err := find(*root)
	if err != nil {
		return err
	}
	if l.Shown = at >= 0; l.Shown {
		return nil
	}
	whole := *root
	whole.After, whole.Before, whole.Last, whole.Limit = nil, nil, false, query.MaxLimit
	for before := 0; before < maxPlaces; {
		found, at, err := find(whole)
		if err != nil {
			return err
		}
		if at >= 0 {
			l.Place = before + at + 1
			return nil
		}
		if !found.More {
			return nil
		}
		before += len(found.Rows)
		last := found.Rows[len(found.Rows)-1].Position()
		whole.After = &last
	}
	return nil
}

// heldDocument lets a filter look at what a reader gets of an entry.
type heldDocument struct {
	entries.StoredDocument
	w      *investigation
	ctx    context.Context
	failed *error
}

func (d heldDocument) Value(field string) any {
	if name, ok := strings.CutPrefix(field, "about."); ok {
		return d.About[name]
	}
	if field == "id" {
		return d.ID
	}
	return d.Fields[field]
}

func (d heldDocument) Enter(s filter.Step) []filter.Document {
	field, ids := "", []string{d.ID}
	if s.Back {
		field = s.Field
	} else {
		ids = nil
		switch v := d.Fields[s.Field].(type) {
		case string:
			ids = []string{v}
		case []any:
			for _, id := range v {
				ids = append(ids, fmt.Sprint(id))
			}
		}
	}
	found, err := d.w.g.store.Entries.StoredDocuments(d.ctx, d.w.q.Edition, d.w.facts.Locale, ids, field, s.Types)
	if err != nil {
		*d.failed = err
	}
	out := make([]filter.Document, len(found))
	for i := range found {
		out[i] = heldDocument{found[i], d.w, d.ctx, d.failed}
	}
	return out
}

func sortText(sort []query.Sort) string {
	var out []string
	for _, s := range sort {
		name := strings.TrimPrefix(s.By, "about.")
		if s.Descending {
			name = "-" + name
		}
		out = append(out, name)
	}
	return strings.Join(out, ",")
}

// where says since when, in which answers and on which pages an entry is seen.
func (w *investigation) where(ctx context.Context, out *WhyAnswer) error {
	c, err := w.g.store.Entries.LastChange(ctx, w.info.ID, w.q.Edition, "")
	if err == nil {
		out.Since = &Since{Sequence: c.Sequence, At: c.At, What: c.What}
	} else if !errors.Is(err, db.ErrNotFound) {
		return err
	}
	for _, r := range w.g.cache.MadeOf(w.q.Edition, w.info.ID, w.facts.Locale) {
		out.Cached = append(
			out.Cached, CachedAnswer{Asked: delivery.DisplayText(r.Asked), Sequence: r.Sequence, Bytes: len(r.Body)},
		)
	}
	slices.SortFunc(out.Cached, func(a, b CachedAnswer) int { return strings.Compare(a.Asked, b.Asked) })
	if len(out.Cached) > 50 {
		out.Cached = out.Cached[:50]
	}
	var links []string
	for _, t := range w.m.Types {
		for _, f := range t.Fields {
			links = append(links, f.Name+"/"+w.info.ID)
		}
	}
	shows, err := w.g.store.Entries.PathsShowing(ctx, w.info.ID, w.q.Edition, w.facts.Locale, links)
	if err != nil {
		return err
	}
	for _, name := range w.g.automation.SiteNames() {
		for _, p := range shows {
			if need := (access.Need{Verb: access.Read, Edition: w.q.Edition, Type: p.Type,
				Locale: w.facts.Locale}); w.facts.Reader.Rights.Allows(
				need,
			) {
				out.Pages = append(
					out.Pages,
					Page{
						Site:    name,
						Address: strings.TrimSuffix(w.g.automation.Site(name).Address, "/") + p.Path,
						Entry:   p.ID,
						Title:   p.Title,
					},
				)
			}
		}
	}
	return nil
}

// Seeing is what a key, or everyone, may read.
type KeyVisibility struct {
	Reader string `json:"reader"`
	// Problem is why the key is not good; empty if it is.
	Problem string           `json:"problem,omitempty"`
	Sights  []TypeVisibility `json:"sights"`
}

// Sight is what may be read of a type in an edition.
type TypeVisibility struct {
	Type    string `json:"type"`
	Edition string `json:"edition"`
	// Through says what allows it: open, grant or both; empty if nothing does.
	Through string `json:"through"`
	// Locales it is limited to; none means all.
	Locales []string `json:"locales,omitempty"`
	// Entries there are.
	Entries int `json:"entries"`
}

// CheckKey says what a key would see: named, by id, or by its secret; an empty
// name stands for everyone.
func (d *Service) CheckKey(ctx context.Context, name string) (KeyVisibility, error) {
	out := KeyVisibility{Reader: "everyone", Sights: []TypeVisibility{}}
	rights := access.Rights{Open: d.keys.PublicGrants()}
	if name != "" {
		k, hash, err := d.keys.KeyFor(ctx, name)
		switch {
		case errors.Is(err, access.ErrMalformed), errors.Is(err, identity.ErrUnknownKey):
			out.Reader, out.Problem = "the key", err.Error()
		case err != nil:
			return out, err
		default:
			out.Reader, rights.Own = k.Name, k.Grants
			if err := k.Good(hash, time.Now()); err != nil {
				out.Problem = err.Error()
			}
		}
	}
	counts, err := d.store.Entries.CountsByEdition(ctx)
	if err != nil {
		return out, err
	}
	for _, t := range d.replica.Model().TypeNames() {
		for _, edition := range content.Editions {
			s := TypeVisibility{Type: t, Edition: edition, Entries: counts[t][edition]}
			need := access.Need{Verb: access.Read, Edition: edition, Type: t}
			open, openLocales := rights.Open.Reach(need)
			own, ownLocales := rights.Own.Reach(need)
			if own && out.Problem != "" {
				own = false // a key that is not good is refused, whatever is open
			}
			switch {
			case open && own:
				s.Through = "both"
			case open:
				s.Through = "open"
			case own:
				s.Through = "grant"
			}
			if !(open && openLocales == nil) && !(own && ownLocales == nil) {
				s.Locales = slices.Concat(openLocales, ownLocales)
				slices.Sort(s.Locales)
				s.Locales = slices.Compact(s.Locales)
			}
			out.Sights = append(out.Sights, s)
		}
	}
	return out, nil
}
