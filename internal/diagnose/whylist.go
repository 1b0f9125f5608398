package diagnose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/why"
	"ubiquon/internal/delivery"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
)

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
		r.Selection, r.Count = query.Selection{Picks: []query.SelectedField{{As: "id", Kind: query.PickID}}}, false
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

// Value implements filter.Document.
func (d heldDocument) Value(field string) any {
	if name, ok := strings.CutPrefix(field, "about."); ok {
		return d.About[name]
	}
	if field == "id" {
		return d.ID
	}
	return d.Fields[field]
}

// Enter implements filter.Document.
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
func (w *investigation) where(ctx context.Context, out *api.WhyAnswer) error {
	c, err := w.g.store.Entries.LastChange(ctx, w.info.ID, w.q.Edition, "")
	if err == nil {
		out.Since = &api.VisibleSince{Sequence: c.Sequence, At: c.At, What: c.What}
	} else if !errors.Is(err, db.ErrNotFound) {
		return err
	}
	for _, r := range w.g.cache.MadeOf(w.q.Edition, w.info.ID, w.facts.Locale) {
		out.Cached = append(
			out.Cached, api.CachedAnswer{Asked: delivery.DisplayText(r.Asked), Sequence: r.Sequence, Bytes: len(r.Body)},
		)
	}
	slices.SortFunc(out.Cached, func(a, b api.CachedAnswer) int { return strings.Compare(a.Asked, b.Asked) })
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
		if known, err := w.known(ctx, name, out); known || err != nil {
			if err != nil {
				return err
			}
			continue
		}
		for _, p := range shows {
			if need := (access.Need{
				Verb: access.Read, Edition: w.q.Edition, Type: p.Type,
				Locale: w.facts.Locale,
			}); w.facts.Reader.Rights.Allows(
				need,
			) {
				out.Pages = append(
					out.Pages,
					api.ShowingPage{
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

// mostKnown bounds the pages of a site that are told.
const mostKnown = 50

// known adds the pages of a site that have said that they show the entry; known is false if none of
// its pages says what it reads.
func (w *investigation) known(ctx context.Context, site string, out *api.WhyAnswer) (known bool, err error) {
	if w.q.Edition != content.Published {
		return false, nil
	}
	found, err := w.g.pages.List(ctx, api.PageFilter{Site: site, Entry: w.info.ID, Limit: mostKnown})
	if err != nil || found.Ledger.Pages == 0 {
		return false, err
	}
	for i := range found.Items {
		p := &found.Items[i]
		out.Pages = append(out.Pages, api.ShowingPage{
			Site: site, Address: strings.TrimSuffix(w.g.automation.Site(site).Address, "/") + p.Page, Entry: w.info.ID,
			Title: w.info.Title, Read: &p.Registered, StaleSince: p.StaleSince,
		})
	}
	return true, nil
}
