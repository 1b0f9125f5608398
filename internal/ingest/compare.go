package ingest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/events"
)

// mostCompared bounds what is listed of each kind of difference.
const mostCompared = 100

// Compare says how what an origin has differs from what is held of it, and changes nothing.
func (in *Service) Compare(ctx context.Context, name string, progress Progress) (out api.Comparison, err error) {
	source := in.known()[name]
	if source == nil {
		return out, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	}
	return in.compare(ctx, source, name, nil, progress, nil)
}

// compare compares with what is held of an origin; as makes of an item what it would be there, and
// changed is told the items that are not here like that.
func (in *Service) compare(
	ctx context.Context, source *origin.Source, owner string, as func(*origin.Item), progress Progress,
	changed func([]origin.Item) error,
) (out api.Comparison, err error) {
	out.Missing, out.Extra, out.Different, out.NotTaken = []string{}, []string{}, []api.Difference{}, []api.NotTaken{}
	bad := func(item origin.BadItem) {
		if out.NotTakenAll++; len(out.NotTaken) < mostCompared {
			out.NotTaken = append(
				out.NotTaken,
				api.NotTaken{Type: item.Type, Key: item.Key, Reasons: reasonsOf(item.Err)},
			)
		}
	}
	for _, typ := range slices.Sorted(maps.Keys(source.Config.Types)) {
		held, err := in.store.Entries.EntryIDs(ctx, owner, typ)
		if err != nil {
			return out, err
		}
		err = source.All(ctx, in.replica.Model(), typ, func(items []origin.Item) error {
			out.Seen += len(items)
			items, err := in.resolve(ctx, items, func(item origin.BadItem) {
				delete(held, content.MakeID(source.Name, typ, item.Key))
				bad(item)
			})
			if err != nil {
				return err
			}
			for i := range items {
				if as != nil {
					as(&items[i])
				}
			}
			progress(typ, out.Seen)
			others, err := in.compareItems(ctx, items, held, &out, bad)
			if err == nil && changed != nil && len(others) > 0 {
				err = changed(others)
			}
			return err
		}, func(item origin.BadItem) {
			delete(held, content.MakeID(source.Name, typ, item.Key))
			bad(item)
		})
		if err != nil {
			return out, err
		}
		for _, id := range slices.Sorted(maps.Keys(held)) {
			if source.Feed() {
				break // feeds list what is new
			}
			if out.ExtraAll++; len(out.Extra) < mostCompared {
				out.Extra = append(out.Extra, fmt.Sprintf("%s %s (%s)", typ, held[id], id))
			}
		}
	}
	return out, nil
}

// compareItems compares items with what is held of them, takes them out of held, and returns those that are
// not here like that.
func (in *Service) compareItems(
	ctx context.Context, items []origin.Item, held map[string]string, out *api.Comparison, bad func(origin.BadItem),
) (others []origin.Item, err error) {
	ids := make([]string, len(items))
	for i := range items {
		ids[i] = items[i].ID
	}
	stored, err := in.store.Rejected.HeldOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	m := in.replica.Model()
	for i := range items {
		item := &items[i]
		t := m.Type(item.Type)
		same := out.Same
		delete(held, item.ID)
		saved := content.Mirrored(content.Normalise(m, t, item.ID, item.Saved))
		problems := content.Check(m, t, item.ID, saved, content.For{Publish: item.Live != nil})
		was, there := stored[item.ID]
		switch {
		case len(problems) > 0:
			bad(origin.BadItem{Type: item.Type, Key: item.Key, Err: problems})
		case !there:
			if out.MissingAll++; len(out.Missing) < mostCompared {
				out.Missing = append(out.Missing, item.Type+" "+item.Key)
			}
		default:
			if err := in.difference(ctx, m, t, item, was, out); err != nil {
				bad(origin.BadItem{Type: item.Type, Key: item.Key, Err: err})
			}
		}
		if len(problems) == 0 && out.Same == same {
			others = append(others, *item)
		}
	}
	return others, nil
}

// difference notes in what an item differs from what is held of it. Files are looked at only where something
// differs: the same bytes elsewhere are the same file.
func (in *Service) difference(
	ctx context.Context, m *model.Model, t *model.Type, item *origin.Item, was events.Held, out *api.Comparison,
) error {
	saved, live := content.Normalise(m, t, item.ID, item.Saved), content.Fields(nil)
	if item.Live != nil {
		live = content.Normalise(m, t, item.ID, item.Live)
	}
	fields := differingInEither(content.Mirrored(saved), content.Mirrored(live), was)
	if len(fields) > 0 && (content.HasMirrors(saved) || content.HasMirrors(live)) {
		var failed error
		of := func(address string) string {
			id, err := in.with.MirrorOf(ctx, address)
			failed = errors.Join(failed, err)
			return id
		}
		fields = differingInEither(content.MirroredAs(saved, of), content.MirroredAs(live, of), was)
		if failed != nil {
			return failed
		}
	}
	state := ""
	switch {
	case live == nil && was.Live != nil:
		state = "the origin does not show it"
	case live != nil && was.Live == nil:
		state = "the origin shows it, and it is not published here"
	}
	if len(fields) == 0 && state == "" {
		out.Same++
		return nil
	}
	if out.DifferentAll++; len(out.Different) < mostCompared {
		out.Different = append(out.Different, api.Difference{
			Type: item.Type, Key: item.Key, Entry: item.ID, Title: was.Title, Fields: fields, State: state,
		})
	}
	return nil
}

// differingInEither lists the fields in which the saved or the published state differs from what is held.
func differingInEither(saved, live content.Fields, was events.Held) []string {
	fields := differing(saved, was.Saved)
	for _, name := range differing(live, was.Live) {
		if !slices.Contains(fields, name) {
			fields = append(fields, name)
		}
	}
	return fields
}

// differing lists the fields in which two states differ, sorted; none where one of them is nothing.
func differing(a, b content.Fields) (out []string) {
	if a == nil || b == nil {
		return nil
	}
	all := map[string]bool{}
	for name := range a {
		all[name] = true
	}
	for name := range b {
		all[name] = true
	}
	for name := range all {
		if !reflect.DeepEqual(plain(a[name]), plain(b[name])) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// plain is a value in the form in which it is stored.
func plain(v any) any {
	switch v := v.(type) {
	case int:
		return float64(v)
	case int64:
		return float64(v)
	case uint64:
		return float64(v)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plain(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = plain(inner)
		}
		return out
	}
	return v
}
