package graphql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/vektah/gqlparser/v2/ast"

	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
)

func (c *compiler) root(f merged) {
	switch f.Name {
	case "__typename":
		c.out.fields = append(c.out.fields, field{as: f.Alias, constant: `"Query"`})
		return
	case "__schema", "__type":
		if len(c.out.describing) == maxDescribing {
			c.fail(f.Field, "the schema is asked for more than %d times; ask for it once", maxDescribing)
			return
		}
		if c.out.describing == nil {
			c.out.describing, c.out.vars = map[int]merged{}, c.vars
		}
		c.out.describing[len(c.out.fields)] = f
		c.out.fields = append(c.out.fields, field{as: f.Alias, constant: c.introspect(f)})
		return
	}
	r := c.s.roots[f.Name]
	args := f.ArgumentMap(c.vars)
	for name, v := range args {
		if s, ok := v.(string); ok && (strings.ContainsRune(s, 0) || !utf8.ValidString(s)) {
			c.fail(f.Field, "%s is not valid UTF-8, or holds a NUL", name)
			return
		}
	}
	out := query.Root{As: f.Alias, Locale: c.locale}
	if out.Locale == "" {
		out.Locale = c.s.model.Default()
	}
	tag, told := args["locale"].(string)
	if told {
		l, known := c.s.model.Locale(tag)
		if !known {
			c.fail(f.Field, "there is no locale %q%s", tag, strictyaml.DidYouMean(tag, c.s.model.Tags()))
			return
		}
		out.Locale = l.Tag
	}
	fd := field{as: f.Alias, kind: r.kind, root: len(c.out.Query.Roots)}
	types := []*model.Type{r.typ}
	switch r.kind {
	case rootNode:
		out.By = query.ByID
		out.Value, _ = args["id"].(string)
		types = c.s.model.Types
		out.Selection.Picks = c.picks(f.inner, types)
	case rootAny:
		if err := c.by(&out, args["by"], told); err != nil {
			c.fail(f.Field, "%s", err)
			return
		}
		types = c.s.model.Types
		out.Selection.Picks = c.picks(f.inner, types)
	case rootEntry:
		out.By, out.Type = query.BySlug, r.typ.Name
		out.Value, _ = args["slug"].(string)
		out.Selection.Picks = c.picks(f.inner, types)
	case rootSingle:
		out.By, out.Type = query.BySingle, r.typ.Name
		out.Selection.Picks = c.picks(f.inner, types)
	case rootList:
		out.By, out.Type = query.ByList, r.typ.Name
		if err := c.window(&out, r.typ, args); err != nil {
			c.fail(f.Field, "%s", err)
			return
		}
		out.Translated = args["translated"] == "ONLY"
		fd.shape = c.connection(&out, f.inner, r.typ)
	}
	c.out.Negotiated = c.out.Negotiated || !told && out.Locale != ""
	c.out.Query.Roots = append(c.out.Query.Roots, out)
	c.out.fields = append(c.out.fields, fd)
}

// by finds out by what an entry of any type is found. A path tells its locale by
// itself, unless one was told.
func (c *compiler) by(out *query.Root, arg any, told bool) error {
	by, _ := arg.(map[string]any)
	if len(by) != 1 {
		return fmt.Errorf("by names exactly one of id and path, not %d", len(by))
	}
	for name, v := range by {
		value, isText := v.(string)
		switch {
		case !isText:
			return fmt.Errorf("by.%s is null; give one that is not", name)
		case strings.ContainsRune(value, 0) || !utf8.ValidString(value):
			return fmt.Errorf("by.%s is not valid UTF-8, or holds a NUL", name)
		case name == "id":
			out.By, out.Value = query.ByID, value
			return nil
		}
		var err error
		if out.Value, err = query.CleanPath(value); err != nil {
			return err
		}
		out.By, out.Locales = query.ByPath, c.s.model.Tags()
		if !told {
			out.Locale = ""
		}
	}
	return nil
}

func (c *compiler) window(out *query.Root, t *model.Type, args map[string]any) error {
	out.Limit = query.DefaultLimit
	first, last := args["first"], args["last"]
	if first != nil && last != nil {
		return fmt.Errorf("first and last are both given; ask for a list's beginning or for its end")
	}
	for name, v := range map[string]any{"first": first, "last": last} {
		if v == nil {
			continue
		}
		n, err := strconv.Atoi(fmt.Sprint(v))
		if err != nil || n < 0 || n > query.MaxLimit {
			return fmt.Errorf("%s is %v; it may be 0 to %d", name, v, query.MaxLimit)
		}
		out.Limit, out.Last = n, name == "last"
	}
	if in, ok := args["filter"].(map[string]any); ok {
		text, err := filterText(c.s.model, t, false, in, "")
		if err == nil {
			out.Filter, err = query.ParseFilter("filter", text, c.s.model, t)
		}
		if err != nil {
			return err
		}
	}
	var names []string
	switch list := args["sort"].(type) {
	case []any:
		for _, n := range list {
			names = append(names, fmt.Sprint(n))
		}
	case []string:
		names = list
	case string:
		names = []string{list}
	}
	var err error
	if err := out.SortBy(t, names); err != nil {
		return err
	}
	after, behind := args["after"].(string)
	before, ahead := args["before"].(string)
	switch {
	case behind && (ahead || out.Last):
		return fmt.Errorf("after goes with first alone; use before with last")
	case ahead && first != nil:
		return fmt.Errorf("before goes with last; use after with first")
	case behind:
		out.After, err = out.ParseCursor("after", after)
	case ahead:
		out.Before, err = out.ParseCursor("before", before)
	}
	return err
}

// connection compiles what is asked of a list; nodes and edges become picks of
// one selection.
func (c *compiler) connection(out *query.Root, set ast.SelectionSet, t *model.Type) []query.ListPart {
	name := c.s.types[t.Name]
	shape := []query.ListPart{}
	nodes := func(set ast.SelectionSet) (first, end int) {
		first = len(out.Selection.Picks)
		out.Selection.Picks = append(out.Selection.Picks, c.picks(set, []*model.Type{t})...)
		return first, len(out.Selection.Picks)
	}
	for _, f := range c.collect(set, name+"Connection") {
		part := query.ListPart{As: f.Alias, Name: f.Name}
		switch f.Name {
		case "nodes":
			part.First, part.End = nodes(f.inner)
		case "edges":
			for _, e := range c.collect(f.inner, name+"Edge") {
				inner := query.ListPart{As: e.Alias, Name: e.Name}
				if e.Name == "node" {
					inner.First, inner.End = nodes(e.inner)
				}
				part.Inner = append(part.Inner, inner)
				if e.Name == "cursor" {
					out.Shows.Cursors |= invalidation.CursorAll
				}
			}
		case "pageInfo":
			for _, e := range c.collect(f.inner, "PageInfo") {
				part.Inner = append(part.Inner, query.ListPart{As: e.Alias, Name: e.Name})
				switch e.Name {
				case "hasNextPage", "hasPreviousPage":
					out.Shows.More = true
				case "startCursor":
					out.Shows.Cursors |= invalidation.CursorFirst
				case "endCursor":
					out.Shows.Cursors |= invalidation.CursorLast
				}
			}
		case "totalCount":
			out.Count = true
		}
		shape = append(shape, part)
	}
	if !slices.ContainsFunc(
		shape, func(p query.ListPart) bool { return p.Name != "totalCount" && p.Name != "__typename" },
	) {
		out.Limit = 0 // nothing shows which entries there are
	}
	return shape
}
