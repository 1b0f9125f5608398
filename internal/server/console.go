package server

import (
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/server/guard"
)

// consolePolicy lets the console load nothing from anywhere else. The style
// exception is for the component library, which writes its styles at run time.
const consolePolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: " +
	"http: https: data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; " +
	"frame-ancestors 'none'"

// framesOf lets the console show the sites that have a preview, and nothing else, in a frame.
func framesOf(sites map[string]rebuild.Site) string {
	var out []string
	for _, site := range sites {
		for _, address := range []string{site.Preview, site.Address} {
			u, err := url.Parse(address)
			if site.Preview == "" || err != nil || u.Host == "" {
				continue
			}
			if origin := u.Scheme + "://" + u.Host; !slices.Contains(out, origin) {
				out = append(out, origin)
			}
		}
	}
	if out == nil {
		return ""
	}
	slices.Sort(out)
	return "; frame-src " + strings.Join(out, " ")
}

// consoleEncodings are the content codings that assets are built in, by file extension, the
// better one first.
var consoleEncodings = []struct{ name, extension string }{{"br", ".br"}, {"gzip", ".gz"}}

// serveConsole serves the built console. An address that is no file is a page of it, which
// the page itself finds; an asset that is not there is not found, since its name is of a
// build, and a page of another build would take index.html for a script.
func (s *Server) serveConsole(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/console/")
	h := w.Header()
	h.Set("Content-Security-Policy", consolePolicy+framesOf(s.sites()))
	h.Set("Cache-Control", "no-cache")
	page, err := fs.ReadFile(s.console, "index.html")
	if err != nil {
		http.Error(
			w, "The console is not built into this binary. Build it with: make console build", http.StatusNotFound,
		)
		return
	}
	info, err := fs.Stat(s.console, path.Clean(name))
	asset := strings.HasPrefix(name, "assets/")
	switch {
	case name != "" && err == nil && !info.IsDir():
		if asset {
			h.Set("Cache-Control", "public, max-age=31536000, immutable") // named by content
			name = s.encoded(w, r, name)
		}
		http.ServeFileFS(w, r, s.console, name)
	case asset:
		guard.WriteProblem(w, api.Problem{
			Kind: "not-found", Status: http.StatusNotFound,
			Detail: "there is no " + r.URL.Path + " in this version of the console; load the page again",
		})
	default:
		h.Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page) // the reader may be gone
	}
}

// encoded returns the file that an asset is sent as, in a coding that the client takes, and
// sets its headers.
func (s *Server) encoded(w http.ResponseWriter, r *http.Request, name string) string {
	w.Header().Set("Vary", "Accept-Encoding")
	for _, coding := range consoleEncodings {
		if _, err := fs.Stat(s.console, name+coding.extension); err != nil || !accepts(r, coding.name) {
			continue
		}
		types := map[string]string{".js": "text/javascript; charset=utf-8", ".css": "text/css; charset=utf-8"}
		w.Header().Set("Content-Type", types[path.Ext(name)])
		w.Header().Set("Content-Encoding", coding.name)
		return name + coding.extension
	}
	return name
}

// accepts tells whether the client takes a content coding (RFC 9110, 12.5.3).
func accepts(r *http.Request, coding string) bool {
	for one := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(one), ";")
		weight = strings.ReplaceAll(weight, " ", "")
		if strings.EqualFold(name, coding) && weight != "q=0" && weight != "q=0.0" {
			return true
		}
	}
	return false
}
