package server

import (
	"io/fs"
	"net/http"
	"strings"
)

// consolePolicy lets the console load nothing from anywhere else. The style
// exception is for the component library, which writes its styles at run time.
const consolePolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' " +
	"http: https: data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; " +
	"frame-ancestors 'none'"

// serveConsole serves the built console; every address that is no file is the
// page itself, which finds its own way.
func (s *Server) serveConsole(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/console/")
	h := w.Header()
	h.Set("Content-Security-Policy", consolePolicy)
	if info, err := fs.Stat(s.console, orIndex(name)); err != nil || info.IsDir() {
		name = ""
	}
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // named by content
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	page, err := fs.ReadFile(s.console, "index.html")
	if err != nil {
		http.Error(
			w, "The console is not built into this binary. Build it with: make console build", http.StatusNotFound,
		)
		return
	}
	if name == "" {
		h.Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
		return
	}
	http.ServeFileFS(w, r, s.console, name)
}

func orIndex(name string) string {
	if name == "" {
		return "index.html"
	}
	return name
}
