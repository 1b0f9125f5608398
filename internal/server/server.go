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

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/environment"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/controlapi"
	"ubiquon/internal/server/filesapi"
	"ubiquon/internal/server/guard"
)

// Server serves one environment over HTTP. It is safe for concurrent use. Create it with
// New.
type Server struct {
	Guard   *guard.Guard
	Content *contentapi.API
	Control *controlapi.API

	env     *environment.Environment
	log     *slog.Logger
	console fs.FS
	sites   func() map[string]rebuild.Site
	mux     *chi.Mux
	// reads is what answers under /content/.
	reads http.Handler
	// files is what answers under /files/ and /images/.
	files     http.Handler
	measurers []netip.Prefix
}

// Options of New.
type Options struct {
	Environment *environment.Environment
	// Console holds the built console; without an index.html in it, the console's
	// address says how to build it.
	Console fs.FS
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
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{env: o.Environment, log: o.Log, console: o.Console, mux: chi.NewRouter(), measurers: o.Metrics}
	s.sites = func() map[string]rebuild.Site { return o.Environment.Settings.State().Sites }
	s.Guard = guard.New(guard.Options{
		Environment: o.Environment, Proxies: o.Proxies, Secure: o.Secure, Log: o.Log,
	})
	s.Content = contentapi.New(contentapi.Options{
		Environment: o.Environment, Guard: s.Guard, Batch: o.Batch, TrustedOnly: o.TrustedOnly, Log: o.Log,
	})
	s.Control = controlapi.New(o.Environment, s.Guard, s.Content, o.Log)
	held := filesapi.New(o.Environment, s.Guard, o.Log)
	s.files = held
	s.reads = withCORS(s.Content, o.Environment.Settings)
	if s.console == nil {
		s.console = embed.FS{}
	}
	if s.measurers == nil {
		s.measurers = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
	}
	r := s.mux
	r.Post("/hooks/{origin}", s.hook)
	r.Get("/hooks/{origin}", s.verifyHook)
	r.Mount("/control/v1/environments/{environment}/uploads", held.Uploads())
	r.Route("/control/v1", s.Control.Mount)
	r.Get("/console", http.RedirectHandler("/console/", http.StatusMovedPermanently).ServeHTTP)
	r.Get("/console/*", s.serveConsole)
	r.Get("/problems/{name}", guard.ProblemPage)
	r.Get("/kit/{name}", serveKit)
	r.Get("/health/live", s.live)
	r.Get("/health/ready", s.ready)
	r.Get("/metrics", s.measured(promhttp.HandlerFor(s.Guard.Metrics.Registry, promhttp.HandlerOpts{})))
	r.Get("/", http.RedirectHandler("/console/", http.StatusFound).ServeHTTP)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		guard.WriteProblem(
			w, api.Problem{
				Kind: "not-found", Status: http.StatusNotFound,
				Detail: "there is nothing at " + r.URL.Path,
			},
		)
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		guard.WriteProblem(
			w,
			api.Problem{
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
			guard.WriteProblem(
				w,
				api.Problem{
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
	noted := &guard.Counted{ResponseWriter: w}
	defer func() {
		s.Guard.Metrics.Requests.WithLabelValues(guard.Surface(r.URL.Path),
			strconv.Itoa(cmp.Or(noted.Status, http.StatusOK))).
			Inc()
	}()
	if strings.HasPrefix(r.URL.Path, "/files/") || strings.HasPrefix(r.URL.Path, "/images/") {
		s.files.ServeHTTP(noted, r) // it says itself what browsers are to be careful with
		return
	}
	s.secured(w.Header())
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
	guarded := s.Guard.Guard(guard.Administers, next)
	return func(w http.ResponseWriter, r *http.Request) {
		at, err := netip.ParseAddr(s.Guard.Address(r))
		forwarded := len(s.Guard.Proxies) == 0 &&
			(r.Header.Get("X-Forwarded-For") != "" || r.Header.Get("Forwarded") != "")
		if err == nil && !forwarded &&
			slices.ContainsFunc(s.measurers, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) }) {
			next.ServeHTTP(w, r)
			return
		}
		guarded.ServeHTTP(w, r)
	}
}
