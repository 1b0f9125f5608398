package environment

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/ingest"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/writing"
)

// mostImpactn bounds the changes whose answers and pages a rehearsal names.
const mostImpactn = 2_000

// Swap has an origin take the place of another one for the types that it maps: those are taken out of the
// other's configuration, its entries change hands, and the new one does not stand by any more. Ids, paths
// and histories stay. Where the new one has mapped nothing of the old one since it was swapped out
// itself, its configuration of before is taken: so a swap is taken back by the swap the other way
// round. Without apply it only says what would happen, and in what readers would see a difference.
func (e *Environment) Swap(
	ctx context.Context, in api.OriginSwap, actor string, progress ingest.Progress,
) (out api.Swapped, err error) {
	present := e.Settings.Origins()
	old, is := present[in.From]
	if !is {
		return out, fmt.Errorf("origin %q: %w", in.From, ingest.ErrUnknownOrigin)
	}
	next, is := present[in.Origin]
	if !is {
		return out, fmt.Errorf("origin %q: %w", in.Origin, ingest.ErrUnknownOrigin)
	}
	for typ := range next.Types {
		if _, both := old.Types[typ]; both {
			out.Types = append(out.Types, typ)
		}
	}
	restore := func(map[string]any) {}
	if len(out.Types) == 0 {
		if restore, err = e.before(ctx, in.Origin, in.From, &out); err != nil {
			return out, err
		}
	}
	slices.Sort(out.Types)
	_, src, err := e.changed(in.Origin, restore)
	if err != nil {
		return out, err
	}
	wouldBe, err := e.Settings.OriginToTry(in.Origin, src)
	if err != nil {
		return out, err
	}
	if out.Restores == 0 {
		wouldBe = nil // it is read with what it has fetched already
	}
	var seen []content.Change
	out.Adoption, out.Differences, err = e.Ingest.Rehearse(ctx, in.From, in.Origin, in.By, wouldBe, progress,
		func(edits []writing.Edit) error {
			if in.Apply || len(seen) >= mostImpactn {
				return nil
			}
			m, version := e.Replica.Present()
			some, err := e.Replica.Store().Writer.Simulate(ctx, m, version, edits, content.Cause{Kind: "swap", Name: in.Origin})
			seen = append(seen, some...)
			return err
		})
	if err != nil {
		return out, err
	}
	if !in.Apply {
		out.Readers, err = e.Diagnosis.Impact(ctx, seen)
		return out, err
	}
	if out.Restores > 0 {
		if err := e.change(ctx, in.Origin, actor, false, restore); err != nil {
			return out, err
		}
	}
	ready := func(spec map[string]any) { delete(spec, "standby") }
	if err := e.change(ctx, in.Origin, actor, true, ready); err != nil {
		return out, err // before anything is changed
	}
	if err := e.change(ctx, in.From, actor, false, func(spec map[string]any) {
		types, _ := spec["types"].(map[string]any)
		for _, typ := range out.Types {
			delete(types, typ)
		}
		if len(types) == 0 {
			spec["standby"] = true
		}
	}); err != nil {
		return out, err
	}
	if out.Adoption, err = e.Ingest.Adopt(ctx, in.From, in.Origin, in.By, actor, true, progress); err != nil {
		return out, err
	}
	return out, e.change(ctx, in.Origin, actor, false, ready)
}

// before returns what has an origin stand by with the types that it mapped before it was swapped out.
func (e *Environment) before(
	ctx context.Context, name, other string, out *api.Swapped,
) (func(spec map[string]any), error) {
	versions, err := e.Settings.Versions(ctx, settings.KindOrigin, name)
	if err != nil {
		return nil, err
	}
	theirs := e.Settings.State().Origins[other]
	for _, v := range versions {
		var spec map[string]any
		if err := json.Unmarshal(v.Spec, &spec); err != nil {
			continue // the version in which it was removed
		}
		types, _ := spec["types"].(map[string]any)
		for typ := range types {
			if _, is := theirs.Types[typ]; is {
				out.Types = append(out.Types, typ)
			}
		}
		if len(out.Types) == 0 {
			continue
		}
		out.Restores = v.Version
		return func(now map[string]any) {
			kept, _ := now["types"].(map[string]any)
			if kept == nil {
				kept = map[string]any{}
				now["types"] = kept
			}
			for _, typ := range out.Types {
				kept[typ] = types[typ]
			}
			if len(kept) == len(out.Types) {
				now["standby"] = true
			}
		}, nil
	}
	return nil, api.BadParameter(
		"from",
		"%s maps no type that %s maps, and stands by for none; nothing can be swapped",
		name,
		other,
	)
}

// changed is the configuration of an origin as it is saved, and as it would be after a change.
func (e *Environment) changed(
	name string, do func(spec map[string]any),
) (saved api.SavedSetting, src []byte, err error) {
	if saved, err = e.Settings.Get(settings.KindOrigin, name); err != nil {
		return saved, nil, err
	}
	var spec map[string]any
	if err := json.Unmarshal(saved.Spec, &spec); err != nil {
		return saved, nil, err
	}
	do(spec)
	src, err = json.Marshal(spec)
	return saved, src, err
}

// change changes the configuration of an origin; with check it only says what would be wrong with it.
func (e *Environment) change(
	ctx context.Context, name, actor string, check bool, do func(spec map[string]any),
) error {
	saved, src, err := e.changed(name, do)
	if err != nil {
		return err
	}
	put, err := e.Settings.Put(ctx, settings.KindOrigin, name, src, actor, &saved.Version, check)
	if err == nil && len(put.Problems) > 0 {
		err = &settings.InvalidError{Of: "origin " + name, Mistakes: put.Problems}
	}
	return err
}
