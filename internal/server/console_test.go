package server

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"ubiquon/internal/core/rebuild"
)

func TestConsoleAssets(t *testing.T) {
	s := &Server{sites: func() map[string]rebuild.Site {
		return map[string]rebuild.Site{
			"web": {Address: "https://skerry.example/", Preview: "https://next.skerry.example/preview?path={path}"},
			"app": {Address: "https://app.example"}, // it has no preview
		}
	}, console: fstest.MapFS{
		"index.html":      {Data: []byte("<!doctype html>the page")},
		"assets/a.js":     {Data: []byte("plain")},
		"assets/a.js.br":  {Data: []byte("brotli")},
		"assets/a.js.gz":  {Data: []byte("gzip")},
		"assets/f.woff2":  {Data: []byte("font")},
		"mark.svg":        {Data: []byte("<svg/>")},
		"assets/sub/x.js": {Data: []byte("x")},
	}}
	for name, c := range map[string]struct {
		path, accept           string
		status                 int
		body, coding, caching  string
		contentType            string
		bodyMatters, typeTells bool
	}{
		"page": {
			path: "/console/entries/fog", status: 200, body: "<!doctype html>the page", caching: "no-cache",
			bodyMatters: true,
		},
		"brotli": {
			path: "/console/assets/a.js", accept: "gzip, deflate, br", status: 200, body: "brotli", coding: "br",
			caching: "public, max-age=31536000, immutable", contentType: "text/javascript; charset=utf-8",
			bodyMatters: true, typeTells: true,
		},
		"gzip": {
			path: "/console/assets/a.js", accept: "gzip, br;q=0", status: 200, body: "gzip", coding: "gzip",
			caching: "public, max-age=31536000, immutable", bodyMatters: true,
		},
		"plain": {
			path: "/console/assets/a.js", status: 200, body: "plain",
			caching: "public, max-age=31536000, immutable", bodyMatters: true,
		},
		"already compressed": {
			path: "/console/assets/f.woff2", accept: "br", status: 200, body: "font",
			caching: "public, max-age=31536000, immutable", bodyMatters: true,
		},
		"missing asset":   {path: "/console/assets/old.js", status: 404, caching: "no-store"},
		"asset directory": {path: "/console/assets/sub", status: 404, caching: "no-store"},
		"file":            {path: "/console/mark.svg", status: 200, body: "<svg/>", caching: "no-cache", bodyMatters: true},
	} {
		t.Run(name, func(t *testing.T) {
			r := httptest.NewRequest(http.MethodGet, c.path, nil)
			r.Header.Set("Accept-Encoding", c.accept)
			w := httptest.NewRecorder()
			s.serveConsole(w, r)
			h := w.Header()
			if w.Code != c.status || c.bodyMatters && w.Body.String() != c.body ||
				h.Get("Content-Encoding") != c.coding || h.Get("Cache-Control") != c.caching ||
				c.typeTells && h.Get("Content-Type") != c.contentType {
				t.Errorf("%d %q, %v", w.Code, w.Body, h)
			}
			if csp := h.Get("Content-Security-Policy"); !strings.HasSuffix(csp, "; frame-src https://next.skerry.example "+
				"https://skerry.example") {
				t.Errorf("frames of %s", csp)
			}
		})
	}
}
