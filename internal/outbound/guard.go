package outbound

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"syscall"
	"time"
)

// Options say where calls may go.
type Options struct {
	// Allow are the networks that may be reached although they are private or otherwise
	// special, as in 10.0.0.0/8.
	Allow []netip.Prefix
	// Private allows all of them.
	Private bool
	// Timeout of one call; 0 means 10 s.
	Timeout time.Duration
}

// special are the networks that are not the internet's: the IANA registries of special
// purpose addresses, multicast, and all in which another address is embedded.
var special = prefixes(
	"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24",
	"192.0.2.0/24", "192.31.196.0/24", "192.52.193.0/24", "192.88.99.0/24", "192.168.0.0/16", "192.175.48.0/24",
	"198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4", "::/96", "::ffff:0:0/96",
	"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "100:0:0:1::/64", "2001::/23", "2001:db8::/32", "2002::/16",
	"2620:4f:8000::/48", "3fff::/20", "5f00::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8",
)

// global is what of IPv6 is the internet's at all.
var global = netip.MustParsePrefix("2000::/3")

func prefixes(texts ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(texts))
	for i, text := range texts {
		out[i] = netip.MustParsePrefix(text)
	}
	return out
}

// ForbiddenError is the error of a call to an address that is not allowed.
type ForbiddenError struct{ Address netip.Addr }

// Error implements error.
func (e *ForbiddenError) Error() string {
	return fmt.Sprintf(
		"%s lies in a private or special network; name the network in outbound.allow if it is meant", e.Address,
	)
}

// check returns a *ForbiddenError for an address that calls may not go to.
func (o Options) check(at netip.Addr) error {
	at = at.Unmap().WithZone("")
	within := func(p netip.Prefix) bool { return p.Contains(at) }
	if o.Private || slices.ContainsFunc(o.Allow, within) {
		return nil
	}
	if slices.ContainsFunc(special, within) || at.Is6() && !global.Contains(at) {
		return &ForbiddenError{at}
	}
	return nil
}

// Dial connects to an address, host:port. It is checked after the name was looked up; its error
// is a *ForbiddenError if it may not be reached.
func (o Options) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return o.check(at.Addr())
	}}
	return dialer.DialContext(ctx, network, address)
}

// lookupTimeout bounds how long CheckAddress looks for a name.
const lookupTimeout = 2 * time.Second

// CheckAddress returns why an http address may not be called; nil if it may, or its name cannot
// be looked up now. Whether it may is checked at every call all the same.
func (o Options) CheckAddress(ctx context.Context, address string) error {
	u, err := url.Parse(address)
	if err != nil || o.Private {
		return nil // whoever reads the address says what is wrong with it
	}
	ctx, cancel := context.WithTimeout(ctx, lookupTimeout)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	if err != nil {
		return nil
	}
	for _, at := range found {
		if err := o.check(at); err != nil {
			return err
		}
	}
	return nil
}

// errRedirected ends calls that are redirected.
var errRedirected = errors.New(
	"the answer is a redirect, which is not followed; configure the address that it leads to",
)

// maxRedirects bounds the redirects of a call that has no body.
const maxRedirects = 5

// NewClient returns the HTTP client for all calls to the outside. Addresses are checked
// at the time of connecting, after the name was looked up. Redirects of calls without
// a body are followed on the same host and scheme; others are errors.
func (o Options) NewClient() *http.Client {
	if o.Timeout == 0 {
		o.Timeout = 10 * time.Second
	}
	return &http.Client{
		Timeout: o.Timeout,
		Transport: &http.Transport{
			DialContext:            o.Dial,
			ForceAttemptHTTP2:      true,
			MaxIdleConnsPerHost:    4,
			MaxConnsPerHost:        16,
			IdleConnTimeout:        90 * time.Second,
			TLSHandshakeTimeout:    5 * time.Second,
			MaxResponseHeaderBytes: 64 << 10,
		},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			first := via[0]
			if len(via) > maxRedirects || first.Method != http.MethodGet && first.Method != http.MethodHead ||
				req.URL.Host != first.URL.Host ||
				req.URL.Scheme != first.URL.Scheme {
				return errRedirected
			}
			return nil
		},
	}
}
