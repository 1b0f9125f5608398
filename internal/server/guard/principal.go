package guard

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// errSecretInAddress is the error of a key in the query string.
var errSecretInAddress = api.Problem{
	Kind: "query-string", Status: http.StatusBadRequest, Parameter: "query string",
	Detail: "there is a key in the address; it is in logs and histories by now", Hint: "revoke it (ubiquon " +
		"key revoke), and send keys in the header Authorization: Bearer … only",
}

// Authenticate finds out who asks for content: everyone, or the holder of a key or
// token. A key that may not ask so often any more gets an error too.
func (g *Guard) Authenticate(w http.ResponseWriter, r *http.Request, now time.Time) (access.Principal, error) {
	if access.HoldsSecret(r.URL.RawQuery) {
		return access.Principal{}, errSecretInAddress
	}
	header := r.Header["Authorization"] // by its name as it is kept, which is quicker than Get
	if header == nil || header[0] == "" {
		return g.env.Keys.Everyone(), nil
	}
	scheme, secret, _ := strings.Cut(header[0], " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return access.Principal{}, g.guessed(r, now, access.ErrMalformed)
	}
	reader, err := g.holderOf(r, strings.TrimSpace(secret), now)
	if err != nil {
		return access.Principal{}, g.guessed(r, now, err)
	}
	m := reader.Meter
	if m.Due(now) {
		m.Note(now, g.Address(r), r.UserAgent())
	}
	left, wait, ok := m.Admit(now)
	if limit := m.Limit(); limit > 0 {
		h := w.Header()
		h["Ratelimit-Policy"] = []string{`"key";q=` + strconv.Itoa(limit) + `;w=60`}
		h["Ratelimit"] = []string{
			`"key";r=` + strconv.Itoa(left) + `;t=` + strconv.Itoa(int(math.Ceil(wait.Seconds()))),
		}
		if !ok {
			return reader, TooMany(wait, fmt.Sprintf("the key %q may ask %d times a minute", reader.Name, limit))
		}
	}
	return reader, nil
}

// holderOf is who a key, token or preview link is of. Where a request comes from matters for a link alone.
func (g *Guard) holderOf(r *http.Request, secret string, now time.Time) (access.Principal, error) {
	address := ""
	if access.IsPreviewLink(secret) {
		address = g.Address(r)
	}
	return g.env.Keys.Authenticate(r.Context(), secret, address, now)
}

// guessed counts a key that is not good. A few from one address may be mistakes;
// of more nothing is said but that they are too many. Good keys are let through
// whatever others at the same address do.
func (g *Guard) guessed(r *http.Request, now time.Time, err error) error {
	if at := g.Network(r); !g.guesses.Allow(at, now) {
		return TooMany(g.guesses.Wait(at, now), "too many keys from this address were not good")
	}
	return err
}

// TooMany is the error of a request that comes too often; it can be made again after the wait.
func TooMany(wait time.Duration, detail string) error {
	return retryLater{api.Problem{Kind: "too-many", Status: http.StatusTooManyRequests, Detail: detail}, wait}
}

// retryLater is a refusal that says when to try again.
type retryLater struct {
	api.Problem
	wait time.Duration
}

// Unwrap returns the error beneath.
func (e retryLater) Unwrap() error { return e.Problem }

