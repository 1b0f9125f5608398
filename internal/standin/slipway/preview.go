package slipway

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"time"
)

const (
	// previewCookie holds the token of a preview, so that links within it stay in it.
	previewCookie = "ubiquon-preview"
	previewFor    = time.Hour
)

// preview begins one: it leads to the page that is asked for, with the token in a cookie, if the token
// shows it.
func (s *Slipway) preview(w http.ResponseWriter, r *http.Request) {
	path, token := ownPath(r.URL.Query().Get("path")), r.URL.Query().Get("token")
	if _, err := s.previewed(r, path, token); err != nil {
		http.Error(w, "There is no preview of this: "+err.Error(), http.StatusNotFound)
		return
	}
	keep(w, token, previewFor)
	lead(w, path)
}

// endPreview leads to a page as visitors see it.
func (s *Slipway) endPreview(w http.ResponseWriter, r *http.Request) {
	keep(w, "", -time.Second)
	lead(w, ownPath(r.URL.Query().Get("path")))
}

// keep sets the cookie. It is sent where the console shows the site in a frame, too.
func keep(w http.ResponseWriter, token string, during time.Duration) {
	http.SetCookie(w, &http.Cookie{
		Name: previewCookie, Value: token, Path: "/", MaxAge: int(during.Seconds()), HttpOnly: true, Secure: true,
		SameSite: http.SameSiteNoneMode, Partitioned: true,
	})
}

func lead(w http.ResponseWriter, path string) {
	noTrace(w.Header())
	w.Header().Set("Location", (&url.URL{Path: path}).EscapedPath())
	w.WriteHeader(http.StatusTemporaryRedirect)
}

// ownPath is a path of this site, and nothing that a browser takes for another.
func ownPath(path string) string {
	if !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || strings.ContainsAny(path, "\\\r\n") {
		return "/"
	}
	return path
}

func noTrace(h http.Header) {
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Robots-Tag", "noindex")
}

// showPreview shows the page of a request within a preview, and tells whether there is one: else the
// visitor gets what all get.
func (s *Slipway) showPreview(w http.ResponseWriter, r *http.Request) bool {
	token, err := r.Cookie(previewCookie)
	if err != nil {
		return false
	}
	p, err := s.previewed(r, strings.TrimSuffix(r.URL.Path, "/"), token.Value)
	if err != nil {
		return false
	}
	noTrace(w.Header())
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "item.html", p) // the reader may be gone
	return true
}

// previewed reads the page at a path as it would be, with the token of a preview.
func (s *Slipway) previewed(r *http.Request, path, token string) (page, error) {
	base := strings.TrimSuffix(s.o.Gateway, "/published") + "/preview/at?path=" + url.QueryEscape(path)
	get := func(fields string, into any) error {
		req, err := http.NewRequestWithContext(
			r.Context(), http.MethodGet, base+"&fields="+url.QueryEscape(fields), nil,
		)
		if err != nil {
			return err
		}
		resp, err := s.send(req, path, token)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		return json.NewDecoder(resp.Body).Decode(into)
	}
	var is struct{ About struct{ Type string } }
	if err := get("about(type)", &is); err != nil {
		return page{}, err
	}
	p := page{Preview: path, Lists: map[string][]any{}}
	fields := "title"
	if sec := sectionOf(is.About.Type); sec.name != "" {
		p.Section, fields = sec.name, sec.item
	}
	if err := get(fields, &p.Item); err != nil {
		return p, err
	}
	if _, err := s.read(r.Context(), 0, "", "/harbour-settings?fields=name,claim,telephone", &p.Settings); err != nil {
		return p, err
	}
	settings, _ := p.Settings.(map[string]any)
	item, _ := p.Item.(map[string]any)
	p.Name = settings["name"]
	for _, name := range []string{"title", "name"} {
		if text, ok := item[name].(string); ok {
			p.Title = text
		}
	}
	return p, nil
}

// sectionOf is the section of the site that shows entries of a type.
func sectionOf(typ string) (out section) {
	of := map[string]string{"dispatch": "dispatches", "notice": "notices", "route": "routes", "pier": "piers"}[typ]
	for _, sec := range sections {
		if sec.name == of && of != "" {
			return sec
		}
	}
	return out
}
