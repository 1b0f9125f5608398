package origin

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/core/event"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// File is the form of origins.yaml.
type File struct {
	Origins map[string]Config `yaml:"origins" json:"origins"`
}

// Config describes one origin.
type Config struct {
	Pull  Pull  `yaml:"pull" json:"pull,omitzero"`
	Prove Proof `yaml:"prove" json:"prove,omitzero"`
	// EditAt is where people edit an entry; {kind} and {key} are filled in.
	EditAt string             `yaml:"editAt" json:"editAt,omitzero"`
	Types  map[string]Mapping `yaml:"types" json:"types,omitzero"`
}

// Pull says how content is fetched: GET {http}/{kind} for a list, GET
// {http}/{kind}/{key} for one item.
type Pull struct {
	HTTP string `yaml:"http" json:"http,omitzero"`
	Auth struct {
		Basic string `yaml:"basic" json:"basic,omitzero"` // user:password
	} `yaml:"auth" json:"auth,omitzero"`
	// Page says how a list goes on: link, for a Link header with rel="next"
	// (RFC 8288). Empty: lists come whole.
	Page string `yaml:"page" json:"page,omitzero"`
}

// Proof says how announcements are proven.
type Proof struct {
	// StandardWebhooks holds the secrets, any of which will do.
	StandardWebhooks []string `yaml:"standardWebhooks" json:"standardWebhooks,omitzero"`
}

// Mapping brings one kind of item over into one of our types. All paths are
// JSONPath (RFC 9535).
type Mapping struct {
	// Kind is what the origin calls the type, in addresses and announcements.
	Kind string `yaml:"kind" json:"kind,omitzero"`
	// From finds the items in a list's answer.
	From string `yaml:"from" json:"from,omitzero"`
	// ID finds what the origin calls the item.
	ID string `yaml:"id" json:"id,omitzero"`
	// Version finds a text that is later in byte order for a later state, such as
	// an RFC 3339 time in UTC.
	Version string `yaml:"version" json:"version,omitzero"`
	// State says whether the item as it stands is published or only saved.
	State struct {
		Path   string            `yaml:"path" json:"path,omitzero"`
		Values map[string]string `yaml:"values" json:"values,omitzero"` // to published or saved
	} `yaml:"state" json:"state,omitzero"`
	// Live finds the published state inside an item that is shown with a newer
	// draft; it has the same form as the item.
	Live string `yaml:"live" json:"live,omitzero"`
	// PublishedAt finds when the origin published it (RFC 3339).
	PublishedAt string `yaml:"publishedAt" json:"publishedAt,omitzero"`
	// Path finds where the origin says that it lives, as an address or a path: by it an
	// entry of another origin can be recognised.
	Path string `yaml:"path" json:"path,omitzero"`
	// Translations finds an object with, by locale, fields in the item's form.
	Translations string               `yaml:"translations" json:"translations,omitzero"`
	Fields       map[string]FieldFrom `yaml:"fields" json:"fields,omitzero"`
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
	// Direct leaves the address of a file as it is; else the file is mirrored.
	Direct bool
	Kind   string
	Kinds  map[string]map[string]FieldFrom
}

type fieldFromForm struct {
	Markdown string                          `yaml:"markdown" json:"markdown,omitzero"`
	HTML     string                          `yaml:"html" json:"html,omitzero"`
	Ref      string                          `yaml:"ref" json:"ref,omitzero"`
	Type     string                          `yaml:"type" json:"type,omitzero"`
	Origin   string                          `yaml:"origin" json:"origin,omitzero"`
	File     string                          `yaml:"file" json:"file,omitzero"`
	Alt      string                          `yaml:"alt" json:"alt,omitzero"`
	Mirror   *bool                           `yaml:"mirror" json:"mirror,omitzero"`
	Each     string                          `yaml:"each" json:"each,omitzero"`
	Kind     string                          `yaml:"kind" json:"kind,omitzero"`
	Kinds    map[string]map[string]FieldFrom `yaml:"kinds" json:"kinds,omitzero"`
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
	f.Direct = form.Mirror != nil && !*form.Mirror
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

// MarshalJSON implements json.Marshaler.
func (f FieldFrom) MarshalJSON() ([]byte, error) {
	form := fieldFromForm{Type: f.Type, Origin: f.Origin, Alt: f.Alt, Kind: f.Kind, Kinds: f.Kinds}
	if f.Direct {
		form.Mirror = new(false)
	}
	switch f.Form {
	case "":
		return json.Marshal(f.Path)
	case "markdown":
		form.Markdown = f.Path
	case "html":
		form.HTML = f.Path
	case "ref":
		form.Ref = f.Path
	case "file":
		form.File = f.Path
	case "each":
		form.Each = f.Path
	}
	return json.Marshal(form)
}

// Check returns everything that is wrong with an origin, held against the model, a line each.
func (c *Config) Check(m *model.Model) (wrong []string) {
	add := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	if u, err := url.Parse(c.Pull.HTTP); err != nil || u.Host == "" {
		add("pull.http: %q is no http address", c.Pull.HTTP)
	}
	if c.Pull.Page != "" && c.Pull.Page != "link" {
		add("pull.page is %q; it may be link, or be left out", c.Pull.Page)
	}
	if len(c.Prove.StandardWebhooks) == 0 {
		add("prove is missing; nobody could announce anything")
	}
	for _, typ := range slices.Sorted(maps.Keys(c.Types)) {
		mapping := c.Types[typ]
		t := m.Type(typ)
		if t == nil {
			add("types names the unknown type %q%s", typ, strictyaml.DidYouMean(typ, m.TypeNames()))
			continue
		}
		for _, field := range slices.Sorted(maps.Keys(mapping.Fields)) {
			mapping.Fields[field].check(t, field, typ, add)
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
	return wrong
}
