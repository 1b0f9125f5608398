package diagnose

import (
	"context"
	"errors"
	"slices"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/identity"
)

// KeyVisibility is what a key, or everyone, may read.
type KeyVisibility struct {
	Reader string `json:"reader"`
	// Problem is why the key is not good; empty if it is.
	Problem string           `json:"problem,omitempty"`
	Sights  []TypeVisibility `json:"sights"`
}

// TypeVisibility is what may be read of a type in an edition.
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
