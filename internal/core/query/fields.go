package query

import (
	"errors"
	"slices"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/prose"
	"ubiquon/internal/core/strictyaml"
)

// Selecting compiles selections for a model and a locale.
type Selecting struct {
	Model *model.Model
	// Locale in which labels are given.
	Locale string
	// Files makes the addresses of files; nil: they have none.
	Files *picture.Addresses
	// Shape compiles a shape for entries of some types; nil: there are none.
	Shape func(name string, types []*model.Type) (Selection, error)
}

// Fields compiles the text of a fields parameter for an entry that may be of any
// of the types. The picks come out in the model's order, whatever the order of
// the text, so that the same question has the same answer.
func (s Selecting) Fields(types []*model.Type, text string) (Selection, error) {
	nodes, err := parseFields(text)
	if err != nil {
		return Selection{}, err
	}
	return s.bind(types, nodes, "")
}

// All is the selection of a read that names no fields: everything the entry
// itself has, and of linked entries id, type and slug.
func (s Selecting) All(types []*model.Type) Selection {
	sel := Selection{
		All: len(types) == 1,
		Picks: []SelectedField{
			{As: "id", Kind: PickID},
			{As: "about", Kind: PickAbout, Parts: parts(content.AboutNames)},
		},
	}
	for _, f := range fieldsOf(types) {
		sel.Picks = append(sel.Picks, s.plainPick(f.field, f.on))
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
				return o.field.Name == f.Name && o.field.Kind == f.Kind && o.field.Several == f.Several &&
					f.Inner == nil
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

// pointParts are the members of a GeoJSON point.
var pointParts = []string{"type", "coordinates"}

// plainPick takes a field as a read gets it that says nothing more about it.
func (s Selecting) plainPick(f *model.Field, on []string) SelectedField {
	p := SelectedField{As: f.Name, Field: f.Name, Kind: PickValue, Several: f.IsList(), Text: IsText(f), On: on}
	switch f.Kind {
	case model.Prose:
		p.Kind, p.Parts = PickParts, parts([]string{"html"})
	case model.File:
		p.Kind, p.Parts, p.Files = PickFile, parts(content.FileNames), s.Files
	case model.Location:
		p.Kind, p.Parts = PickParts, parts(pointParts)
	case model.Record:
		return InnerPick(p, s.inner(f.Inner[0], nil))
	case model.Blocks:
		sel := blockSelection()
		for _, t := range f.Inner {
			sel.Picks = append(sel.Picks, s.inner(t, []string{t.Name}).Picks...)
		}
		return InnerPick(p, sel)
	case model.Reference:
		p.Kind, p.Types = PickLink, f.Types
		p.Link = &Selection{
			Picks: []SelectedField{
				{As: "id", Kind: PickID},
				{As: "about", Kind: PickAbout, Parts: parts([]string{"type"})},
			},
		}
		for _, tf := range fieldsOf(s.types(f.Types)) {
			if tf.field.Kind == model.Slug && tf.field.Name == "slug" {
				p.Link.Picks = append(
					p.Link.Picks, SelectedField{As: "slug", Field: "slug", Kind: PickValue, Text: true, On: tf.on},
				)
			}
		}
	}
	return p
}

// inner takes all that a record or a kind of block has.
func (s Selecting) inner(t *model.Type, on []string) *Selection {
	sel := &Selection{}
	for _, f := range t.Fields {
		sel.Picks = append(sel.Picks, s.plainPick(f, on))
	}
	return sel
}

// blockSelection begins the selection of blocks: each says of which kind it is.
func blockSelection() *Selection {
	return &Selection{Picks: []SelectedField{{As: model.BlockName, Kind: PickType}}}
}

func (s Selecting) types(names []string) []*model.Type {
	out := make([]*model.Type, 0, len(names))
	for _, n := range names {
		if t := s.Model.Type(n); t != nil {
			out = append(out, t)
		}
	}
	return out
}

// bind compiles a selection of entries of the types. Its errors say which types they
// speak of.
func (s Selecting) bind(types []*model.Type, nodes []node, path string) (Selection, error) {
	sel, err := s.bound(types, nodes, path)
	var wrong *Error
	if errors.As(err, &wrong) && wrong.Types == nil {
		for _, t := range types {
			wrong.Types = append(wrong.Types, t.Name)
		}
	}
	return sel, err
}

func (s Selecting) bound(types []*model.Type, nodes []node, path string) (Selection, error) {
	sel := Selection{Picks: []SelectedField{{As: "id", Kind: PickID}}}
	known := []string{"id", "about"}
	backs := map[string]model.Back{}
	if len(types) == 1 {
		for _, b := range s.Model.Backs(types[0].Name) {
			backs[b.Name] = b
			known = append(known, b.Name)
		}
	}
	for _, f := range fieldsOf(types) {
		known = append(known, f.field.Name)
	}
	wanted := map[string]node{}
	for _, n := range nodes {
		if !slices.Contains(known, n.name) {
			if slices.Contains(content.AboutNames, n.name) {
				return sel, failAt(
					n.at, "write about("+n.name+")", "there is no field %q%s; it is said about the entry",
					path+n.name, ofTypes(types),
				)
			}
			return sel, failAt(
				n.at, strings.TrimPrefix(strictyaml.DidYouMean(n.name, known), "; "), "there is no field %q%s",
				path+n.name, ofTypes(types),
			)
		}
		if f := types[0].Field(n.name); n.shape != "" && backs[n.name].Field == nil &&
			(f == nil || f.Kind != model.Reference) {
			return sel, failAt(n.at, "", "%s leads to no entries, which could have a shape", path+n.name)
		}
		if _, isBack := backs[n.name]; n.args != nil && !isBack && !isFile(types, n.name) {
			return sel, failAt(n.at, "take the square brackets out", "%s takes no arguments", path+n.name)
		}
		wanted[n.name] = n
	}
	if n := wanted["id"]; n.given {
		return sel, failAt(n.at, "write id alone", "%sid has no parts", path)
	}
	if n, ok := wanted["about"]; ok {
		chosen, err := choose(path+"about", n, content.AboutNames, content.AboutNames)
		if err != nil {
			return sel, err
		}
		sel.Picks = append(sel.Picks, SelectedField{As: "about", Kind: PickAbout, Parts: parts(chosen)})
	}
	if err := s.fields(&sel, types, wanted, path); err != nil {
		return sel, err
	}
	for _, b := range s.Model.Backs(types[0].Name) {
		if n, ok := wanted[b.Name]; ok && backs[b.Name].Field == b.Field {
			p, err := s.back(b, n, path+b.Name)
			if err != nil {
				return sel, err
			}
			sel.Picks = append(sel.Picks, p)
		}
	}
	return sel, nil
}

// shaped compiles a shape for the entries that a field leads to.
func (s Selecting) shaped(n node, types []*model.Type, where string) (Selection, error) {
	if s.Shape == nil {
		return Selection{}, failAt(n.at, "", "%s: there are no shapes here", where)
	}
	sel, err := s.Shape(n.shape, types)
	if err != nil {
		return sel, failAt(n.at, "", "%s: %s", where, err)
	}
	return sel, nil
}

// isFile tells whether a name is that of a file in one of the types.
func isFile(types []*model.Type, name string) bool {
	return slices.ContainsFunc(types, func(t *model.Type) bool {
		f := t.Field(name)
		return f != nil && f.Kind == model.File
	})
}

// fields adds the wanted fields of entries, records or blocks of the types.
func (s Selecting) fields(sel *Selection, types []*model.Type, wanted map[string]node, path string) error {
	for _, f := range fieldsOf(types) {
		n, ok := wanted[f.field.Name]
		if !ok {
			continue
		}
		p := s.plainPick(f.field, f.on)
		if n.given || n.args != nil {
			var err error
			if p, err = s.parts(p, f.field, n, path+n.name); err != nil {
				return err
			}
		}
		sel.Picks = append(sel.Picks, p)
	}
	return nil
}

// parts compiles what stands in a field's brackets.
func (s Selecting) parts(p SelectedField, f *model.Field, n node, where string) (SelectedField, error) {
	var err error
	some := func(known []string) {
		var chosen []string
		chosen, err = choose(where, n, known, nil)
		p.Parts = parts(chosen)
	}
	switch f.Kind {
	case model.Prose:
		some(prose.Names)
	case model.File:
		return s.file(p, f, n, where)
	case model.Location:
		some(pointParts)
	case model.Choice:
		var chosen []string
		if chosen, err = choose(where, n, []string{"value", "label"}, nil); err == nil &&
			slices.Contains(chosen, "label") {
			p.Both = len(chosen) == 2
			p.Label = labels(s.Model, f, s.Locale)
			if s.Locale == "" {
				p.Labels = map[string]Labels{}
				for _, tag := range s.Model.Tags() {
					p.Labels[tag] = labels(s.Model, f, tag)
				}
			}
		}
	case model.Reference:
		var link Selection
		if n.shape != "" {
			link, err = s.shaped(n, s.types(f.Types), where)
		} else {
			link, err = s.bind(s.types(f.Types), n.nested, where+".")
		}
		p.Link = &link
	case model.Record:
		sel := &Selection{}
		err = s.innerFields(sel, f.Inner[0], n.nested, where)
		p = InnerPick(p, sel)
	case model.Blocks:
		sel := blockSelection()
		kinds := make([]string, len(f.Inner))
		for i, t := range f.Inner {
			kinds[i] = t.Name
		}
		for _, kind := range n.nested {
			t := f.InnerType(kind.name)
			if t == nil {
				return p, failAt(
					kind.at, strings.TrimPrefix(strictyaml.DidYouMean(kind.name, kinds), "; "),
					"%s has no kind of block %q", where, kind.name,
				)
			}
			one := s.inner(t, []string{t.Name})
			if kind.given {
				one = &Selection{}
				if err := s.innerFields(one, t, kind.nested, where+"."+t.Name); err != nil {
					return p, err
				}
				for i := range one.Picks {
					one.Picks[i].On = []string{t.Name}
				}
			}
			sel.Picks = append(sel.Picks, one.Picks...)
		}
		p = InnerPick(p, sel)
	default:
		err = failAt(n.at, "write "+n.name+" alone", "%s is of the kind %s and has no parts", where, f.Kind)
	}
	return p, err
}

// labels are what the options of a choice are called in a locale.
func labels(m *model.Model, f *model.Field, locale string) Labels {
	out := Labels{}
	for _, o := range f.Options {
		out[o.Value] = o.LabelIn(m.Chain(locale))
	}
	return out
}

// choose returns the names in the brackets, in the known order.
func choose(path string, n node, known, otherwise []string) ([]string, error) {
	if !n.given {
		return otherwise, nil
	}
	for _, inner := range n.nested {
		if inner.given || !slices.Contains(known, inner.name) {
			return nil, failAt(
				inner.at, strings.TrimPrefix(strictyaml.DidYouMean(inner.name, known), "; "), "%s has no part %q",
				path, inner.name,
			)
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

// IsText tells whether a field's value is a single text.
func IsText(f *model.Field) bool {
	switch f.Kind {
	case model.Text, model.Slug, model.Choice, model.Date, model.DateTime:
		return !f.Several
	}
	return false
}
