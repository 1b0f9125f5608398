package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
)

// ErrNotPushed is the error of writing items of an origin that is read from somewhere.
var ErrNotPushed = errors.New("its items are not written here; an origin that writes them has pull: {push: true}")

// pushedItems are the items that an origin has written here.
type pushedItems struct {
	in   *Service
	name string
}

// List implements origin.Pushed. While some items are read and taken over, none are written: what is
// taken over is never older than what was written last.
func (p pushedItems) List(ctx context.Context, kind string, each func([]any) error) error {
	some := func(after string) (last string, err error) {
		end, err := p.in.writingItems(ctx, p.name)
		if err != nil {
			return "", err
		}
		defer end()
		found, err := p.in.store.Rejected.PushedAfter(ctx, p.name, kind, after)
		if err != nil || len(found) == 0 {
			return "", err
		}
		items := make([]any, len(found))
		for i := range found {
			if items[i], err = itemOf(found[i]); err != nil {
				return "", err
			}
		}
		return found[len(found)-1].Key, each(items)
	}
	for after := ""; ; {
		last, err := some(after)
		if err != nil || last == "" {
			return err
		}
		after = last
	}
}

// Get implements origin.Pushed.
func (p pushedItems) Get(ctx context.Context, kind, key string) (any, error) {
	one, ok, err := p.in.store.Rejected.Pushed(ctx, p.name, kind, key)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fmt.Errorf("origin %s: %w", p.name, origin.ErrGone)
	}
	return itemOf(one)
}

// writingItems waits until nobody else on this node writes, or takes over, items of an origin that writes
// here.
func (in *Service) writingItems(ctx context.Context, name string) (end func(), err error) {
	return in.alone(ctx, "items of "+name)
}

// itemOf is an item as it is mapped: as it was written, with its key where it does not say one.
func itemOf(p events.PushedItem) (any, error) {
	var item map[string]any
	if err := json.Unmarshal(p.Item, &item); err != nil {
		return nil, fmt.Errorf("the item %s is no JSON object: %w", p.Key, err)
	}
	if _, says := item["key"]; !says {
		item["key"] = p.Key
	}
	return item, nil
}

// Push keeps items that an origin writes, replaces those of the same keys, and takes them over. What
// cannot be taken over is kept all the same: it is taken once the model or the mapping allows it.
func (in *Service) Push(
	ctx context.Context, name, typ string, items []api.PushedItem, actor string,
) (out api.PushOutcome, err error) {
	source, typ, err := in.pushing(name, typ)
	if err != nil {
		return out, err
	}
	kind := source.Config.Kind(typ)
	kept := make([]events.PushedItem, len(items))
	mapped := make([]origin.Item, 0, len(items))
	out.NotTaken = []api.NotTaken{}
	byID := map[string]string{}
	note := func(bad origin.BadItem) {
		out.NotTaken = append(out.NotTaken, api.NotTaken{Key: bad.Key, Reasons: reasonsOf(bad.Err)})
		in.noteTaken(ctx, name, bad, bad.Err)
	}
	for i, one := range items {
		if one.Key == "" || len(one.Key) > 500 || strings.ContainsFunc(one.Key, unicode.IsControl) {
			return out, api.BadParameter(
				"key",
				"item %d: a key has 1 to 500 characters, none of them a control character",
				i+1,
			)
		}
		kept[i] = events.PushedItem{Kind: kind, Key: one.Key, Item: one.Item}
		raw, err := itemOf(kept[i])
		if err != nil {
			return out, api.BadParameter("item", "item %d: %v", i+1, err)
		}
		item, err := source.Map(in.replica.Model(), typ, raw)
		switch {
		case err != nil:
			note(origin.BadItem{Type: typ, Key: one.Key, Err: err})
		case item.Key != one.Key:
			return out, api.BadParameter(
				"key",
				"item %d is called %q within, and %q in the request",
				i+1,
				item.Key,
				one.Key,
			)
		default:
			byID[item.ID] = one.Key
			mapped = append(mapped, item)
		}
	}
	end, err := in.writingItems(ctx, name)
	if err != nil {
		return out, err
	}
	defer end()
	if err := in.store.Rejected.PutPushed(ctx, name, kept); err != nil {
		return out, err
	}
	if mapped, err = in.resolve(ctx, mapped, note); err != nil {
		return out, err
	}
	var done api.Reconciled
	cause := content.Cause{Kind: "event", Name: name}
	for _, item := range mapped {
		out.IDs = append(out.IDs, item.ID)
		if err := in.store.Rejected.Drop(ctx, name, typ, []string{item.Key}); err != nil {
			return out, err
		}
	}
	if err := in.takeItems(ctx, mapped, name, cause, &done, note); err != nil {
		return out, err
	}
	out.Taken, out.Changed, out.Sequence = len(items)-len(out.NotTaken), done.Changed, done.Sequence
	in.news.Tell("origins")
	return out, nil
}

// DropPushed deletes an item that an origin has written, and its entry. Its error is db.ErrNotFound if
// there is none.
func (in *Service) DropPushed(ctx context.Context, name, typ, key string) (out api.PushOutcome, err error) {
	source, typ, err := in.pushing(name, typ)
	if err != nil {
		return out, err
	}
	end, err := in.writingItems(ctx, name)
	if err != nil {
		return out, err
	}
	defer end()
	was, err := in.store.Rejected.DropPushed(ctx, name, source.Config.Kind(typ), key)
	if err != nil {
		return out, err
	}
	if !was {
		return out, fmt.Errorf("the item %s of origin %s: %w", key, name, db.ErrNotFound)
	}
	var done api.Reconciled
	refs := []origin.Ref{{Type: typ, Key: key}}
	err = in.takeRefs(ctx, source, refs, content.Cause{Kind: "event", Name: name}, &done, func(origin.BadItem) {})
	if err == nil && len(done.Bad) > 0 {
		err = errors.New(done.Bad[0])
	}
	out.NotTaken = []api.NotTaken{}
	out.Changed, out.Sequence = done.Changed, done.Sequence
	return out, err
}

// pushing returns an origin whose items are written here, and the type that is meant.
func (in *Service) pushing(name, typ string) (*origin.Source, string, error) {
	source := in.known()[name]
	switch {
	case source == nil:
		return nil, "", fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
	case !source.Config.Pull.Push:
		return nil, "", fmt.Errorf("origin %q: %w", name, ErrNotPushed)
	}
	if typ == "" && len(source.Config.Types) == 1 {
		for typ = range source.Config.Types {
			return source, typ, nil
		}
	}
	if _, is := source.Config.Types[typ]; !is {
		return nil, "", api.BadParameter("type", "%q is none of the types that origin %s maps", typ, name)
	}
	return source, typ, nil
}

// reasonsOf lists what is wrong with an item: problems by field, or what an error says.
func reasonsOf(err error) []string {
	var problems content.Problems
	if !errors.As(err, &problems) {
		return []string{err.Error()}
	}
	var out []string
	for _, p := range problems {
		text := p.Text
		if p.Path != "" {
			text = p.Path + ": " + text
		}
		out = append(out, text)
	}
	return out
}
