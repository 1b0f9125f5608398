package server

import (
	"cmp"
	"embed"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ubiquon/internal/core/access"
	"ubiquon/internal/environment"
)

// Server serves one gateway over HTTP.
type Server struct {
	env     *environment.Environment
	log     *slog.Logger
	console fs.FS
	metrics *metrics
	mux     *chi.Mux
	// reads is what answers under /content/.
	reads      http.Handler
	crossSite  *http.CrossOriginProtection
	guesses    *access.Limiter
	strangers  *access.Limiter // those without a key; nil: they are not bounded
	streams    streams
	background background
	proxies    []netip.Prefix
	measurers  []netip.Prefix
	secure     bool
	cors       bool
	// batch and trustedOnly are those of Options.
	batch       int
	trustedOnly bool
}

// Options of New.
type Options struct {
	Environment *environment.Environment
	// Console holds the built console; without an index.html in it, the console's
	// address says how to build it.
	Console fs.FS
	// AllowedOrigins are the web origins whose pages may read content from a
	// browser, as in https://skerry.example; "*" means all (see Fetch, CORS).
	AllowedOrigins []string
	// Proxies are the networks whose X-Forwarded-For is believed.
	Proxies []netip.Prefix
	// Metrics are the networks that may read /metrics without a key; none means loopback.
	Metrics []netip.Prefix
	// Batch is how many GraphQL requests may come in one; 0: lists are refused.
	Batch int
	// TrustedOnly answers no GraphQL documents but the trusted ones, except to those
	// who administer.
	TrustedOnly bool
	// Secure says that readers reach the service over HTTPS only.
	Secure bool
	Log    *slog.Logger
}

// New returns the handler of every surface.
func New(o Options) *Server {
	s := &Server{env: o.Environment, log: o.Log, console: o.Console, mux: chi.NewRouter(),
		crossSite: http.NewCrossOriginProtection(), guesses: access.NewLimiter(30, 30), proxies: o.Proxies,
		measurers: o.Metrics, secure: o.Secure, cors: len(o.AllowedOrigins) > 0, batch: o.Batch,
		trustedOnly: o.TrustedOnly}
	s.streams.ending = make(chan struct{})
	s.metrics = newMetrics(o.Environment, &s.streams)
	if n := o.Environment.Replica.Limits().AnonymousPerMinute; n > 0 {
		s.strangers = access.NewLimiter(float64(n), n)
	}
	o.Environment.Delivery.SetRecompile(s.replan)
	s.reads = s.withCORS(http.HandlerFunc(s.content), o.AllowedOrigins)
	if s.console == nil {
		s.console = embed.FS{}
	}
	if s.measurers == nil {
		s.measurers = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
	}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	r := s.mux
	r.Post("/hooks/{origin}", s.hook)
	r.Route("/control/v1", s.control)
	r.Get("/console", http.RedirectHandler("/console/", http.StatusMovedPermanently).ServeHTTP)
	r.Get("/console/*", s.serveConsole)
	r.Get("/problems/{name}", s.problemPage)
	r.Get("/health/live", s.live)
	r.Get("/health/ready", s.ready)
	r.Get("/metrics", s.measured(promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{})))
	r.Get("/", http.RedirectHandler("/console/", http.StatusFound).ServeHTTP)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(
			w, problem{Kind: "not-found", Status: http.StatusNotFound, Detail: "there is nothing at " + r.URL.Path},
		)
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(
			w,
			problem{
				Kind:   "method",
				Status: http.StatusMethodNotAllowed,
				Detail: r.Method + " is not served at " + r.URL.Path,
			},
		)
	})
	return s
}

// Routes lists what is served beside content.
func (s *Server) Routes() chi.Routes { return s.mux }

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.log.Error("a request panicked", "method", r.Method, "path", r.URL.Path, "panic", p)
			writeProblem(
				w,
				problem{
					Kind:   "internal",
					Status: http.StatusInternalServerError,
					Detail: "something went wrong here; the log has more",
				},
			)
		}
	}()
	if strings.HasPrefix(r.URL.Path, "/content/") {
		// Reads are most of what comes, and find their way by themselves.
		s.reads.ServeHTTP(w, r)
		return
	}
	s.secured(w.Header())
	noted := &counted{ResponseWriter: w}
	defer func() {
		s.metrics.requests.WithLabelValues(surface(r.URL.Path), strconv.Itoa(cmp.Or(noted.status, http.StatusOK))).
			Inc()
	}()
	s.mux.ServeHTTP(noted, r)
}

// Listening returns an http.Server with the time limits that every listener of
// ours has.
func Listening(h http.Handler) *http.Server {
	return &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout:       30 * time.Second,
		IdleTimeout:       2 * time.Minute,
		WriteTimeout:      time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
}

// measured lets those read the metrics who come from a network that may, and, from
// elsewhere, those who administer. What came through a proxy comes from elsewhere, unless
// the proxy is trusted and says otherwise.
func (s *Server) measured(next http.Handler) http.HandlerFunc {
	guarded := s.guarded(administers, next)
	return func(w http.ResponseWriter, r *http.Request) {
		at, err := netip.ParseAddr(s.address(r))
		forwarded := len(s.proxies) == 0 && (r.Header.Get("X-Forwarded-For") != "" || r.Header.Get("Forwarded") != "")
		if err == nil && !forwarded &&
			slices.ContainsFunc(s.measurers, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) }) {
			next.ServeHTTP(w, r)
			return
		}
		guarded.ServeHTTP(w, r)
	}
}
