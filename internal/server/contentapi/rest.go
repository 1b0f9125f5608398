package contentapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/language"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/shape"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/server/guard"
)

var (
	entryParameters = []string{"fields", "shape", "locale"}
	listParameters  = []string{
		"fields", "shape", "locale", "translated", "filter", "sort", "limit", "offset", "after", "before", "count",
	}
	idParameters    = []string{"fields", "shape", "locale", "revision"}
	pathParameters  = []string{"fields", "shape", "locale", "path"}
	pathsParameters = []string{"type", "locale", "fields", "limit", "after"}
)

// PlanREST compiles a REST request; rest is its path below the edition. files makes the addresses of
// files.
func PlanREST(
	m *model.Model, files *picture.Addresses, edition, rest string, r *http.Request,
) (*delivery.Plan, error) {
	if rest == "paths" {
		return planPaths(m, edition, r)
	}
	root, t, err := Locate(m, rest)
	if err != nil {
		return nil, err
	}
	known := entryParameters
	switch root.By {
	case query.ByList:
		known = listParameters
	case query.ByID:
		known = idParameters
	case query.ByPath:
		known = pathParameters
	}
	p, err := guard.Parameters(r.URL, known)
	if err != nil {
		return nil, err
	}
	negotiated, err := chooseLocale(m, root, p, r)
	if err != nil {
		return nil, err
	}
	if root.By == query.ByPath {
		if root.Value, err = query.CleanPath(p["path"]); err != nil {
			return nil, err
		}
		if root.Locales = m.Tags(); p["locale"] == "" {
			// The path itself tells the locale.
			root.Locale, negotiated = "", false
		}
	}
	if text, given := p["revision"]; given {
		if root.Revision, err = revision(text, edition); err != nil {
			return nil, err
		}
	}
	types := []*model.Type{t}
	if t == nil {
		types = m.Types
	}
	given, err := choose(root, shape.Selecting(query.Selecting{Model: m, Locale: root.Locale, Files: files}), types, p)
	if err == nil && root.By == query.ByList {
		root.Shows.Around = true
		err = window(m, root, t, p)
	}
	if err != nil {
		return nil, err
	}
	q := &query.Query{Edition: edition, Roots: []query.Root{*root}}
	if err := q.CheckSize(); err != nil {
		return nil, err
	}
	// What nobody asked for by name is left out, and said, where it is not for the
	// reader.
	plan := &delivery.Plan{Query: q, Key: q.Key(), Lenient: !given}
	if negotiated {
		plan.Key += " negotiated" // the bytes are the same, Vary is not
	}
	base := headers(m, q, "application/json", negotiated)
	u := r.URL
	plan.Base = base
	plan.Render = func(p *delivery.Plan, res *query.Result) (delivery.Rendered, error) {
		return renderREST(m, u, p.Query, res, base)
	}
	plan.Narrow = func(p *delivery.Plan, rights access.Rights) *delivery.Plan {
		return narrowREST(m, p, rights)
	}
	return plan, nil
}

// revision reads the parameter of that name.
func revision(text, edition string) (int, error) {
	n, err := strconv.Atoi(text)
	switch {
	case err != nil || n < 1 || n > 1<<31-1:
		return 0, &query.Error{
			Parameter: "revision",
			Detail:    fmt.Sprintf("%q is no revision", text),
			Hint:      "give its number, as in revision=3",
		}
	case edition != content.Preview:
		return 0, &query.Error{
			Parameter: "revision",
			Detail:    "former revisions are read in preview alone",
			Hint:      "ask below /preview/, with a grant to read it",
		}
	}
	return n, nil
}

// narrowREST leaves out of a plan what a reader may not enter, and has each entry
// list it.
func narrowREST(m *model.Model, p *delivery.Plan, rights access.Rights) *delivery.Plan {
	q, hidden := p.Query.Without(rights, false)
	if q == p.Query {
		return nil // it is the entry itself that is not for the reader
	}
	root := &q.Roots[0]
	types := m.TypeNames()
	if root.Type != "" {
		types = []string{root.Type}
	}
	root.Selection.TellHidden(hidden[0], types)
	out := *p
	out.Query, out.Key = q, q.Key()+strings.TrimPrefix(p.Key, p.Query.Key())
	return &out
}

