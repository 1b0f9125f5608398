package ingest

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
)

// By what an item of a new origin is found to be an entry of the old one.
var adoptBy = []string{"key", "slug", "path"}

// Adoption is what an origin takes over of another one, or would.
type Adoption struct {
	// Adopted counts the entries that change hands, By by what they were recognised.
	Adopted int            `json:"adopted"`
	By      map[string]int `json:"by"`
	// Left are entries of the old origin that no item of the new one is, New are items of
	// the new one that no entry is: the first hundred of each.
	Left    []string `json:"left,omitempty"`
	LeftAll int      `json:"leftAll,omitempty"`
	New     []string `json:"new,omitempty"`
	NewAll  int      `json:"newAll,omitempty"`
	// Replaced are entries that the new origin made already of items which are now those of
	// the old one: they are deleted.
	Replaced int  `json:"replaced,omitempty"`
	Applied  bool `json:"applied"`
	// Compared is the comparison with the new origin that followed.
	Compared *Reconciled `json:"compared,omitempty"`
}

// Adopt has the entries of one origin change hands to another, which is configured; those
// are recognised by key, slug or path, or by one of them alone. Ids, paths and histories
// stay. Without apply it only tells what would happen.
func (in *Service) Adopt(
	ctx context.Context, old, name, by, actor string, apply bool, progress Progress,
) (out Adoption, err error) {
	source := in.sources[name]
	if source == nil {
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	if in.sources[old] != nil && apply {
		return out, fmt.Errorf("origin %s: %w", old, ErrConfigured)
	}
	defer in.forgetCounts()
	ways := adoptBy
	if by != "" {
		ways = []string{by}
	}
	if !slices.Contains(adoptBy, ways[0]) {
		return out, api.BadParameter("by", "%q is none of key, slug and path", by)
	}
	known := map[string]events.Owned{} // by type, way and what it is known by
	left := map[string]events.Owned{}
	for after := ""; ; {
		owned, err := in.store.Rejected.OwnedBy(ctx, old, after, 1000)
		if err != nil {
			return out, err
		}
		if len(owned) == 0 {
			break
		}
		after = owned[len(owned)-1].ID
		for _, e := range owned {
			left[e.ID] = e
			known[e.Type+"\nkey\n"+e.Key] = e
			for _, slug := range e.Slugs {
				known[e.Type+"\nslug\n"+slug] = e
			}
			for _, path := range e.Paths {
				known[e.Type+"\npath\n"+path] = e
			}
		}
	}
	if len(left) == 0 && in.sources[old] == nil {
		return out, fmt.Errorf("origin %q: no entry comes from it: %w", old, db.ErrNotFound)
	}
	out.By, out.Applied = map[string]int{}, apply
	var entries, keys, made []string
	own := map[string]string{}
	hand := func(least int) error {
		if len(entries) < least || !apply {
			return nil
		}
		var twice []writing.Edit
		for _, id := range made {
			if _, is := own[id]; is {
				twice = append(twice, writing.Edit{ID: id, Origin: name, Delete: true, EvenIfReferred: true})
			}
		}
		if err := in.eachOrAll(ctx, twice, actor, content.Cause{Kind: "user", Name: actor},
			func(string, error) {}); err != nil {
			return err
		}
		_, err := in.store.Rejected.ChangeOrigin(ctx, old, name, entries, keys, made)
		entries, keys, made = nil, nil, nil
		return err
	}
	for _, typ := range slices.Sorted(maps.Keys(source.Config.Types)) {
		if own, err = in.store.Entries.EntryIDs(ctx, name, typ); err != nil {
			return out, err
		}
		slug := ""
		if f := in.replica.Model().Type(typ).SlugField(); f != nil {
			slug = f.Name
		}
		err := source.All(ctx, in.replica.Model(), typ, func(items []origin.Item) error {
			for _, item := range items {
				names := map[string]string{
					"key":  item.Key,
					"slug": anyText(item.Saved[slug]),
					"path": pathOf(item.Path),
				}
				found := false
				for _, way := range ways {
					e, is := known[typ+"\n"+way+"\n"+names[way]]
					if names[way] == "" || !is {
						continue
					}
					if _, still := left[e.ID]; !still {
						continue // another item was it
					}
					delete(left, e.ID)
					out.Adopted++
					out.By[way]++
					if _, is := own[item.ID]; is {
						out.Replaced++
					}
					entries, keys, made = append(entries, e.ID), append(keys, item.Key), append(made, item.ID)
					found = true
					break
				}
				if !found {
					if out.NewAll++; len(out.New) < 100 {
						out.New = append(out.New, typ+" "+item.Key)
					}
				}
			}
			progress(typ, out.Adopted)
			return hand(entriesPerStep)
		}, func(origin.BadItem) {})
		if err == nil {
			err = hand(1)
		}
		if err != nil {
			return out, err
		}
	}
	for _, id := range slices.Sorted(maps.Keys(left)) {
		if out.LeftAll++; len(out.Left) < 100 {
			e := left[id]
			out.Left = append(out.Left, fmt.Sprintf("%s %s (%s)", e.Type, e.Title, e.ID))
		}
	}
	if !apply {
		return out, nil
	}
	now, err := in.store.Rejected.Clock(ctx)
	if err == nil {
		err = in.store.Rejected.DropBefore(ctx, old, now)
	}
	if err != nil {
		return out, err
	}
	done, err := in.Reconcile(ctx, name, content.Cause{Kind: "reconcile", Name: name}, false, progress)
	out.Compared = &done
	return out, err
}

// pathOf is the path of an address, or of a path.
func pathOf(text string) string {
	u, err := url.Parse(text)
	if err != nil || text == "" {
		return ""
	}
	path, err := query.CleanPath(u.Path)
	if err != nil {
		return ""
	}
	return path
}

// anyText is a value if it is a text.
func anyText(v any) string {
	s, _ := v.(string)
	return s
}

// resolveAdopted replaces, in items, the ids that are made of an origin's keys by those of
// the adopted entries, which were made of another origin's.
func (in *Service) resolveAdopted(ctx context.Context, items []origin.Item) error {
	var ids []string
	for i := range items {
		ids = append(ids, items[i].ID)
		mapIDs(items[i].Saved, func(id string) string { ids = append(ids, id); return id })
		mapIDs(items[i].Live, func(id string) string { ids = append(ids, id); return id })
	}
	adopted, err := in.store.Rejected.Adopted(ctx, ids)
	if err != nil || len(adopted) == 0 {
		return err
	}
	other := func(id string) string {
		if entry, is := adopted[id]; is {
			return entry
		}
		return id
	}
	for i := range items {
		items[i].ID = other(items[i].ID)
		mapIDs(items[i].Saved, other)
		mapIDs(items[i].Live, other)
	}
	return nil
}

// mapIDs replaces what has the form of an id that is made of an origin's key.
func mapIDs(v any, other func(string) string) any {
	switch v := v.(type) {
	case string:
		if content.IsMadeID(v) {
			return other(v)
		}
	case content.Fields:
		for name, inner := range v {
			v[name] = mapIDs(inner, other)
		}
	case map[string]any:
		for name, inner := range v {
			v[name] = mapIDs(inner, other)
		}
	case []any:
		for i, inner := range v {
			v[i] = mapIDs(inner, other)
		}
	}
	return v
}

// adoptedID is the id of the adopted entry for an id that is made of an origin's key, or that
// id itself.
func (in *Service) adoptedID(ctx context.Context, made string) (string, error) {
	adopted, err := in.store.Rejected.Adopted(ctx, []string{made})
	if entry, is := adopted[made]; is {
		return entry, err
	}
	return made, err
}
