package identity

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// maxPreview bounds how long a preview link is good.
const maxPreview = 7 * 24 * time.Hour

// PreviewLinks are links that show one entry in preview. It is safe for concurrent use.
// NewKeys returns it.
type PreviewLinks struct {
	replica *replication.Replica
	store   *store.Store
	log     *slog.Logger
	limits  limits.Limits
	keys    *Keys
	secret  []byte // of the environment, signs links
	sites   func() map[string]rebuild.Site
}

// LinkOptions say what a preview link reaches.
type LinkOptions struct {
	// Locale whose path the addresses have; empty means the default one.
	Locale string
	// Good is how long it is good, at most a week.
	Good time.Duration
	// Backs lets it read what refers to the entry.
	Backs bool
}

// MakePreviewLink makes a link to an entry, with the addresses of the sites that have a
// preview. It reaches what its maker may read in preview, now and when it is used. Its
// error is db.ErrNotFound, accounts.ErrTooManyLinks or a *BadParameterError.
func (p *PreviewLinks) MakePreviewLink(
	ctx context.Context, id string, o LinkOptions, maker *access.Principal,
) (api.IssuedPreviewLink, error) {
	m := p.replica.Model()
	if o.Locale == "" {
		o.Locale = m.Default()
	}
	if _, known := m.Locale(o.Locale); !known {
		return api.IssuedPreviewLink{}, api.BadParameter(
			"locale", "there is no locale %q%s", o.Locale, strictyaml.DidYouMean(o.Locale, m.Tags()),
		)
	}
	if o.Good <= 0 || o.Good > maxPreview {
		return api.IssuedPreviewLink{}, api.BadParameter(
			"minutes", "a preview link is good for 1 minute to %d", maxPreview/time.Minute,
		)
	}
	kept := api.PreviewLink{
		ID:        content.NewID(),
		Entry:     id,
		Locale:    o.Locale,
		Backs:     o.Backs,
		MakerKind: maker.Kind,
		Maker:     maker.ID,
		By:        maker.Name,
		Grants: previewOnly(
			append(slices.Clone(maker.Rights.Open), maker.Rights.Own...),
		),
		Expires: time.Now().Add(o.Good).UTC().Truncate(time.Second),
	}
	if !maker.Until.IsZero() && maker.Until.Before(kept.Expires) {
		kept.Expires = maker.Until.UTC().Truncate(time.Second)
	}
	l := access.PreviewLink{ID: kept.ID, Entry: id, Expires: kept.Expires}
	out := api.IssuedPreviewLink{
		ID: kept.ID, Token: l.Token(p.secret), Expires: l.Expires,
		Addresses: []api.PreviewAddress{},
	}
	seen, err := p.store.Entries.DocumentOf(ctx, id, content.Preview, o.Locale)
	if err != nil {
		return out, err
	}
	if seen == nil {
		return out, fmt.Errorf("entry %s in %s: %w", id, o.Locale, db.ErrNotFound)
	}
	if seen.Path != "" {
		sites := p.sites()
		for _, name := range slices.Sorted(maps.Keys(sites)) {
			if template := sites[name].Preview; template != "" {
				address := strings.NewReplacer(
					"{path}", url.QueryEscape(seen.Path), "{token}", url.QueryEscape(out.Token),
					"{locale}", url.QueryEscape(o.Locale),
				).Replace(template)
				out.Addresses = append(out.Addresses, api.PreviewAddress{
					Site: name, Address: address, Public: strings.TrimSuffix(sites[name].Address, "/") + seen.Path,
				})
			}
		}
	}
	return out, p.store.PreviewLinks.Add(ctx, &kept, p.limits.PreviewLinks, content.UserCause(maker.Name))
}

// previewOnly are the grants as far as they are to read in preview.
func previewOnly(g access.Grants) access.Grants {
	return g.Intersect(access.Grants{{Verb: access.Read, Edition: content.Preview, Type: access.Any}})
}

// PreviewLinks lists the links that have not expired; of one entry, if one is given.
func (p *PreviewLinks) PreviewLinks(ctx context.Context, entry string) ([]api.PreviewLink, error) {
	return p.store.PreviewLinks.List(ctx, entry)
}

// PreviewLink returns a link by its id.
func (p *PreviewLinks) PreviewLink(ctx context.Context, id string) (api.PreviewLink, error) {
	return p.store.PreviewLinks.Get(ctx, id)
}

// RevokePreviewLink ends a link, on every node at once.
func (p *PreviewLinks) RevokePreviewLink(ctx context.Context, id, by string) error {
	return p.store.PreviewLinks.Revoke(ctx, id, content.UserCause(by))
}

// byPreviewLink is who reads with a preview link: somebody who may read what its maker
// could when it was made, and may now.
func (p *PreviewLinks) byPreviewLink(ctx context.Context, token, address string) (access.Principal, error) {
	l, err := access.ReadPreviewLink(token, p.secret, time.Now())
	if err != nil {
		return access.Principal{}, err
	}
	kept, err := p.store.PreviewLinks.Get(db.For(ctx, db.Reading), l.ID)
	if errors.Is(err, db.ErrNotFound) || err == nil && kept.Revoked != nil {
		return access.Principal{}, access.ErrPreviewRevoked
	}
	if err != nil {
		return access.Principal{}, err
	}
	own := kept.Grants
	switch kept.MakerKind {
	case access.ByAccount:
		own = own.Intersect(kept.MakerRole.Grants())
	case access.ByKey, access.BySiteKey:
		own = own.Intersect(p.presentGrants(kept.Maker))
	}
	if len(own) == 0 {
		return access.Principal{}, access.ErrPreviewRevoked
	}
	if kept.Used == nil || time.Since(*kept.Used) > 10*time.Minute {
		if err := p.store.PreviewLinks.Use(ctx, &kept, audit.Actor{
			Name: kept.By,
			Kind: string(access.ByPreviewLink), Address: address,
		}); err != nil {
			return access.Principal{}, err
		}
	}
	return access.Principal{
		Kind:   access.ByPreviewLink,
		Name:   "preview link",
		ID:     kept.ID,
		Only:   kept.Entry,
		Backs:  kept.Backs,
		Until:  kept.Expires,
		Rights: access.Rights{Open: p.keys.ring.publicGrants(), Own: own},
	}, nil
}

// presentGrants are those of a key as it is now; none if it is not good any more.
func (p *PreviewLinks) presentGrants(key string) access.Grants {
	p.keys.ring.mu.Lock()
	held := p.keys.ring.byID[key]
	p.keys.ring.mu.Unlock()
	if held == nil || held.Good(held.Hash, time.Now()) != nil {
		return nil
	}
	return append(slices.Clone(p.keys.ring.publicGrants()), held.Grants...)
}
