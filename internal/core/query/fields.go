package query

import (
	"slices"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/prose"
	"ubiquon/internal/core/strictyaml"
)

// node is one name of a fields parameter with what stands in its brackets.
type node struct {
	name   string
	nested []node
	given  bool // there were brackets, even empty ones
}

// parseFields reads the text of a fields parameter: names parted by commas,
// each with an optional selection in brackets.
func parseFields(text string) ([]node, error) {
	p := &fieldParser{text: text}
	out, err := p.list(0)
	if err != nil {
		return nil, err
	}
	if p.at < len(p.text) {
		return nil, failf("fields", "take the bracket out", "a closing bracket too many at character %d", p.at+1)
	}
	return out, nil
}

type fieldParser struct {
	text string
	at   int
}

func (p *fieldParser) list(depth int) ([]node, error) {
	if depth > MaxDepth+1 {
		return nil, failf("fields", "ask for the inner entries in a request of their own", "brackets are nested more than %d deep", MaxDepth+1)
	}
	var out []node
	for {
		start := p.at
		for p.at < len(p.text) && isNameByte(p.text[p.at]) {
			p.at++
		}
		n := node{name: p.text[start:p.at]}
		if n.name == "" {
			return nil, failf("fields", "write names parted by commas, as in title,routes(name)", "a name is missing at character %d", p.at+1)
		}
		if p.at < len(p.text) && p.text[p.at] == '(' {
			p.at++
			inner, err := p.list(depth + 1)
			if err != nil {
				return nil, err
			}
			if p.at >= len(p.text) || p.text[p.at] != ')' {
				return nil, failf("fields", "close it with )", "the bracket behind %q is not closed", n.name)
			}
			p.at++
			n.nested, n.given = inner, true
		}
		if slices.ContainsFunc(out, func(o node) bool { return o.name == n.name }) {
			return nil, failf("fields", "name it once", "%q stands there twice", n.name)
		}
		out = append(out, n)
		if p.at >= len(p.text) || p.text[p.at] == ')' {
			return out, nil
		}
		if p.text[p.at] != ',' {
			return nil, failf("fields", "write names parted by commas, as in title,routes(name)", "unexpected %q at character %d", p.text[p.at:p.at+1], p.at+1)
		}
		p.at++
	}
}

func isNameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// SelectFields compiles the text of a fields parameter for an entry that may
// be of any of the types. The picks come out in the model's order, whatever
// the order of the text, so that the same question has the same answer.
func SelectFields(m *model.Model, types []*model.Type, text string) (Selection, error) {
	nodes, err := parseFields(text)
	if err != nil {
		return Selection{}, err
	}
	return bind(m, types, nodes, "")
}

// SelectAll is the selection of a read that names no fields: everything the
// entry itself has, and of linked entries id, type and slug.
func SelectAll(m *model.Model, types []*model.Type) Selection {
	sel := Selection{Picks: []Pick{{As: "id", Kind: PickID}, {As: "about", Kind: PickAbout, Parts: parts(content.AboutNames)}}}
	for _, f := range fieldsOf(types) {
		sel.Picks = append(sel.Picks, plainPick(m, f.field, f.on))
	}
	return sel
}

type typedField struct {
	field *model.Field
	on    []string // nil when every one of the types has it
}

// fieldsOf returns the fields of all types in their order, those of the same
// name and form once.
func fieldsOf(types []*model.Type) []typedField {
	var out []typedField
	for _, t := range types {
		for _, f := range t.Fields {
			i := slices.IndexFunc(out, func(o typedField) bool {
				return o.field.Name == f.Name && o.field.Kind == f.Kind && o.field.Several == f.Several
			})
			if i < 0 {
				out = append(out, typedField{field: f, on: []string{t.Name}})
			} else {
				out[i].on = append(out[i].on, t.Name)
			}
		}
	}
	for i := range out {
		if len(out[i].on) == len(types) {
			out[i].on = nil
		}
	}
	return out
}

func parts(names []string) []Part {
	out := make([]Part, len(names))
	for i, n := range names {
		out[i] = PartOf(n, n)
	}
	return out
}

