package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/url"
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

// MakePreviewLink makes a link that is good for a span, at most a week, with the
// addresses of the sites that have a preview, for the entry's path in a locale;
// empty means the default one. Its error is store.ErrNotFound or a
// *BadAccessError.
func (g *Gateway) MakePreviewLink(ctx context.Context, id, locale string, good time.Duration, by string) (PreviewLink, error) {
	m := g.Model()
	if locale == "" {
		locale = m.Default()
	}
	if _, known := m.Locale(locale); !known {
		return PreviewLink{}, badAccess("locale", "there is no locale %q%s", locale, strictyaml.DidYouMean(locale, m.Tags()))
	}
	if good <= 0 || good > maxPreview {
		return PreviewLink{}, badAccess("minutes", "a preview link is good for 1 minute to %d", maxPreview/time.Minute)
	}
	l := access.PreviewLink{Entry: id, Expires: time.Now().Add(good).UTC().Truncate(time.Second)}
	out := PreviewLink{Token: l.Token(g.secret), Expires: l.Expires, Addresses: []PreviewAddress{}}
	seen, err := g.store.DocumentOf(ctx, id, content.Preview, locale)
	if err != nil {
		return out, err
	}
	if seen == nil {
		return out, fmt.Errorf("entry %s in %s: %w", id, locale, store.ErrNotFound)
	}
	if seen.Path != "" {
		for _, name := range sortedKeys(g.sites) {
			if template := g.sites[name].Preview; template != "" {
				out.Addresses = append(out.Addresses, PreviewAddress{name, strings.NewReplacer("{path}", url.QueryEscape(seen.Path), "{token}", url.QueryEscape(out.Token), "{locale}", url.QueryEscape(locale)).Replace(template)})
			}
		}
	}
	return out, g.Note(ctx, by, "entry preview", id, nil, map[string]any{"expires": l.Expires})
}

// byPreviewLink is who reads with a preview link.
func (g *Gateway) byPreviewLink(token string) (access.Reader, error) {
	l, err := access.ReadPreviewLink(token, g.secret, time.Now())
	if err != nil {
		return access.Reader{}, err
	}
	own := access.Grants{{Verb: access.Read, Edition: content.Preview, Type: access.Any}}
	return access.Reader{Kind: access.ByPreviewLink, Name: "preview link", Only: l.Entry, Rights: access.Rights{Open: g.keys.opened(), Own: own}}, nil
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
