package contentapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/server/guard"
)

// defaultPaths is how many paths an answer has that does not say.
const defaultPaths = 1000

// pathsSort is what cursors of paths hold: a locale and a path.
var pathsSort = []query.Sort{{By: "locale", Kind: model.Text}, {By: "path", Kind: model.Text}}

// planPaths compiles the list of all paths of the site, for those who build it.
// Types that the reader may not read are left out, unless one is named.
func planPaths(m *model.Model, edition string, r *http.Request) (*delivery.Plan, error) {
	p, err := guard.Parameters(r.URL, pathsParameters)
	if err != nil {
		return nil, err
	}
	root := query.Root{By: query.ByPaths, Locales: m.Tags(), Limit: defaultPaths, Sort: pathsSort}
	for _, t := range m.Types {
		if t.HasPath() {
			root.Types = append(root.Types, t.Name)
		}
	}
	plan := &delivery.Plan{Lenient: true}
	if name, given := p["type"]; given {
		if t := m.Type(name); t == nil || !t.HasPath() {
			return nil, &query.Error{
				Parameter: "type",
				Detail:    fmt.Sprintf("no type %q has paths", name),
				Hint:      strings.TrimPrefix(strictyaml.DidYouMean(name, root.Types), "; "),
			}
		}
		root.Types, plan.Lenient = []string{name}, false
	}
	if tag, given := p["locale"]; given {
		l, known := m.Locale(tag)
		if !known {
			return nil, &query.Error{
				Parameter: "locale",
				Detail:    fmt.Sprintf("there is no locale %q", tag),
				Hint:      strings.TrimPrefix(strictyaml.DidYouMean(tag, m.Tags()), "; "),
			}
		}
		root.Locale, root.Locales = l.Tag, []string{l.Tag}
	}
	if text, given := p["fields"]; given {
		if root.PathFields, err = pathFields(text); err != nil {
			return nil, err
		}
	}
	if text, given := p["limit"]; given {
		var n int
		if _, err := fmt.Sscanf(text+" ", "%d ", &n); err != nil || n < 1 || n > query.MaxPaths {
			return nil, &query.Error{
				Parameter: "limit",
				Detail:    fmt.Sprintf("%q is no number from 1 to %d", text, query.MaxPaths),
			}
		}
		root.Limit = n
	}
	if text, given := p["after"]; given {
		if root.After, err = root.ParseCursor("after", text); err != nil {
			return nil, err
		}
	}
	q := &query.Query{Edition: edition, Roots: []query.Root{root}}
	base := headers(m, q, "application/json", false)
	u := r.URL
	plan.Query, plan.Key, plan.Base = q, q.Key(), base
	plan.Render = func(p *delivery.Plan, res *query.Result) (delivery.Rendered, error) {
		out := renderPaths(u, &p.Query.Roots[0], &res.Roots[0], base)
		if len(out.Body) > res.MostBytes {
			return out, query.ErrTooLarge
		}
		return out, nil
	}
	plan.Narrow = func(p *delivery.Plan, rights access.Rights) *delivery.Plan {
		narrowed, _ := p.Query.Without(rights, false)
		if narrowed == p.Query || len(narrowed.Roots[0].Types) == 0 {
			return nil
		}
		out := *p
		out.Query, out.Key = narrowed, narrowed.Key()
		return &out
	}
	return plan, nil
}

// rowFields are the members of a query.PathRow, in order.
var rowFields = []string{"entry", "type", "locale", "path", "updated"}

// showRow writes a row as JSON with the members that are asked for; none for all.
func showRow(p *query.PathRow, fields []string) json.RawMessage {
	if len(fields) == 0 {
		fields = rowFields
	}
	out := []byte{'{'}
	for i, value := range []string{p.Entry, p.Type, p.Locale, p.Path, p.Updated} {
		if name := rowFields[i]; slices.Contains(fields, name) {
			text, _ := json.Marshal(value) // a text
			if len(out) > 1 {
				out = append(out, ',')
			}
			out = append(append(append(out, '"'), name+`":`...), text...)
		}
	}
	return append(out, '}')
}

// pathFields reads which members of a query.PathRow are asked for, and returns them in the order of
// the answer; none for all.
func pathFields(text string) ([]string, error) {
	asked := strings.Split(text, ",")
	for _, name := range asked {
		if !slices.Contains(rowFields, name) {
			return nil, &query.Error{
				Parameter: "fields",
				Detail:    fmt.Sprintf("there is no field %q; there are %s", name, strings.Join(rowFields, ", ")),
				Hint:      strings.TrimPrefix(strictyaml.DidYouMean(name, rowFields), "; "),
			}
		}
	}
	out := slices.DeleteFunc(slices.Clone(rowFields), func(name string) bool {
		return !slices.Contains(asked, name)
	})
	if len(out) == len(rowFields) {
		return nil, nil
	}
	return out, nil
}

func renderPaths(u *url.URL, root *query.Root, found *query.RootResult, base map[string][]string) delivery.Rendered {
	out := delivery.Rendered{Status: http.StatusOK, Header: base}
	window := map[string]any{"limit": root.Limit, "next": nil}
	if n := len(found.Paths); found.More && n > 0 {
		last := found.Paths[n-1]
		next := root.Cursor(query.Position{ID: last.Entry, Values: []*string{&last.Locale, &last.Path}})
		to := *u
		values := to.Query()
		values.Set("after", next)
		to.RawQuery = values.Encode()
		window["next"] = next
		out.Header = with(base, "Link", "<"+to.RequestURI()+`>; rel="next"`)
	}
	items := make([]json.RawMessage, len(found.Paths))
	for i := range found.Paths {
		items[i] = showRow(&found.Paths[i], root.PathFields)
	}
	src, _ := json.Marshal(map[string]any{"items": items, "window": window}) // texts
	out.Body = append(src, '\n')
	return out
}