// plainPick takes a field as a read gets it that says nothing more about it.
func plainPick(m *model.Model, f *model.Field, on []string) Pick {
	p := Pick{As: f.Name, Field: f.Name, Kind: PickValue, Several: f.Several, Text: IsText(f), On: on}
	switch f.Kind {
	case model.Prose:
		p.Kind, p.Parts = PickParts, parts([]string{"html"})
	case model.File:
		p.Kind, p.Parts = PickParts, parts(content.FileNames)
	case model.Reference:
		p.Kind, p.Types = PickLink, f.Types
		p.Link = &Selection{Picks: []Pick{{As: "id", Kind: PickID}, {As: "about", Kind: PickAbout, Parts: parts([]string{"type"})}}}
		for _, tf := range fieldsOf(lookUp(m, f.Types)) {
			if tf.field.Kind == model.Slug && tf.field.Name == "slug" {
				p.Link.Picks = append(p.Link.Picks, Pick{As: "slug", Field: "slug", Kind: PickValue, Text: true, On: tf.on})
			}
		}
	}
	return p
}

func lookUp(m *model.Model, names []string) []*model.Type {
	out := make([]*model.Type, 0, len(names))
	for _, n := range names {
		if t := m.Type(n); t != nil {
			out = append(out, t)
		}
	}
	return out
}

func bind(m *model.Model, types []*model.Type, nodes []node, path string) (Selection, error) {
	sel := Selection{Picks: []Pick{{As: "id", Kind: PickID}}}
	fields := fieldsOf(types)
	known := []string{"id", "about"}
	for _, f := range fields {
		known = append(known, f.field.Name)
	}
	wanted := map[string]node{}
	for _, n := range nodes {
		if !slices.Contains(known, n.name) {
			return sel, failf("fields", strings.TrimPrefix(strictyaml.DidYouMean(n.name, known), "; "), "there is no field %q%s", path+n.name, ofTypes(types))
		}
		wanted[n.name] = n
	}
	if n := wanted["id"]; n.given {
		return sel, failf("fields", "write id alone", "%sid has no parts", path)
	}
	if n, ok := wanted["about"]; ok {
		chosen, err := choose(path+"about", n, content.AboutNames, content.AboutNames)
		if err != nil {
			return sel, err
		}
		sel.Picks = append(sel.Picks, Pick{As: "about", Kind: PickAbout, Parts: parts(chosen)})
	}
	for _, f := range fields {
		n, ok := wanted[f.field.Name]
		if !ok {
			continue
		}
		p := plainPick(m, f.field, f.on)
		var err error
		switch where := path + n.name; {
		case !n.given:
		case f.field.Kind == model.Prose:
			var forms []string
			forms, err = choose(where, n, prose.Names, nil)
			p.Parts = parts(forms)
		case f.field.Kind == model.File:
			var chosen []string
			chosen, err = choose(where, n, content.FileNames, nil)
			p.Parts = parts(chosen)
		case f.field.Kind == model.Choice:
			if _, err = choose(where, n, []string{"label"}, nil); err == nil {
				p.Names = map[string]string{}
				for _, o := range f.field.Options {
					p.Names[o.Value] = o.Label
				}
			}
		case f.field.Kind == model.Reference:
			var link Selection
			link, err = bind(m, lookUp(m, f.field.Types), n.nested, where+".")
			p.Link = &link
		default:
			err = failf("fields", "write "+n.name+" alone", "%s is of the kind %s and has no parts", where, f.field.Kind)
		}
		if err != nil {
			return sel, err
		}
		sel.Picks = append(sel.Picks, p)
	}
	return sel, nil
}

// choose returns the names in the brackets, in the known order.
func choose(path string, n node, known, otherwise []string) ([]string, error) {
	if !n.given {
		return otherwise, nil
	}
	for _, inner := range n.nested {
		if inner.given || !slices.Contains(known, inner.name) {
			return nil, failf("fields", strings.TrimPrefix(strictyaml.DidYouMean(inner.name, known), "; "), "%s has no part %q", path, inner.name)
		}
	}
	var out []string
	for _, k := range known {
		if slices.ContainsFunc(n.nested, func(inner node) bool { return inner.name == k }) {
			out = append(out, k)
		}
	}
	return out, nil
}

func ofTypes(types []*model.Type) string {
	if len(types) != 1 {
		return ""
	}
	return " in " + types[0].Name
}
