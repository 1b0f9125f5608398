package slipway

import (
	"context"
	"embed"
	"fmt"
	"html/template"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

//go:embed templates/*.html
var templateFiles embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{
	"safe": func(v any) template.HTML { s, _ := v.(string); return template.HTML(s) }, // sanitised by the gateway
	"day":  func(v any) string { s, _ := v.(string); return strings.SplitN(s, "T", 2)[0] },
	"money": func(v any) string {
		m, _ := v.(map[string]any)
		amount, _ := m["amount"].(float64)
		return fmt.Sprintf("%.2f %v", amount/100, m["currency"])
	},
}).ParseFS(templateFiles, "templates/*.html"))

// picture is how pictures are read: in the widths and formats that a browser chooses from.
const picture = "picture[width=800](url,alt,width,height,srcset)"

// sections are the site's lists, and how each is read.
var sections = []struct{ name, title, read string }{
	{
		"dispatches", "Dispatches",
		"dispatches?sort=-published&fields=title,slug,lead,topics,text(html)," + picture + ",about(published)," +
			"writer(name,role,portrait)",
	},
	{
		"notices", "Service notices",
		"notices?sort=-published&fields=title,slug,severity(label),text(html),validUntil,about(published)," +
			"routes(number,name,slug)",
	},
	{
		"routes", "Routes",
		"routes?sort=number&fields=number,name,slug,minutes,season(label),text(html),piers(name,slug)",
	},
	{"piers", "Piers", "piers?sort=name&fields=name,slug,summary,stepFree," + picture},
}

type page struct {
	Sequence int64
	Name     any // the line's name, from its settings
	Section  string
	Title    string
	Items    []any
	Item     any
	Lists    map[string][]any
	Settings any
}

// render reads everything and writes the site into a directory of its own. It
// returns the number of pages and the oldest state that any of them was read at.
func (s *Slipway) render(ctx context.Context, o order) (pages int, sequence int64, err error) {
	dir := filepath.Join(s.o.Dir, "site-"+o.Build)
	if err := os.RemoveAll(dir); err != nil {
		return 0, 0, err
	}
	oldest := int64(-1)
	read := func(path string, into any) error {
		at, err := s.read(ctx, o.Sequence, path, into)
		if oldest < 0 || at < oldest {
			oldest = at
		}
		return err
	}
	var settings map[string]any
	if err := read("/harbour-settings?fields=name,claim,telephone", &settings); err != nil {
		return 0, 0, err
	}
	lists := map[string][]any{}
	for _, sec := range sections {
		for path := "/" + sec.read + "&limit=200"; path != ""; {
			var list struct {
				Items  []any
				Window struct{ Next *string }
			}
			if err := read(path, &list); err != nil {
				return 0, 0, err
			}
			lists[sec.name] = append(lists[sec.name], list.Items...)
			path = ""
			if list.Window.Next != nil {
				path = "/" + sec.read + "&limit=200&after=" + url.QueryEscape(*list.Window.Next)
			}
		}
	}
	base := page{Sequence: oldest, Name: settings["name"], Settings: settings, Lists: lists}
	write := func(path, name string, p page) error {
		pages++
		file := filepath.Join(dir, filepath.FromSlash(path), "index.html")
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		out, err := os.Create(file)
		if err != nil {
			return err
		}
		if err := templates.ExecuteTemplate(out, name, p); err != nil {
			out.Close()
			return fmt.Errorf("page /%s: %w", path, err)
		}
		return out.Close()
	}
	home := base
	home.Title = "Island to island, all year"
	if err := write("", "home.html", home); err != nil {
		return 0, 0, err
	}
	for _, sec := range sections {
		p := base
		p.Section, p.Title, p.Items = sec.name, sec.title, lists[sec.name]
		if err := write(sec.name, "list.html", p); err != nil {
			return 0, 0, err
		}
		for _, item := range p.Items {
			fields, _ := item.(map[string]any)
			slug, _ := fields["slug"].(string)
			if slug == "" || strings.ContainsAny(slug, "/.\\") {
				continue
			}
			p.Item = item
			p.Title, _ = fields["title"].(string)
			if name, ok := fields["name"].(string); ok {
				p.Title = name
			}
			if err := write(sec.name+"/"+slug, "item.html", p); err != nil {
				return 0, 0, err
			}
		}
	}
	return pages, oldest, nil
}
