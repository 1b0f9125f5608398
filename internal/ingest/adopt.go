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

// Adopt has the entries of one origin change hands to another, which is configured; those
// are recognised by key, slug or path, or by one of them alone. Ids, paths and histories
// stay. Without apply it only tells what would happen. The old one must not map the types any more.
func (in *Service) Adopt(
	ctx context.Context, old, name, by, actor string, apply bool, progress Progress,
) (api.Adoption, error) {
	source := in.known()[name]
	if source == nil {
		return api.Adoption{}, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	return in.adopt(ctx, old, source, by, actor, apply, progress, map[string]string{})
}

// adopt is Adopt, and notes in matched, by the ids that are made of the new keys, the entries that change
// hands.
func (in *Service) adopt(
	ctx context.Context, old string, source *origin.Source, by, actor string, apply bool, progress Progress,
	matched map[string]string,
) (out api.Adoption, err error) {
	name := source.Name
	if apply && in.mapsOneOf(old, source) {
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
	a := adopting{
		matched: matched,
		in:      in,
		old:     old,
		name:    name,
		actor:   actor,
		apply:   apply,
		ways:    ways,
		types:   source.Config.Types,
		out:     &out,
	}
	if err := a.gather(ctx); err != nil {
		return out, err
	}
	if len(a.left) == 0 && in.known()[old] == nil {
		return out, fmt.Errorf("origin %q: no entry comes from it: %w", old, db.ErrNotFound)
	}
	out.By, out.Applied = map[string]int{}, apply
	for _, typ := range slices.Sorted(maps.Keys(source.Config.Types)) {
		if err := a.takeType(ctx, source, typ, progress); err != nil {
			return out, err
		}
	}
	for _, id := range slices.Sorted(maps.Keys(a.left)) {
		if out.LeftAll++; len(out.Left) < 100 {
			e := a.left[id]
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

// mapsOneOf tells whether an origin is read, and maps a type that another one maps.
func (in *Service) mapsOneOf(name string, other *origin.Source) bool {
	source := in.known()[name]
	if source == nil || source.Config.Standby {
		return false
	}
	for typ := range other.Config.Types {
		if _, is := source.Config.Types[typ]; is {
			return true
		}
	}
	return false
}

// adopting is an adoption under way.
type adopting struct {
	in               *Service
	old, name, actor string
	apply            bool
	ways             []string
	types            map[string]origin.Mapping // of the new origin
	out              *api.Adoption

	matched map[string]string

	known map[string]events.Owned // of the old origin, by type, way and what it is known by
	left  map[string]events.Owned // those that no item was found for, by id
	own   map[string]string       // keys of the entries that the new origin has of the type, by id

	// entries are to change hands to the items with these keys, which would have made those.
	entries, keys, made []string
}

// gather finds out what comes from the old origin.
func (a *adopting) gather(ctx context.Context) error {
	a.known, a.left = map[string]events.Owned{}, map[string]events.Owned{}
	for after := ""; ; {
		owned, err := a.in.store.Rejected.OwnedBy(ctx, a.old, after, 1000)
		if err != nil {
			return err
		}
		if len(owned) == 0 {
			return nil
		}
		after = owned[len(owned)-1].ID
		for _, e := range owned {
			if _, is := a.types[e.Type]; !is {
				continue // the new one does not map it
			}
			a.left[e.ID] = e
			a.known[e.Type+"\nkey\n"+e.Key] = e
			for _, slug := range e.Slugs {
				a.known[e.Type+"\nslug\n"+slug] = e
			}
			for _, path := range e.Paths {
				a.known[e.Type+"\npath\n"+path] = e
			}
		}
	}
}

// takeType goes through the items of a type.
func (a *adopting) takeType(ctx context.Context, source *origin.Source, typ string, progress Progress) error {
	var err error
	if a.own, err = a.in.store.Entries.EntryIDs(ctx, a.name, typ); err != nil {
		return err
	}
	slug := ""
	if f := a.in.replica.Model().Type(typ).SlugField(); f != nil {
		slug = f.Name
	}
	err = source.All(ctx, a.in.replica.Model(), typ, func(items []origin.Item) error {
		for i := range items {
			a.takeItem(typ, slug, &items[i])
		}
		progress(typ, a.out.Adopted)
		return a.hand(ctx, entriesPerStep)
	}, func(origin.BadItem) {})
	if err == nil {
		err = a.hand(ctx, 1)
	}
	return err
}

// takeItem finds the entry of the old origin that an item is.
func (a *adopting) takeItem(typ, slug string, item *origin.Item) {
	names := map[string]string{
		"key":  item.Key,
		"slug": anyText(item.Saved[slug]),
		"path": pathOf(item.Path),
	}
	for _, way := range a.ways {
		e, is := a.known[typ+"\n"+way+"\n"+names[way]]
		if names[way] == "" || !is {
			continue
		}
		if _, still := a.left[e.ID]; !still {
			continue // another item was it
		}
		delete(a.left, e.ID)
		a.out.Adopted++
		a.out.By[way]++
		if _, is := a.own[item.ID]; is {
			a.out.Replaced++
		}
		a.entries, a.keys = append(a.entries, e.ID), append(a.keys, item.Key)
		a.made = append(a.made, item.ID)
		a.matched[item.ID] = e.ID
		return
	}
	if a.out.NewAll++; len(a.out.New) < 100 {
		a.out.New = append(a.out.New, typ+" "+item.Key)
	}
}

// hand has what was found change hands, if it is that much at least.
func (a *adopting) hand(ctx context.Context, least int) error {
	if len(a.entries) < least || !a.apply {
		return nil
	}
	var twice []writing.Edit
	for _, id := range a.made {
		if _, is := a.own[id]; is {
			twice = append(twice, writing.Edit{ID: id, Origin: a.name, Delete: true, EvenIfReferred: true})
		}
	}
	if err := a.in.eachOrAll(ctx, twice, a.actor, content.Cause{Kind: "user", Name: a.actor},
		func(string, error) {}); err != nil {
		return err
	}
	_, err := a.in.store.Rejected.ChangeOrigin(ctx, a.old, a.name, a.entries, a.keys, a.made)
	a.entries, a.keys, a.made = nil, nil, nil
	return err
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

// adoptedID is the id of the adopted entry for an id that is made of an origin's key, or that
// id itself.
func (in *Service) adoptedID(ctx context.Context, made string) (string, error) {
	adopted, err := in.store.Rejected.Adopted(ctx, []string{made})
	if entry, is := adopted[made]; is {
		return entry, err
	}
	return made, err
}
