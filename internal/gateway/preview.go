package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store"
)

// ErrOneEntry is the error of reading with a preview link what is not its entry.
var ErrOneEntry = errors.New("this link reads one entry in preview, and what that shows, by slug, id or path")

// maxPreview bounds how long a preview link is good.
const maxPreview = 7 * 24 * time.Hour

// PreviewLink is a link that reads one entry in preview.
type PreviewLink struct {
	ID      string    `json:"id"`
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
	// Addresses at which sites show it.
	Addresses []PreviewAddress `json:"addresses"`
}

// PreviewAddress is where a site shows an entry in preview.
type PreviewAddress struct {
	Site    string `json:"site"`
	Address string `json:"address"`
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
// error is store.ErrNotFound, store.ErrTooManyLinks or a *BadAccessError.
func (g *Gateway) MakePreviewLink(ctx context.Context, id string, o LinkOptions, maker *access.Reader) (PreviewLink, error) {
	m := g.Model()
	if o.Locale == "" {
		o.Locale = m.Default()
	}
	if _, known := m.Locale(o.Locale); !known {
		return PreviewLink{}, badAccess("locale", "there is no locale %q%s", o.Locale, strictyaml.DidYouMean(o.Locale, m.Tags()))
	}
	if o.Good <= 0 || o.Good > maxPreview {
		return PreviewLink{}, badAccess("minutes", "a preview link is good for 1 minute to %d", maxPreview/time.Minute)
	}
	kept := store.PreviewLink{ID: content.NewID(), Entry: id, Locale: o.Locale, Backs: o.Backs, MakerKind: maker.Kind, Maker: maker.ID, By: maker.Name,
		Grants: previewOnly(append(slices.Clone(maker.Rights.Open), maker.Rights.Own...)), Expires: time.Now().Add(o.Good).UTC().Truncate(time.Second)}
	if !maker.Until.IsZero() && maker.Until.Before(kept.Expires) {
		kept.Expires = maker.Until.UTC().Truncate(time.Second)
	}
	l := access.PreviewLink{ID: kept.ID, Entry: id, Expires: kept.Expires}
	out := PreviewLink{ID: kept.ID, Token: l.Token(g.secret), Expires: l.Expires, Addresses: []PreviewAddress{}}
	seen, err := g.store.DocumentOf(ctx, id, content.Preview, o.Locale)
	if err != nil {
		return out, err
	}
	if seen == nil {
		return out, fmt.Errorf("entry %s in %s: %w", id, o.Locale, store.ErrNotFound)
	}
	if seen.Path != "" {
		for _, name := range sortedKeys(g.sites) {
			if template := g.sites[name].Preview; template != "" {
				out.Addresses = append(out.Addresses, PreviewAddress{name, strings.NewReplacer("{path}", url.QueryEscape(seen.Path), "{token}", url.QueryEscape(out.Token), "{locale}", url.QueryEscape(o.Locale)).Replace(template)})
			}
		}
	}
	return out, g.store.AddPreviewLink(ctx, &kept, g.limits.PreviewLinks, userCause(maker.Name))
}

// previewOnly are the grants as far as they are to read in preview.
func previewOnly(g access.Grants) access.Grants {
	return g.Intersect(access.Grants{{Verb: access.Read, Edition: content.Preview, Type: access.Any}})
}

// PreviewLinks lists the links that have not expired; of one entry, if one is given.
func (g *Gateway) PreviewLinks(ctx context.Context, entry string) ([]store.PreviewLink, error) {
	return g.store.PreviewLinks(ctx, entry)
}

// PreviewLink returns a link by its id.
func (g *Gateway) PreviewLink(ctx context.Context, id string) (store.PreviewLink, error) {
	return g.store.PreviewLink(ctx, id)
}

// RevokePreviewLink ends a link, on every node at once.
func (g *Gateway) RevokePreviewLink(ctx context.Context, id, by string) error {
	return g.store.RevokePreviewLink(ctx, id, userCause(by))
}

// byPreviewLink is who reads with a preview link: somebody who may read what its maker
// could when it was made, and may now.
func (g *Gateway) byPreviewLink(ctx context.Context, token, address string) (access.Reader, error) {
	l, err := access.ReadPreviewLink(token, g.secret, time.Now())
	if err != nil {
		return access.Reader{}, err
	}
	kept, err := g.store.PreviewLink(store.For(ctx, store.Reading), l.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && kept.Revoked != nil {
		return access.Reader{}, access.ErrPreviewRevoked
	}
	if err != nil {
		return access.Reader{}, err
	}
	own := kept.Grants
	switch kept.MakerKind {
	case access.ByAccount:
		own = own.Intersect(kept.MakerRole.Grants())
	case access.ByKey, access.BySiteKey:
		own = own.Intersect(g.presentGrants(kept.Maker))
	}
	if len(own) == 0 {
		return access.Reader{}, access.ErrPreviewRevoked
	}
	if kept.Used == nil || time.Since(*kept.Used) > 10*time.Minute {
		if err := g.store.UsePreviewLink(ctx, &kept, store.Actor{Name: kept.By, Kind: string(access.ByPreviewLink), Address: address}); err != nil {
			return access.Reader{}, err
		}
	}
	return access.Reader{Kind: access.ByPreviewLink, Name: "preview link", ID: kept.ID, Only: kept.Entry, Backs: kept.Backs, Until: kept.Expires,
		Rights: access.Rights{Open: g.keys.opened(), Own: own}}, nil
}

// presentGrants are those of a key as it is now; none if it is not good any more.
func (g *Gateway) presentGrants(key string) access.Grants {
	g.keys.mu.Lock()
	held := g.keys.byID[key]
	g.keys.mu.Unlock()
	if held == nil || held.Good(held.Hash, time.Now()) != nil {
		return nil
	}
	return append(slices.Clone(g.keys.opened()), held.Grants...)
}

// found are the entries that the roots of a preview were found to be; none if one
// of them is a list, or found nothing.
func found(q *query.Query, res *query.Result) []string {
	if q.Edition != content.Preview {
		return nil
	}
	var out []string
	for i := range q.Roots {
		if q.Roots[i].By == query.ByList || len(res.Roots[i].Rows) == 0 {
			return nil
		}
		out = append(out, res.Roots[i].Rows[0].ID)
	}
	return out
}