// Locate finds out what a path asks for. The type is nil for an entry by id.
func Locate(m *model.Model, rest string) (*query.Root, *model.Type, error) {
	first, second, two := strings.Cut(rest, "/")
	if strings.Contains(second, "/") || !utf8.ValidString(rest) || strings.ContainsRune(rest, 0) {
		return nil, nil, errNoSuchPath(rest)
	}
	if first == "at" && !two {
		return &query.Root{By: query.ByPath}, nil, nil
	}
	if first == "entries" && two && second != "" {
		return &query.Root{By: query.ByID, Value: second}, nil, nil
	}
	if t := m.ByPlural(first); t != nil {
		if !two {
			return &query.Root{By: query.ByList, Type: t.Name}, t, nil
		}
		if second != "" && t.SlugField() != nil {
			return &query.Root{By: query.BySlug, Type: t.Name, Value: second}, t, nil
		}
		return nil, nil, errNoSuchPath(rest)
	}
	if t := m.Type(first); t != nil && t.Singleton && !two {
		return &query.Root{By: query.BySingle, Type: t.Name}, t, nil
	}
	var known []string
	for _, t := range m.Types {
		if t.Singleton {
			known = append(known, t.Name)
		} else {
			known = append(known, t.Plural)
		}
	}
	return nil, nil, &query.Error{
		Parameter: guard.PathItself,
		Detail:    fmt.Sprintf("nothing is listed under %q%s", first, strictyaml.DidYouMean(first, known)),
	}
}

func errNoSuchPath(rest string) error {
	return &query.Error{
		Parameter: guard.PathItself,
		Detail:    fmt.Sprintf("there is nothing at %q", strings.ToValidUTF8(rest, "�")),
		Hint:      "ask for {plural}, {plural}/{slug}, entries/{id} or {singleton}",
	}
}

// chooseLocale takes the locale from the parameter, else from Accept-Language
// by RFC 4647 lookup, else the default.
func chooseLocale(
	m *model.Model, root *query.Root, p map[string]string, r *http.Request,
) (negotiated bool, err error) {
	if tag, given := p["locale"]; given {
		l, ok := m.Locale(tag)
		if !ok {
			return false, &query.Error{
				Parameter: "locale",
				Detail:    fmt.Sprintf("there is no locale %q", tag),
				Hint:      strings.TrimPrefix(strictyaml.DidYouMean(tag, m.Tags()), "; "),
			}
		}
		root.Locale = l.Tag
		return false, nil
	}
	root.Locale = negotiate(m, r.Header.Get("Accept-Language"))
	return true, nil
}

// negotiate takes a locale from an Accept-Language header, by RFC 4647 lookup; else
// it is the default.
func negotiate(m *model.Model, header string) string {
	wanted, _, err := language.ParseAcceptLanguage(header)
	if err != nil {
		return m.Default() // a header that makes no sense asks for nothing
	}
	for _, tag := range wanted {
		for name := tag.String(); name != ""; name = name[:max(0, strings.LastIndexByte(name, '-'))] {
			if l, ok := m.Locale(name); ok {
				return l.Tag
			}
		}
	}
	return m.Default()
}

