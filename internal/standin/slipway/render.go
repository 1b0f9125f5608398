package slipway

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"ubiquon/internal/core/pages"
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

// section is a list of the site, with a page for each of its entries.
type section struct {
	name, title string
	// sort, list and item are the order of the list, and the fields that it and a page show.
	sort, list, item string
}

var sections = []section{
	{
		"dispatches", "Dispatches", "-firstPublished", "title,slug,lead",
		"title,lead,text(html)," + picture + ",writer(name,role)",
	},
	{
		"notices", "Service notices", "-firstPublished", "title,slug,severity(label)",
		"title,severity(label),text(html),routes(number,name,slug)",
	},
	{"routes", "Routes", "number", "number,name,slug", "name,minutes,text(html),piers(name,slug)"},
	{"piers", "Piers", "name", "name,slug,summary", "name,summary," + picture},
}

type page struct {
	Sequence int64
	Name     any // the line's name, from its settings
	Section  string
	Title    string
	Items    []any
	Item     any
	Preview  string // the path, of a page in preview
	Lists    map[string][]any
	Settings any
}

// making is one build: the whole site, or some of its pages.
type making struct {
	*Slipway
	order order
	dir   string
	pages int
	// oldest is the oldest state that any page was read at.
	oldest int64
}

// render writes what is ordered into a directory of its own, beside what of the site stays. It
// returns the number of pages and the oldest state that any of them was read at.
func (s *Slipway) render(ctx context.Context, o order) (made int, sequence int64, err error) {
	m := &making{Slipway: s, order: o, dir: filepath.Join(s.o.Dir, "site-"+o.Build), oldest: -1}
	if err := os.RemoveAll(m.dir); err != nil {
		return 0, 0, err
	}
	asked := pages.Asked(o.Pages)
	if _, err := os.Stat(s.current()); err != nil || asked.IsAll() {
		if asked, err = m.paths(ctx); err != nil {
			return 0, 0, err
		}
	} else if err := m.keep(s.current()); err != nil {
		return 0, 0, err
	}
	for _, path := range asked {
		if err := m.page(ctx, path); err != nil {
			return 0, 0, err
		}
	}
	return m.pages, m.oldest, nil
}

// keep takes over the site as it is.
func (m *making) keep(from string) error {
	from, err := filepath.EvalSymlinks(from)
	if err != nil {
		return err
	}
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		to := filepath.Join(m.dir, rel)
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		return os.Link(path, to)
	})
}

// paths are those of all pages: what is read for them is the structure of the site.
func (m *making) paths(ctx context.Context) ([]string, error) {
	out := []string{"/"}
	for _, sec := range sections {
		out = append(out, "/"+sec.name)
		all, err := m.list(ctx, pages.Structure, sec.name, "slug", "slug")
		if err != nil {
			return nil, err
		}
		for _, item := range all {
			fields, _ := item.(map[string]any)
			slug, _ := fields["slug"].(string)
			if slug == "" || strings.ContainsAny(slug, "/.\\") {
				continue
			}
			out = append(out, "/"+sec.name+"/"+slug)
		}
	}
	return out, nil
}

// get reads for a page, no older than ordered.
func (m *making) get(ctx context.Context, page, request string, into any) (int64, error) {
	mark := fmt.Sprintf("%q; build=\"%d\"", page, m.order.Number)
	at, err := m.read(ctx, m.order.Sequence, mark, request, into)
	if err == nil && (m.oldest < 0 || at < m.oldest) {
		m.oldest = at
	}
	return at, err
}

// list reads all of a list for a page.
func (m *making) list(ctx context.Context, page, name, sort, fields string) (all []any, err error) {
	first := "/" + name + "?sort=" + sort + "&fields=" + fields + "&limit=200"
	for request := first; request != ""; {
		var list struct {
			Items  []any
			Window struct{ Next *string }
		}
		if _, err := m.get(ctx, page, request, &list); err != nil {
			return nil, err
		}
		all, request = append(all, list.Items...), ""
		if list.Window.Next != nil {
			request = first + "&after=" + url.QueryEscape(*list.Window.Next)
		}
	}
	return all, nil
}

// page reads and writes the page at a path, or takes it away if there is nothing to show there.
func (m *making) page(ctx context.Context, path string) error {
	var settings map[string]any
	shown := "name"
	if path == "/" {
		shown = "name,claim,telephone"
	}
	at, err := m.get(ctx, path, "/harbour-settings?fields="+shown, &settings)
	if err != nil {
		return err
	}
	p := page{Sequence: at, Name: settings["name"], Settings: settings}
	name, slug, _ := strings.Cut(strings.Trim(path, "/"), "/")
	if name == "" {
		p.Title = "Island to island, all year"
		return m.home(ctx, p)
	}
	for _, sec := range sections {
		if sec.name != name {
			continue
		}
		p.Section, p.Title = sec.name, sec.title
		if slug == "" {
			if p.Items, err = m.list(ctx, path, sec.name, sec.sort, sec.list); err != nil {
				return err
			}
			return m.write(path, "list.html", p)
		}
		var item map[string]any
		at, err := m.get(ctx, path, "/"+name+"/"+url.PathEscape(slug)+"?fields="+sec.item, &item)
		if errors.Is(err, errNotThere) {
			return os.RemoveAll(filepath.Join(m.dir, filepath.FromSlash(path)))
		}
		if err != nil {
			return err
		}
		p.Item, p.Sequence = item, min(p.Sequence, at)
		p.Title, _ = item["title"].(string)
		if name, ok := item["name"].(string); ok {
			p.Title = name
		}
		return m.write(path, "item.html", p)
	}
	return nil // it is no page of this site
}

func (m *making) home(ctx context.Context, p page) error {
	p.Lists = map[string][]any{}
	for name, request := range map[string]string{
		"notices":    "/notices?sort=-firstPublished&limit=4&fields=title,slug,severity(label)",
		"dispatches": "/dispatches?sort=-firstPublished&limit=5&fields=title,slug,lead,about(firstPublished),writer(name)",
	} {
		var list struct{ Items []any }
		at, err := m.get(ctx, "/", request, &list)
		if err != nil {
			return err
		}
		p.Lists[name], p.Sequence = list.Items, min(p.Sequence, at)
	}
	return m.write("/", "home.html", p)
}

// write writes a page in the place of the one before.
func (m *making) write(path, name string, p page) error {
	m.pages++
	file := filepath.Join(m.dir, filepath.FromSlash(path), "index.html")
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err // it is shared with the site as it is
	}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := templates.ExecuteTemplate(out, name, p); err != nil {
		out.Close()
		return fmt.Errorf("page %s: %w", path, err)
	}
	return out.Close()
}
