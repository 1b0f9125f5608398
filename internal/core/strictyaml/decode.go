package strictyaml

import (
	"fmt"
	"reflect"
	"sort"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Mistake is one thing that is wrong in a file. Line and Column count from 1;
// they are 0 when the place is not known.
type Mistake struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`
}

// String implements fmt.Stringer.
func (m Mistake) String() string {
	if m.Line == 0 {
		return m.File + ": " + m.Text
	}
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.Text)
}

// Mistakes is what Decode returns as its error: all mistakes of a file in the
// order of the text.
type Mistakes []Mistake

// Error implements error.
func (m Mistakes) Error() string {
	lines := make([]string, len(m))
	for i := range m {
		lines[i] = m[i].String()
	}
	return strings.Join(lines, "\n")
}

// Ordered is a YAML mapping whose order matters, such as the fields of a type.
type Ordered[T any] []Item[T]

// Item is one key of an Ordered mapping with its place in the file.
type Item[T any] struct {
	Name         string
	Value        T
	Line, Column int
}

func (Ordered[T]) element() reflect.Type { return reflect.TypeFor[T]() }

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (o *Ordered[T]) UnmarshalYAML(node ast.Node) error {
	for _, pair := range pairs(node) {
		item := Item[T]{
			Name:   keyOf(pair),
			Line:   pair.Key.GetToken().Position.Line,
			Column: pair.Key.GetToken().Position.Column,
		}
		if pair.Value.Type() != ast.NullType {
			if err := yaml.NodeToValue(pair.Value, &item.Value); err != nil {
				return err
			}
		}
		*o = append(*o, item)
	}
	return nil
}

type ordered interface{ element() reflect.Type }

// MaxBytes bounds a file.
const MaxBytes = 4 << 20

// aliases finds a node that stands for another one: a few of those nested in each other
// would take all memory, and no file of ours needs any.
type aliases struct{ found ast.Node }

// Visit implements ast.Visitor.
func (a *aliases) Visit(n ast.Node) ast.Visitor {
	switch n.(type) {
	case *ast.AliasNode, *ast.AnchorNode, *ast.MergeKeyNode:
		if a.found == nil {
			a.found = n
		}
		return nil
	}
	return a
}

// Decode reads src into the value that into points to. Its error is a
// Mistakes: text that is not YAML, a key twice, a key that the Go type does
// not have, a value of the wrong kind. Keys are the fields' yaml tags.
func Decode(file string, src []byte, into any) error {
	if len(src) > MaxBytes {
		return Mistakes{
			{File: file, Text: fmt.Sprintf("the file has %d bytes, at most %d are read", len(src), MaxBytes)},
		}
	}
	if line := tooDeep(string(src)); line > 0 {
		return Mistakes{
			{File: file, Line: line, Column: 1, Text: fmt.Sprintf("values are nested more than %d deep", MaxNesting)},
		}
	}
	tree, err := parser.ParseBytes(src, 0)
	if err != nil {
		return Mistakes{fromYAML(file, err)}
	}
	for _, doc := range tree.Docs {
		if a := (&aliases{}); doc.Body != nil {
			ast.Walk(a, doc.Body)
			if a.found != nil {
				c := checker{file: file}
				c.add(a.found, "anchors, aliases and merge keys are not read here; write the value out")
				return c.found
			}
		}
	}
	var found Mistakes
	for _, doc := range tree.Docs {
		if doc.Body == nil {
			continue
		}
		c := checker{file: file}
		c.check(doc.Body, reflect.TypeOf(into).Elem(), "")
		found = append(found, c.found...)
		if len(c.found) > 0 {
			continue
		}
		if err := yaml.NodeToValue(doc.Body, into); err != nil {
			found = append(found, fromYAML(file, err))
		}
	}
	if len(found) > 0 {
		return found
	}
	return nil
}

func fromYAML(file string, err error) Mistake {
	m := Mistake{File: file, Text: err.Error()}
	if first, _, ok := strings.Cut(m.Text, "\n"); ok {
		m.Text = first
	}
	if n, _ := fmt.Sscanf(m.Text, "[%d:%d]", &m.Line, &m.Column); n == 2 {
		_, m.Text, _ = strings.Cut(m.Text, "] ")
	}
	return m
}

type checker struct {
	file  string
	found Mistakes
}

func (c *checker) add(node ast.Node, format string, args ...any) {
	at := node.GetToken().Position
	c.found = append(
		c.found, Mistake{File: c.file, Line: at.Line, Column: at.Column, Text: fmt.Sprintf(format, args...)},
	)
}

var nodeUnmarshaler = reflect.TypeFor[yaml.NodeUnmarshaler]()

func (c *checker) check(node ast.Node, t reflect.Type, path string) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if tagged, ok := node.(*ast.TagNode); ok {
		node = tagged.Value
	}
	if node.Type() == ast.NullType {
		return
	}
	if o, ok := reflect.Zero(t).Interface().(ordered); ok {
		c.mapping(node, path, func(pair *ast.MappingValueNode) {
			c.check(pair.Value, o.element(), join(path, keyOf(pair)))
		})
		return
	}
	if reflect.PointerTo(t).Implements(nodeUnmarshaler) {
		return // it judges for itself
	}
	switch t.Kind() {
	case reflect.Struct:
		known := map[string]reflect.Type{}
		fieldsOf(t, known)
		if len(known) == 0 {
			return
		}
		c.mapping(node, path, func(pair *ast.MappingValueNode) {
			name := keyOf(pair)
			ft, ok := known[name]
			if !ok {
				c.add(pair.Key, "unknown key %q%s%s", name, in(path), DidYouMean(name, keys(known)))
				return
			}
			c.check(pair.Value, ft, join(path, name))
		})
	case reflect.Map:
		c.mapping(node, path, func(pair *ast.MappingValueNode) {
			c.check(pair.Value, t.Elem(), join(path, keyOf(pair)))
		})
	case reflect.Slice:
		if list, ok := node.(*ast.SequenceNode); ok {
			for i, v := range list.Values {
				c.check(v, t.Elem(), fmt.Sprintf("%s[%d]", path, i))
			}
		} else if t.Elem().Kind() != reflect.Uint8 {
			c.add(node, "%s wants a list", or(path, "the file"))
		}
	}
}

func (c *checker) mapping(node ast.Node, path string, each func(*ast.MappingValueNode)) {
	if node.Type() != ast.MappingType && node.Type() != ast.MappingValueType {
		c.add(node, "%s wants a mapping of names to values", or(path, "the file"))
		return
	}
	seen := map[string]bool{}
	for _, pair := range pairs(node) {
		if name := keyOf(pair); seen[name] {
			c.add(pair.Key, "key %q stands here twice%s", name, in(path))
		} else {
			seen[name] = true
		}
		each(pair)
	}
}

func fieldsOf(t reflect.Type, known map[string]reflect.Type) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, rest, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case rest == "inline":
			fieldsOf(f.Type, known)
		case name != "" && name != "-":
			known[name] = f.Type
		}
	}
}

// DidYouMean returns the end of a sentence naming the word among known that is
// nearest to the given one, or, if none is near and they are few, all of them.
func DidYouMean(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	if len(known) == 0 || len(known) > 12 {
		return ""
	}
	return "; known are " + strings.Join(known, ", ")
}

// Nearest returns the word among known that is nearest to the given one by
// edit distance, or "" when none is near enough to be meant.
func Nearest(word string, known []string) string {
	best, distance := "", len(word)/3+2
	for _, k := range known {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(k)); d < distance {
			best, distance = k, d
		}
	}
	return best
}

func pairs(node ast.Node) []*ast.MappingValueNode {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}

func keyOf(pair *ast.MappingValueNode) string { return pair.Key.GetToken().Value }

func keys(m map[string]reflect.Type) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

func in(path string) string {
	if path == "" {
		return ""
	}
	return " in " + path
}

func or(a, b string) string {
	if a == "" {
		return b
	}
	return a
}