// Self is where a request has reached us, as in https://gateway.example.
func (g *Guard) Self(r *http.Request) string {
	if g.OverHTTPS(r) {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

// Address is where a request comes from: the connection's other end, or, behind
// a proxy that is trusted, what that says.
func (g *Guard) Address(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	said := r.Header.Values("X-Forwarded-For")
	if len(g.Proxies) == 0 || len(said) == 0 {
		return host
	}
	hops := strings.Split(strings.Join(said, ","), ",")
	for i := len(hops); ; i-- {
		at, err := netip.ParseAddr(host)
		if err != nil || i == 0 || !g.trusted(at.Unmap()) {
			return host
		}
		next := strings.TrimSpace(hops[i-1])
		if _, err := netip.ParseAddr(next); err != nil {
			return host
		}
		host = next
	}
}

// Network is the address as budgets count it.
func (g *Guard) Network(r *http.Request) string { return access.Network(g.Address(r)) }

// QueueName is access.Principal.QueueName of who makes a request.
func (g *Guard) QueueName(p *access.Principal, r *http.Request) string {
	if p.Identified() {
		return p.QueueName("") // where they ask from does not matter
	}
	return p.QueueName(g.Network(r))
}

func (g *Guard) trusted(at netip.Addr) bool {
	for _, p := range g.Proxies {
		if p.Contains(at) {
			return true
		}
	}
	return false
}

type readerContext struct{}

// PrincipalIn is PrincipalOf for the context of a request.
func PrincipalIn(ctx context.Context) *access.Principal {
	return ctx.Value(readerContext{}).(*access.Principal)
}

// PrincipalOf is who is behind a control request.
func PrincipalOf(r *http.Request) *access.Principal {
	return PrincipalIn(r.Context())
}

// ActorName is what they are called.
func ActorName(r *http.Request) string { return PrincipalOf(r).Name }

// Actor is who makes a request, for the audit log.
func (g *Guard) Actor(r *http.Request) audit.Actor { return audit.Actor{Address: g.Address(r)} }

// sessionCookie is the name of the cookie of who is signed in. Where the address is
// https, browsers take it from this host alone, and only with Secure and the path /
// (RFC 6265bis, __Host-).
func (g *Guard) sessionCookie(r *http.Request) string {
	if g.OverHTTPS(r) {
		return "__Host-ubiquon-session"
	}
	return "ubiquon-session"
}

// OverHTTPS reports whether a request came over HTTPS, to here or to a trusted proxy.
func (g *Guard) OverHTTPS(r *http.Request) bool { return r.TLS != nil || g.Secure }

// CookieOf returns the session cookie of a request; empty for none.
func (g *Guard) CookieOf(r *http.Request) string {
	c, err := r.Cookie(g.sessionCookie(r))
	if err != nil {
		return ""
	}
	return c.Value
}

// Operator finds out who asks something of the service itself: the holder of a
// key or token, or somebody who is signed in.
func (g *Guard) Operator(w http.ResponseWriter, r *http.Request) (*access.Principal, error) {
	cookie := g.CookieOf(r)
	if cookie == "" || r.Header.Get("Authorization") != "" {
		reader, err := g.Authenticate(w, r, time.Now())
		return &reader, err
	}
	if err := g.CrossSite.Check(r); err != nil {
		return nil, api.Problem{
			Kind:   "cross-site",
			Status: http.StatusForbidden,
			Detail: "this comes from another site than the console",
		}
	}
	reader, _, err := g.env.Accounts.SignedIn(r.Context(), cookie)
	if errors.Is(err, db.ErrNotFound) {
		g.SetCookie(w, r, "", -1)
		if at := g.Network(r); !g.guesses.Allow(at, time.Now()) {
			return nil, TooMany(g.guesses.Wait(at, time.Now()), "too many sessions from this address were not good")
		}
		return nil, api.Problem{
			Kind:   "no-key",
			Status: http.StatusUnauthorized,
			Detail: "nobody is signed in here any more",
			Hint:   "sign in again",
		}
	}
	return &reader, err
}

// SetCookie keeps a session in the browser, out of the reach of scripts and of
// other sites.
func (g *Guard) SetCookie(w http.ResponseWriter, r *http.Request, value string, maxAge int) {
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     g.sessionCookie(r),
			Value:    value,
			Path:     "/",
			MaxAge:   maxAge,
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			Secure:   g.OverHTTPS(r),
		},
	)
}

// Require returns a *access.DeniedError if who asks lacks one of the grants.
func Require(r *http.Request, needs ...access.Need) error {
	if missing, is := PrincipalOf(r).Rights.Missing(needs); is {
		return &access.DeniedError{Grant: missing}
	}
	return nil
}

// RequireOnEntry is may for the type of an entry.
func (g *Guard) RequireOnEntry(r *http.Request, id, verb, edition string) error {
	if !content.ValidID(id) {
		return fmt.Errorf("entry %q: %w", id, db.ErrNotFound)
	}
	all, err := g.env.Authoring.EntryAccess(r.Context(), []string{id})
	if err != nil {
		return err
	}
	one, known := all[id]
	if !known {
		return fmt.Errorf("entry %s: %w", id, db.ErrNotFound)
	}
	if err := Require(r, access.Need{Verb: verb, Edition: edition, Type: one.Type}); err != nil {
		if Require(r, access.Need{Verb: access.Read, Edition: content.Preview, Type: one.Type}) != nil {
			return fmt.Errorf("entry %s: %w", id, db.ErrNotFound) // of which type it is is not told
		}
		return err
	}
	return nil
}
