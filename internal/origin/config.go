package origin

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// File is the form of origins.yaml.
type File struct {
	Origins map[string]Config `yaml:"origins"`
}

// Config describes one origin.
type Config struct {
	Pull  Pull  `yaml:"pull"`
	Prove Proof `yaml:"prove"`
	// EditAt is where people edit an entry; {kind} and {key} are filled in.
	EditAt string             `yaml:"editAt"`
	Types  map[string]Mapping `yaml:"types"`
}

// Pull says how content is fetched: GET {http}/{kind} for a list, GET
// {http}/{kind}/{key} for one item.
type Pull struct {
	HTTP string `yaml:"http"`
	Auth struct {
		Basic string `yaml:"basic"` // user:password
	} `yaml:"auth"`
	// Page says how a list goes on: link, for a Link header with rel="next"
	// (RFC 8288). Empty: lists come whole.
	Page string `yaml:"page"`
}

// Proof says how announcements are proven.
type Proof struct {
	// StandardWebhooks holds the secrets, any of which will do.
	StandardWebhooks []string `yaml:"standardWebhooks"`
}

// Mapping brings one kind of item over into one of our types. All paths are
// JSONPath (RFC 9535).
type Mapping struct {
	// Kind is what the origin calls the type, in addresses and announcements.
	Kind string `yaml:"kind"`
	// From finds the items in a list's answer.
	From string `yaml:"from"`
	// ID finds what the origin calls the item.
	ID string `yaml:"id"`
	// Version finds a text that is later in byte order for a later state, such as
	// an RFC 3339 time in UTC.
	Version string `yaml:"version"`
	// State says whether the item as it stands is published or only saved.
	State struct {
		Path   string            `yaml:"path"`
		Values map[string]string `yaml:"values"` // to published or saved
	} `yaml:"state"`
	// Live finds the published state inside an item that is shown with a newer
	// draft; it has the same form as the item.
	Live string `yaml:"live"`
	// PublishedAt finds when the origin published it (RFC 3339).
	PublishedAt string `yaml:"publishedAt"`
	// Path finds where the origin says that it lives, as an address or a path: by it an
	// entry of another origin can be recognised.
	Path string `yaml:"path"`
	// Translations finds an object with, by locale, fields in the item's form.
	Translations string               `yaml:"translations"`
	Fields       map[string]FieldFrom `yaml:"fields"`
}

// FieldFrom says where a field's value comes from: a path alone, or one of
// markdown, html, ref, file and each with a path.
type FieldFrom struct {
	Path   string // of the value; for a file, of its address
	Form   string // "", markdown, html, ref, file or each
	Type   string // ref: the type it leads to, where the field allows several
	Origin string // ref: the origin it leads to; empty for the same
	Alt    string // file: path of the description
	// Kind finds, in each of the items at Path, of which kind of block it is; Kinds
	// says where the block's fields come from.
	Kind  string
	Kinds map[string]map[string]FieldFrom
}

type fieldFromForm struct {
	Markdown string                          `yaml:"markdown"`
	HTML     string                          `yaml:"html"`
	Ref      string                          `yaml:"ref"`
	Type     string                          `yaml:"type"`
	Origin   string                          `yaml:"origin"`
	File     string                          `yaml:"file"`
	Alt      string                          `yaml:"alt"`
	Each     string                          `yaml:"each"`
	Kind     string                          `yaml:"kind"`
	Kinds    map[string]map[string]FieldFrom `yaml:"kinds"`
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (f *FieldFrom) UnmarshalYAML(node ast.Node) error {
	if text, ok := node.(*ast.StringNode); ok {
		f.Path = text.Value
		return nil
	}
	var form fieldFromForm
	if err := yaml.NodeToValue(node, &form, yaml.Strict()); err != nil {
		return err
	}
	f.Type, f.Origin, f.Alt, f.Kind, f.Kinds = form.Type, form.Origin, form.Alt, form.Kind, form.Kinds
	for name, path := range map[string]string{
		"markdown": form.Markdown, "html": form.HTML, "ref": form.Ref,
		"file": form.File, "each": form.Each,
	} {
		if path == "" {
			continue
		}
		if f.Form != "" {
			return fmt.Errorf("a field comes from one of markdown, html, ref, file and each, not from two")
		}
		f.Form, f.Path = name, path
	}
	if f.Form == "" {
		return fmt.Errorf("a field comes from a path, or from one of markdown, html, ref, file and each with a path")
	}
	return nil
}

// check holds what is said of a field against the field of the type or block.
func (f FieldFrom) check(t *model.Type, name, where string, add func(format string, args ...any)) {
	field := t.Field(name)
	switch {
	case field == nil:
		add("type %s has no field %q%s", where, name, strictyaml.DidYouMean(name, t.FieldNames()))
	case (field.Kind == model.Reference) != (f.Form == "ref"):
		add("field %s.%s: a reference, and nothing else, comes from {ref: path}", where, name)
	case field.Kind == model.Reference && len(field.Types) > 1 && !slices.Contains(field.Types, f.Type):
		add("field %s.%s may lead to several types; say which with {ref: path, type: name}", where, name)
	case f.Form == "html" && field.Kind != model.Prose && field.Kind != model.Text:
		add("field %s.%s: only prose and text come from {html: path}", where, name)
	case (field.Kind == model.Blocks) != (f.Form == "each"):
		add("field %s.%s: blocks, and nothing else, come from {each: path, kind: path, kinds: {…}}", where, name)
	case field.Kind == model.Blocks:
		for kind, fields := range f.Kinds {
			inner := field.InnerType(kind)
			if inner == nil {
				add("field %s.%s has no kind of block %q", where, name, kind)
				continue
			}
			for one, from := range fields {
				from.check(inner, one, where+"."+name+"."+kind, add)
			}
		}
	}
}

// Check says everything that is wrong with the origins, held against the model.
func Check(origins map[string]Config, m *model.Model) error {
	var wrong []string
	names := make([]string, 0, len(origins))
	for name := range origins {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		add := func(format string, args ...any) {
			wrong = append(wrong, "origin "+name+": "+fmt.Sprintf(format, args...))
		}
		c := origins[name]
		if u, err := url.Parse(c.Pull.HTTP); err != nil || u.Host == "" {
			add("pull.http %q is no http address", c.Pull.HTTP)
		}
		if c.Pull.Page != "" && c.Pull.Page != "link" {
			add("pull.page is %q; it may be link, or be left out", c.Pull.Page)
		}
		if len(c.Prove.StandardWebhooks) == 0 {
			add("prove is missing; nobody could announce anything")
		}
		for typ, mapping := range c.Types {
			t := m.Type(typ)
			if t == nil {
				all := make([]string, len(m.Types))
				for i := range m.Types {
					all[i] = m.Types[i].Name
				}
				add("types names the unknown type %q%s", typ, strictyaml.DidYouMean(typ, all))
				continue
			}
			for field, from := range mapping.Fields {
				from.check(t, field, typ, add)
			}
			for _, to := range mapping.State.Values {
				if to != event.Published && to != event.Saved {
					add("type %s: a state may mean published or saved, not %q", typ, to)
				}
			}
			if _, err := mapping.compile(); err != nil {
				add("type %s: %v", typ, err)
			}
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s", strings.Join(wrong, "\n"))
	}
	return nil
}
