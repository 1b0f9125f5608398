package settings

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
)

// fileForm is what a file of settings may hold.
type fileForm struct {
	Sites      map[string]rebuild.Site    `yaml:"sites"`
	Origins    map[string]origin.Config   `yaml:"origins"`
	Downstream map[string]outbound.Target `yaml:"downstream"`
	Targets    map[string]Target          `yaml:"targets"`
	Mail       *Mail                      `yaml:"mail"`
	CORS       *CORS                      `yaml:"cors"`
	Rules      []rule.Rule                `yaml:"rules"`
}

// fileKeys are the keys at the top of a file of settings.
var fileKeys = []string{"sites", "origins", "downstream", "targets", "mail", "cors", "rules"}

// Folder is what the files of a folder say: a model, settings, or both.
type Folder struct {
	// Model is nil where no file describes one.
	Model *model.Model
	Set   *Set
	// has are the kinds of setting that some file has, even if there is none in it.
	has map[string]bool
}

// ReadFolder reads the files of a folder, by name. What a file is for is told by its keys at the
// top: those of settings, or else those of a model. Its error has everything that is wrong, with
// file, line and column where that is known.
func ReadFolder(files map[string][]byte) (*Folder, error) {
	f := &Folder{Set: NewSet(), has: map[string]bool{}}
	models := map[string][]byte{}
	var wrong []error
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !isSettings(files[name]) {
			models[name] = files[name]
			continue
		}
		var form fileForm
		if err := strictyaml.Decode(name, files[name], &form); err != nil {
			wrong = append(wrong, err)
			continue
		}
		wrong = append(wrong, f.add(name, &form)...)
	}
	if len(models) > 0 {
		var err error
		if f.Model, err = model.Read(models); err != nil {
			wrong = append(wrong, err)
		}
	}
	return f, errors.Join(wrong...)
}

// isSettings tells whether a file has settings, by its keys at the top.
func isSettings(src []byte) bool {
	file, err := parser.ParseBytes(src, 0)
	if err != nil {
		return false // whoever reads it says what is wrong
	}
	for _, doc := range file.Docs {
		if m, ok := doc.Body.(*ast.MappingNode); ok {
			for _, pair := range m.Values {
				if slices.Contains(fileKeys, pair.Key.GetToken().Value) {
					return true
				}
			}
		}
		if pair, ok := doc.Body.(*ast.MappingValueNode); ok && slices.Contains(fileKeys, pair.Key.GetToken().Value) {
			return true
		}
	}
	return false
}

func (f *Folder) add(file string, form *fileForm) (wrong []error) {
	taken := func(kind, name string) {
		f.has[kind] = true
		if f.Set.get(kind, name) != nil {
			wrong = append(wrong, fmt.Errorf("%s: the %s is in two files, or twice in one", file, key{kind, name}))
		}
		if text := checkName(kind, name); text != "" {
			wrong = append(wrong, fmt.Errorf("%s: %s", file, text))
		}
	}
	addAll(f, KindSite, form.Sites, f.Set.Sites, taken)
	addAll(f, KindOrigin, form.Origins, f.Set.Origins, taken)
	addAll(f, KindDownstream, form.Downstream, f.Set.Downstream, taken)
	addAll(f, KindTarget, form.Targets, f.Set.Targets, taken)
	if form.Mail != nil {
		taken(KindMail, KindMail)
		f.Set.Mail = form.Mail
	}
	if form.CORS != nil {
		taken(KindCORS, KindCORS)
		f.Set.CORS = *form.CORS
	}
	f.has[KindRule] = f.has[KindRule] || form.Rules != nil
	for i, r := range form.Rules {
		if r.Name == "" {
			wrong = append(wrong, fmt.Errorf("%s: rule %d has no name", file, i+1))
			continue
		}
		taken(KindRule, r.Name)
		f.Set.putRule(r)
	}
	return wrong
}

func addAll[T any](f *Folder, kind string, from, to map[string]T, taken func(kind, name string)) {
	f.has[kind] = f.has[kind] || from != nil
	for _, name := range slices.Sorted(maps.Keys(from)) {
		taken(kind, name)
		to[name] = from[name]
	}
}

// Files writes a model and settings as the files of a folder, by name.
func Files(m *model.Model, s *Set) (map[string][]byte, error) {
	out := map[string][]byte{}
	if m != nil {
		out["model/model.yaml"] = m.YAML()
	}
	parts := map[string]*bytes.Buffer{}
	for _, k := range s.keys() {
		spec, err := s.spec(k.kind, k.name)
		if err != nil {
			return nil, err
		}
		text, err := toYAML(spec)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", k, err)
		}
		file, top := placeOf(k.kind)
		b := parts[file]
		if b == nil {
			b = &bytes.Buffer{}
			parts[file] = b
		}
		if head := top + ":\n"; !strings.HasPrefix(b.String(), head) && !strings.Contains(b.String(), "\n"+head) {
			b.WriteString(head)
		}
		switch {
		case k.kind == KindRule:
			b.WriteString("  - name: " + quoted(k.name) + "\n" + indented(text, 4))
		case Single(k.kind):
			b.WriteString(indented(text, 2))
		default:
			b.WriteString("  " + k.name + ":\n" + indented(text, 4))
		}
	}
	for name, b := range parts {
		out[name] = b.Bytes()
	}
	return out, nil
}

// placeOf returns the file in which a kind is written, and its key at the top.
func placeOf(kind string) (file, top string) {
	switch kind {
	case KindMail, KindCORS:
		return "settings.yaml", kind
	case KindTarget:
		return "settings.yaml", "targets"
	case KindDownstream:
		return "settings.yaml", kind
	}
	return kind + "s.yaml", kind + "s"
}

// toYAML writes JSON as YAML, in the same order.
func toYAML(spec json.RawMessage) (string, error) {
	if spec == nil {
		return "", nil
	}
	out, err := yaml.JSONToYAML(spec)
	return string(out), err
}

func quoted(text string) string {
	out, err := yaml.Marshal(text)
	if err != nil {
		return fmt.Sprintf("%q", text)
	}
	return strings.TrimSpace(string(out))
}

func indented(text string, by int) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		if strings.TrimSpace(line) != "" {
			b.WriteString(strings.Repeat(" ", by))
		}
		b.WriteString(line)
	}
	return b.String()
}
