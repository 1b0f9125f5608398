// Package guard is what every surface does with a request before and after its own work: it
// finds out who asks, refuses what they may not do, bounds bodies, streams and guesses,
// makes writes idempotent, counts, and writes problem documents (RFC 9457).
package guard

import (
	"log/slog"
	"net/http"
	"net/netip"

	"ubiquon/internal/core/access"
	"ubiquon/internal/environment"
)

// Guard serves one environment. It is safe for concurrent use. Create it with New.
type Guard struct {
	env *environment.Environment
	log *slog.Logger
	// Metrics of this node.
	Metrics *metrics
	// CrossSite refuses what pages of other sites send with somebody's session.
	CrossSite *http.CrossOriginProtection
	// Strangers bounds requests without a key by address; nil: they are not bounded.
	Strangers *access.Limiter
	Streams   streams
	// Proxies are the networks whose X-Forwarded-For is believed.
	Proxies []netip.Prefix
	// Secure says that readers reach the service over HTTPS only.
	Secure bool

	guesses    *access.Limiter // of keys and passwords
	background background
}

// Options of New.
type Options struct {
	Environment *environment.Environment
	// Proxies are the networks whose X-Forwarded-For is believed.
	Proxies []netip.Prefix
	// Secure says that readers reach the service over HTTPS only.
	Secure bool
	Log    *slog.Logger
}

// CORS says that pages of other sites may read content.
func (g *Guard) CORS() bool { return len(g.env.Settings.State().CORS.Allow) > 0 }

// New returns the guard of an environment.
func New(o Options) *Guard {
	g := &Guard{
		env: o.Environment, log: o.Log, CrossSite: http.NewCrossOriginProtection(),
		guesses: access.NewLimiter(30, 30), Proxies: o.Proxies, Secure: o.Secure,
	}
	g.Streams.Ending = make(chan struct{})
	g.Metrics = newMetrics(o.Environment, &g.Streams)
	if n := o.Environment.Replica.Limits().AnonymousPerMinute; n > 0 {
		g.Strangers = access.NewLimiter(float64(n), n)
	}
	return g
}

// NoSniff is the value of X-Content-Type-Options.
var NoSniff = []string{"nosniff"}
