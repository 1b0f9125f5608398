package origin

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ubiquon/internal/core/event"
	"ubiquon/internal/core/mapping"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/core/strictyaml"
)

// File is the form of origins.yaml.
type File struct {
	Origins map[string]Config `yaml:"origins" json:"origins"`
}

// Config describes one origin.
type Config struct {
	Pull Pull `yaml:"pull" json:"pull,omitzero"`
	// Prove says how announcements are proven, and Decode what form they have.
	Prove  proof.Proof  `yaml:"prove"  json:"prove,omitzero"`
	Decode event.Format `yaml:"decode" json:"decode,omitzero"`
	// Every is how often everything is compared, and a repository or a feed asked; 0 is the
	// node's default.
	Every strictyaml.Duration `yaml:"every" json:"every,omitzero"`
	// Standby has the origin read by nobody but who tries or rehearses with it: it is to take
	// the place of another one.
	Standby bool `yaml:"standby" json:"standby,omitzero"`
	// EditAt is where people edit an entry; {kind} and {key} are filled in.
	EditAt string             `yaml:"editAt" json:"editAt,omitzero"`
	Types  map[string]Mapping `yaml:"types"  json:"types,omitzero"`
}

// Mapping brings one kind of item over into one of our types. All paths are JSONPath (RFC 9535).
type Mapping struct {
	// Kind is what the origin calls the type, in addresses and announcements; without one it
	// is the type's name.
	Kind string `yaml:"kind" json:"kind,omitzero"`
	// From finds the items in a list's answer; of files, it is a pattern of their paths, as in
	// notices/**/*.md.
	From string `yaml:"from" json:"from,omitzero"`
	// List and Item say how a list and an item are asked for over HTTP, where it is not GET
	// {http}/{kind} and GET {http}/{kind}/{key}.
	List Request `yaml:"list" json:"list,omitzero"`
	Item Request `yaml:"item" json:"item,omitzero"`
	// ID finds what the origin calls the item. Files are called by their path, and entries of a
	// feed by their id, where it is left out.
	ID string `yaml:"id" json:"id,omitzero"`
	// Version finds a text that is later in byte order for a later state, such as
	// an RFC 3339 time in UTC.
	Version string `yaml:"version" json:"version,omitzero"`
	// State says whether the item as it stands is published or only saved. Without it, and
	// without Live, everything is published.
	State State `yaml:"state" json:"state,omitzero"`
	// Live finds the published state inside an item that is shown with a newer
	// draft; it has the same form as the item.
	Live string `yaml:"live" json:"live,omitzero"`
	// PublishedAt finds when the origin published it (RFC 3339).
	PublishedAt string `yaml:"publishedAt" json:"publishedAt,omitzero"`
	// Path finds where the origin says that it lives, as an address or a path: by it an
	// entry of another origin can be recognised.
	Path string `yaml:"path" json:"path,omitzero"`
	// Translations finds an object with, by locale, fields in the item's form. Files in other
	// locales are at $.translations.
	Translations string                   `yaml:"translations" json:"translations,omitzero"`
	Fields       map[string]mapping.Field `yaml:"fields"       json:"fields,omitzero"`
}

// State finds what state an item is in, and says which of its values means published or saved.
// Default is for items that do not say; without it they are an error.
type State struct {
	Path    string            `yaml:"path"    json:"path,omitzero"`
	Values  map[string]string `yaml:"values"  json:"values,omitzero"`
	Default string            `yaml:"default" json:"default,omitzero"`
}

// Check returns everything that is wrong with an origin, held against the model, a line each.
func (c *Config) Check(m *model.Model) (wrong []string) {
	add := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	wrong = append(wrong, c.Pull.check()...)
	// Others than over HTTP find out by themselves what has changed, and need no announcements.
	if c.Pull.Kind() == "http" && !c.Standby || c.Prove.Describe() != "" {
		wrong = append(wrong, c.proof().Check()...)
	}
	var kinds []string
	for typ := range c.Types {
		kinds = append(kinds, c.Kind(typ))
	}
	slices.Sort(kinds)
	wrong = append(wrong, c.Decode.Check(kinds)...)
	for i := 1; i < len(kinds); i++ {
		if kinds[i] == kinds[i-1] && !c.Pull.files() {
			add("types: two types are of the kind %q", kinds[i])
		}
	}
	if d := time.Duration(c.Every); d != 0 && d < time.Second {
		add("every: %v is too often; a second is the least", d)
	}
	for _, typ := range slices.Sorted(maps.Keys(c.Types)) {
		c.checkType(m, typ, add)
	}
	return wrong
}

func (c *Config) checkType(m *model.Model, typ string, add func(format string, args ...any)) {
	mapped := c.Types[typ]
	t := m.Type(typ)
	if t == nil {
		add("types names the unknown type %q%s", typ, strictyaml.DidYouMean(typ, m.TypeNames()))
		return
	}
	for _, field := range slices.Sorted(maps.Keys(mapped.Fields)) {
		mapped.Fields[field].Check(t, field, typ, add)
	}
	for _, to := range append(slices.Sorted(maps.Values(mapped.State.Values)), mapped.State.Default) {
		if to != event.Published && to != event.Saved && to != "" {
			add("type %s: a state may mean published or saved, not %q", typ, to)
		}
	}
	if c.Pull.files() && mapped.From != "" && !doublestar.ValidatePattern(mapped.From) {
		add("type %s: from: %q is no pattern of paths, as in notices/**/*.md", typ, mapped.From)
	}
	if _, err := c.compile(typ); err != nil {
		add("type %s: %v", typ, err)
	}
}

// Kind is what the origin calls a type.
func (c *Config) Kind(typ string) string {
	if k := c.Types[typ].Kind; k != "" {
		return k
	}
	return typ
}

// proof is what proves announcements. What a hub sends for a feed is proven by the subscription.
func (c *Config) proof() *proof.Proof {
	if c.Pull.Feed != "" && c.Prove.Describe() == "" {
		return &proof.Proof{None: true}
	}
	return &c.Prove
}

// Clone returns a copy whose secrets can be changed.
func (c Config) Clone() Config {
	c.Prove = c.Prove.Clone()
	if c.Pull.Git != nil {
		own := *c.Pull.Git
		c.Pull.Git = &own
	}
	if c.Pull.Auth.OAuth2 != nil {
		own := *c.Pull.Auth.OAuth2
		c.Pull.Auth.OAuth2 = &own
	}
	if c.Pull.Auth.Header != nil {
		own := *c.Pull.Auth.Header
		c.Pull.Auth.Header = &own
	}
	return c
}

// Secrets calls f with every secret, and what it is called; f may change it. The configuration must
// be a Clone.
func (c *Config) Secrets(f func(place string, text *string)) {
	given := func(place string, text *string) {
		if *text != "" {
			f(place, text)
		}
	}
	given("auth", &c.Pull.Auth.Basic)
	given("bearer", &c.Pull.Auth.Bearer)
	if h := c.Pull.Auth.Header; h != nil {
		given("header", &h.Value)
	}
	if o := c.Pull.Auth.OAuth2; o != nil {
		given("client-secret", &o.Secret)
	}
	if g := c.Pull.Git; g != nil {
		given("git", &g.Token)
		given("git-key", &g.Key)
	}
	c.Prove.Secrets(f)
}

// expand fills in {kind} and {key}, escaped for a path.
func expand(template, kind, key string, escape func(string) string) string {
	return strings.NewReplacer("{kind}", escape(kind), "{key}", escape(key)).Replace(template)
}