func window(m *model.Model, root *query.Root, t *model.Type, p map[string]string) error {
	root.Limit = query.DefaultLimit
	if text, given := p["limit"]; given {
		var err error
		if root.Limit, err = query.ParseLimit("limit", text); err != nil {
			return err
		}
	}
	switch text, given := p["translated"]; {
	case given && text != "fallback" && text != "only":
		return &query.Error{Parameter: "translated", Detail: fmt.Sprintf("%q is neither fallback nor only", text)}
	default:
		root.Translated = text == "only"
	}
	if text, given := p["count"]; given {
		if text != "true" && text != "false" {
			return &query.Error{Parameter: "count", Detail: fmt.Sprintf("%q is neither true nor false", text)}
		}
		root.Count = text == "true"
	}
	var names []string
	if text := p["sort"]; text != "" {
		names = strings.Split(text, ",")
	}
	var err error
	if text, given := p["filter"]; given {
		if root.Filter, err = query.ParseFilter("filter", text, m, t); err != nil {
			return err
		}
	}
	if err := root.SortBy(t, names); err != nil {
		return err
	}
	after, behind := p["after"]
	before, ahead := p["before"]
	if text, given := p["offset"]; given {
		if root.Offset, err = query.ParseOffset(text); err != nil {
			return err
		}
	}
	switch {
	case root.Offset > 0 && (behind || ahead):
		return &query.Error{
			Parameter: "offset",
			Detail:    "a cursor is given too",
			Hint:      "skip entries, or go on from a place",
		}
	case behind && ahead:
		return &query.Error{
			Parameter: "before",
			Detail:    "after is given too",
			Hint:      "ask for what comes after a place, or before one",
		}
	case behind:
		root.After, err = root.ParseCursor("after", after)
	case ahead:
		root.Before, err = root.ParseCursor("before", before)
	}
	return err
}

func renderREST(
	m *model.Model, u *url.URL, q *query.Query, res *query.Result, base map[string][]string,
) (delivery.Rendered, error) {
	root, found := &q.Roots[0], &res.Roots[0]
	out := delivery.Rendered{Status: http.StatusOK, Header: base}
	var err error
	out.Body, err = query.Render(res.MostBytes, func(b *query.Buffer) {
		if root.By == query.ByList {
			prev, next := root.PageCursors(found)
			writeList(b, root, found, prev, next)
			var links []string
			for _, l := range [][3]string{{"prev", "before", prev}, {"next", "after", next}} {
				if l[2] == "" {
					continue
				}
				to := *u
				values := to.Query()
				values.Del("after")
				values.Del("before")
				values.Del("offset")
				values.Set(l[1], l[2])
				to.RawQuery = values.Encode()
				links = append(links, "<"+to.RequestURI()+`>; rel="`+l[0]+`"`)
			}
			if links != nil {
				out.Header = with(out.Header, "Link", strings.Join(links, ", "))
			}
		} else if len(found.Rows) == 0 && found.MovedTo != "" {
			to := *u
			values := to.Query()
			values.Set("path", found.MovedTo)
			to.RawQuery = values.Encode()
			out.Status = http.StatusMovedPermanently
			out.Needs = q.NeedsOf(res)
			out.Header = with(out.Header, "Location", to.RequestURI())
			src, _ := json.Marshal(map[string]any{"moved": map[string]string{"path": found.MovedTo}}) // text
			b.Write(append(src, '\n'))
		} else if len(found.Rows) == 0 {
			out.Status = http.StatusNotFound
			out.Header = with(out.Header, "Content-Type", "application/problem+json")
			b.Write(api.Problem{Kind: "not-found", Status: 404, Detail: "there is nothing here under this name in " +
				"this edition and locale"}.Bytes())
		} else {
			picks := root.Selection.Picks
			if found.Locale != "" {
				out.Header = with(out.Header, "Content-Language", found.Locale)
				picks = root.Selection.In(found.Locale).Picks
			}
			query.WriteObject(b, picks, 0, found.Rows[0])
			b.WriteByte('\n')
			out.Needs = q.NeedsOf(res)
			out.Header = setDeprecationOf(out.Header, m, q, res)
		}
	})
	return out, err
}

func writeList(b *query.Buffer, root *query.Root, found *query.RootResult, prev, next string) {
	b.WriteString(`{"items":[`)
	for i, row := range found.Rows {
		if i > 0 {
			b.WriteByte(',')
		}
		query.WriteObject(b, root.Selection.Picks, 0, row)
	}
	w := struct {
		Limit int     `json:"limit"`
		Next  *string `json:"next"`
		Prev  *string `json:"prev"`
		Total *int    `json:"total,omitempty"`
	}{Limit: root.Limit}
	if prev != "" {
		w.Prev = &prev
	}
	if next != "" {
		w.Next = &next
	}
	if root.Count {
		w.Total = &found.Total
	}
	src, _ := json.Marshal(w) // text and numbers
	b.WriteString(`],"window":`)
	b.Write(src)
	b.WriteString("}\n")
}
