package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"ubiquon/internal/core/strictyaml"
)

// Marks are the extra marks that prose may declare, beyond CommonMark's own.
var Marks = []string{"superscript", "subscript"}

// fileForm and those below are the form of a model file.
type fileForm struct {
	Locales strictyaml.Ordered[localeForm] `yaml:"locales"`
	Types   strictyaml.Ordered[typeForm]   `yaml:"types"`
	Shapes  strictyaml.Ordered[shapeForm]  `yaml:"shapes"`
}

type localeForm struct {
	Name     string   `yaml:"name"`
	Fallback []string `yaml:"fallback"`
	Retired  bool     `yaml:"retired"`
}

type typeForm struct {
	Was         string                        `yaml:"was"`
	Plural      string                        `yaml:"plural"`
	Label       string                        `yaml:"label"`
	Help        string                        `yaml:"help"`
	Deprecated  string                        `yaml:"deprecated"`
	Since       string                        `yaml:"deprecatedSince"`
	Sunset      string                        `yaml:"sunset"`
	Path        perLocale                     `yaml:"path"`
	Home        string                        `yaml:"home"`
	Title       string                        `yaml:"title"`
	Singleton   bool                          `yaml:"singleton"`
	Approval    bool                          `yaml:"approval"`
	Submissions *Submissions                  `yaml:"submissions"`
	Fields      strictyaml.Ordered[fieldForm] `yaml:"fields"`
	Freshness   Freshness                     `yaml:"freshness"`
}

type fieldForm struct {
	Kind       string                        `yaml:"kind"`
	Was        string                        `yaml:"was"`
	Label      string                        `yaml:"label"`
	Help       string                        `yaml:"help"`
	Deprecated string                        `yaml:"deprecated"`
	Since      string                        `yaml:"deprecatedSince"`
	Sunset     string                        `yaml:"sunset"`
	Required   bool                          `yaml:"required"`
	Unique     bool                          `yaml:"unique"`
	Indexed    bool                          `yaml:"indexed"`
	Translated bool                          `yaml:"translated"`
	Several    bool                          `yaml:"several"`
	Min        *float64                      `yaml:"min"`
	Max        *float64                      `yaml:"max"`
	Pattern    string                        `yaml:"pattern"`
	Default    any                           `yaml:"default"`
	Options    strictyaml.Ordered[perLocale] `yaml:"options"`
	Types      []string                      `yaml:"types"`
	Inverse    string                        `yaml:"inverse"`
	MadeFrom   string                        `yaml:"madeFrom"`
	Marks      []string                      `yaml:"marks"`
	Schema     any                           `yaml:"schema"`
	MaxBytes   int64                         `yaml:"maxBytes"`
	MinWidth   int                           `yaml:"minWidth"`
	Renditions strictyaml.Ordered[Rendition] `yaml:"renditions"`
	Fields     strictyaml.Ordered[fieldForm] `yaml:"fields"`
	Blocks     strictyaml.Ordered[blockForm] `yaml:"blocks"`
}

type blockForm struct {
	Label  string                        `yaml:"label"`
	Help   string                        `yaml:"help"`
	Fields strictyaml.Ordered[fieldForm] `yaml:"fields"`
}

// perLocale is a text that is the same everywhere, or one for each locale.
type perLocale struct {
	all    string
	byName map[string]string
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (p *perLocale) UnmarshalYAML(node ast.Node) error {
	if node.Type() == ast.MappingType || node.Type() == ast.MappingValueType {
		return yaml.NodeToValue(node, &p.byName)
	}
	return yaml.NodeToValue(node, &p.all)
}

// asJSON gives a value out of YAML the types that encoding/json uses.
func asJSON(v any) any {
	src, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	var out any
	_ = json.Unmarshal(src, &out) // it was JSON just before
	return out
}

func compileSchema(src json.RawMessage) (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(src))
	if err != nil {
		return nil, fmt.Errorf("the schema is no JSON: %w", err)
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(jsonschema.SchemeURLLoader{}) // nothing is fetched from anywhere
	if err := c.AddResource("field", doc); err != nil {
		return nil, fmt.Errorf("the schema cannot be read: %w", err)
	}
	s, err := c.Compile("field")
	if err != nil {
		return nil, fmt.Errorf("the schema is no JSON Schema: %s", strings.ReplaceAll(err.Error(), "\n", " "))
	}
	return s, nil
}

// schemaError makes one line of what the validator says.
func schemaError(err error) error {
	var invalid *jsonschema.ValidationError
	if !errors.As(err, &invalid) {
		return err
	}
	for len(invalid.Causes) > 0 {
		invalid = invalid.Causes[0]
	}
	says := invalid.ErrorKind.LocalizedString(message.NewPrinter(language.English))
	if len(invalid.InstanceLocation) == 0 {
		return errors.New(says)
	}
	return fmt.Errorf("at %s: %s", strings.Join(invalid.InstanceLocation, "."), says)
}
