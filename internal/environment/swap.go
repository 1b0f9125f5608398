package environment

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/ingest"
	"ubiquon/internal/settings"
)

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
	if len(out.Types) == 0 {
		if err := e.standAgain(ctx, in.Origin, in.From, actor, in.Apply, &out); err != nil {
			return out, err
		}
		if !in.Apply {
			return out, nil
		}
	}
	slices.Sort(out.Types)
	if out.Adoption, out.Differences, err = e.Ingest.Rehearse(ctx, in.From, in.Origin, in.By, progress); err != nil {
		return out, err
	}
	if !in.Apply {
		return out, nil
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

// standAgain has an origin stand by with the types that it mapped before it was swapped out.
func (e *Environment) standAgain(
	ctx context.Context, name, other, actor string, apply bool, out *api.Swapped,
) error {
	versions, err := e.Settings.Versions(ctx, settings.KindOrigin, name)
	if err != nil {
		return err
	}
	theirs := e.Settings.State().Origins[other]
	for _, v := range versions {
		var spec map[string]any
		if err := json.Unmarshal(v.Spec, &spec); err != nil {
			continue // the version in which it was removed
		}
		types, _ := spec["types"].(map[string]any)
		var both []string
		for typ := range types {
			if _, is := theirs.Types[typ]; is {
				both = append(both, typ)
			}
		}
		if len(both) == 0 {
			continue
		}
		out.Types, out.Restores = both, v.Version
		if !apply {
			return nil
		}
		return e.change(ctx, name, actor, false, func(now map[string]any) {
			kept, _ := now["types"].(map[string]any)
			if kept == nil {
				kept = map[string]any{}
				now["types"] = kept
			}
			for _, typ := range both {
				kept[typ] = types[typ]
			}
			if len(kept) == len(both) {
				now["standby"] = true
			}
		})
	}
	return api.BadParameter(
		"from",
		"%s maps no type that %s maps, and stands by for none; nothing can be swapped",
		name,
		other,
	)
}

// change changes the configuration of an origin; with check it only says what would be wrong with it.
func (e *Environment) change(
	ctx context.Context, name, actor string, check bool, do func(spec map[string]any),
) error {
	saved, err := e.Settings.Get(settings.KindOrigin, name)
	if err != nil {
		return err
	}
	var spec map[string]any
	if err := json.Unmarshal(saved.Spec, &spec); err != nil {
		return err
	}
	do(spec)
	src, err := json.Marshal(spec)
	if err != nil {
		return err
	}
	put, err := e.Settings.Put(ctx, settings.KindOrigin, name, src, actor, &saved.Version, check)
	if err == nil && len(put.Problems) > 0 {
		err = &settings.InvalidError{Of: "origin " + name, Mistakes: put.Problems}
	}
	return err
}
