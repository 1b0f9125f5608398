package diagnose

import (
	"context"
	"errors"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/identity"
)

// CheckKey says what a key would see: named, by id, or by its secret; an empty
// name stands for everyone.
func (d *Service) CheckKey(ctx context.Context, name string) (api.KeyVisibility, error) {
	out := api.KeyVisibility{Reader: "everyone", Sights: []api.TypeVisibility{}}
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
			s := api.TypeVisibility{Type: t, Edition: edition, Entries: counts[t][edition]}
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
