package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"strings"
)

// comments has the doc comments of types, and of their fields under Type.Field, by package path
// and name.
type comments map[string]string

// described are the packages whose types are on the wire.
var described = []string{
	"internal/api", "internal/health", "internal/core/access", "internal/core/content", "internal/core/event",
	"internal/core/invalidation", "internal/core/model", "internal/core/query", "internal/core/rebuild",
	"internal/core/strictyaml", "internal/core/why",
}

// readComments reads the doc comments of the described packages below root.
func readComments(root string) (comments, error) {
	out := comments{}
	for _, dir := range described {
		files, err := filepath.Glob(filepath.Join(root, dir, "*.go"))
		if err != nil {
			return nil, err
		}
		for _, name := range files {
			src, err := os.ReadFile(name)
			if err != nil {
				return nil, err
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, src, parser.ParseComments)
			if err != nil {
				return nil, err
			}
			out.add("ubiquon/"+dir, file)
		}
	}
	return out, nil
}

func (c comments) add(pkg string, file *ast.File) {
	for _, d := range file.Decls {
		decl, ok := d.(*ast.GenDecl)
		if !ok || decl.Tok != token.TYPE {
			continue
		}
		for _, s := range decl.Specs {
			spec := s.(*ast.TypeSpec)
			name := pkg + "." + spec.Name.Name
			doc := spec.Doc
			if doc == nil {
				doc = decl.Doc
			}
			c[name] = plain(doc)
			if of, ok := spec.Type.(*ast.StructType); ok {
				for _, f := range of.Fields.List {
					text := plain(f.Doc)
					if text == "" {
						text = plain(f.Comment)
					}
					for _, id := range f.Names {
						c[name+"."+id.Name] = text
					}
				}
			}
		}
	}
}

// plain is a comment as one paragraph.
func plain(doc *ast.CommentGroup) string {
	if doc == nil {
		return ""
	}
	return strings.Join(strings.Fields(doc.Text()), " ")
}

// of returns the comment of a type.
func (c comments) of(t reflect.Type) string {
	name, _, _ := strings.Cut(t.Name(), "[")
	return c[t.PkgPath()+"."+name]
}

// field returns the comment of a field of a type, or of a type that is embedded in it.
func (c comments) field(t reflect.Type, name string) string {
	f, ok := t.FieldByName(name)
	if !ok {
		return ""
	}
	for _, i := range f.Index[:len(f.Index)-1] {
		if t = t.Field(i).Type; t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
	}
	of, _, _ := strings.Cut(t.Name(), "[")
	return c[t.PkgPath()+"."+of+"."+name]
}
