package server

import (
	"net/http"
	"sync/atomic"

	"github.com/rs/cors"

	"ubiquon/internal/server/guard"
	"ubiquon/internal/settings"
)

// secured sets what browsers are told to be careful with, on all but content.
func (s *Server) secured(h http.Header) {
	h["X-Content-Type-Options"] = guard.NoSniff
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
	if s.Guard.Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
}

// withCORS lets the pages of those web origins read content that the settings name now.
func withCORS(next http.Handler, all *settings.Service) http.Handler {
	type made struct {
		of *settings.State
		h  http.Handler
	}
	var last atomic.Pointer[made]
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		st := all.State()
		if len(st.CORS.Allow) == 0 {
			next.ServeHTTP(w, r)
			return
		}
		m := last.Load()
		if m == nil || m.of != st {
			m = &made{st, allowing(st.CORS.Allow, next)}
			last.Store(m)
		}
		m.h.ServeHTTP(w, r)
	})
}

// allowing lets the pages of web origins read content (Fetch, CORS protocol).
func allowing(origins []string, next http.Handler) http.Handler {
	return cors.New(cors.Options{
		AllowedOrigins: origins,
		AllowedMethods: []string{http.MethodGet, http.MethodHead, http.MethodPost},
		AllowedHeaders: []string{
			"Authorization", "Content-Type", "Accept-Language", "Cache-Control", "If-None-Match", "Prefer",
			"Ubiquon-Min-Sequence", "Ubiquon-Page",
		},
		ExposedHeaders: []string{
			"Cache-Groups", "Cache-Status", "Content-Language", "Deprecation", "ETag", "Link", "Preference-Applied",
			"RateLimit", "RateLimit-Policy", "Retry-After", "Server-Timing", "Sunset", "Ubiquon-Sequence",
		},
		MaxAge: 600,
	}).Handler(next)
}
