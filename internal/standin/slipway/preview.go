package slipway

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
)

// preview shows the page at a path as it would be, read with the token that
// came along.
func (s *Slipway) preview(w http.ResponseWriter, r *http.Request) {
	path, token := r.URL.Query().Get("path"), r.URL.Query().Get("token")
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Robots-Tag", "noindex")
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
	var item, settings map[string]any
	shown, title, fields := sectionOf(""), "", ""
	err := get("about(type)", &is)
	if err == nil {
		shown = sectionOf(is.About.Type)
		if fields = shown.item; shown.name == "" {
			fields = "title"
		}
		err = get(fields, &item)
	}
	if err == nil {
		_, err = s.read(r.Context(), 0, "", "/harbour-settings?fields=name,claim,telephone", &settings)
	}
	if err != nil {
		http.Error(w, "There is no preview of this: "+err.Error(), http.StatusNotFound)
		return
	}
	for _, name := range []string{"title", "name"} {
		if text, ok := item[name].(string); ok {
			title = text
		}
	}
	p := page{
		Name:     settings["name"],
		Settings: settings,
		Section:  shown.name,
		Title:    "Preview: " + title,
		Item:     item,
		Lists:    map[string][]any{},
	}
	h.Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "item.html", p) // the reader may be gone
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
