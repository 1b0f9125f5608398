package server

import (
	"net/http"

	"github.com/rs/cors"

	"ubiquon/internal/server/guard"
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

// withCORS lets the pages of some web origins read content.
func withCORS(next http.Handler, origins []string) http.Handler {
	if len(origins) == 0 {
		return next
	}
	return cors.New(cors.Options{
		AllowedOrigins: origins,
		AllowedMethods: []string{http.MethodGet, http.MethodHead, http.MethodPost},
		AllowedHeaders: []string{
			"Authorization", "Content-Type", "Accept-Language", "Cache-Control", "If-None-Match", "Prefer",
			"Ubiquon-Min-Sequence",
		},
		ExposedHeaders: []string{
			"Cache-Groups", "Cache-Status", "Content-Language", "Deprecation", "ETag", "Link", "Preference-Applied",
			"RateLimit", "RateLimit-Policy", "Retry-After", "Server-Timing", "Sunset", "Ubiquon-Sequence",
		},
		MaxAge: 600,
	}).Handler(next)
}
