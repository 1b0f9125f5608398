// Command limits measures the size of the code and prints the ten largest of each kind:
// exported methods of a type, lines of a package, of a file and of a function, and columns
// of a line. It exits with 1 if any is above its limit. Test files count for columns only, and
// so do bench and tools, whose programs are read from top to bottom; generated files do not
// count.
//
//	go run ./tools/limits
package main

import (
	"bufio"
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"
)

// measure is one kind of size with what was found of it.
type measure struct {
	what  string
	limit int
	found []size
}

type size struct {
	name string
	n    int
}

func (m *measure) add(name string, n int) { m.found = append(m.found, size{name, n}) }

func main() {
	var (
		methods   = measure{what: "exported methods of a type", limit: 30}
		packages  = measure{what: "lines of a package", limit: 3000}
		files     = measure{what: "lines of a file", limit: 400}
		functions = measure{what: "lines of a function", limit: 80}
		columns   = measure{what: "columns of a line", limit: 120}
	)
	out, err := exec.Command("git", "ls-files", "*.go").Output()
	if err != nil {
		fail(err)
	}
	byType, byPackage := map[string]int{}, map[string]int{}
	for _, file := range strings.Fields(string(out)) {
		src, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue // removed, and not committed yet
		}
		if err != nil {
			fail(err)
		}
		if bytes.Contains(src[:min(len(src), 200)], []byte("Code generated ")) {
			continue
		}
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, file, src, 0)
		if err != nil {
			fail(err)
		}
		wide(&columns, file, src, raw(fset, f))
		if strings.HasSuffix(file, "_test.go") || strings.HasPrefix(file, "bench/") ||
			strings.HasPrefix(file, "tools/") {
			continue
		}
		lines := bytes.Count(src, []byte("\n"))
		files.add(file, lines)
		byPackage[filepath.Dir(file)] += lines
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			at := fset.Position(fn.Pos())
			functions.add(fmt.Sprintf("%s:%d %s", file, at.Line, fn.Name.Name), fset.Position(fn.End()).Line-at.Line+1)
			if fn.Recv != nil && fn.Name.IsExported() {
				byType[filepath.Dir(file)+"."+receiver(fn.Recv.List[0].Type)]++
			}
		}
	}
	for name, n := range byType {
		methods.add(name, n)
	}
	for name, n := range byPackage {
		packages.add(name, n)
	}
	over := 0
	for _, m := range []*measure{&methods, &packages, &files, &functions, &columns} {
		over += m.print()
	}
	if over > 0 {
		fmt.Printf("\n%d above their limits\n", over)
		os.Exit(1)
	}
}

// print lists the ten largest and returns how many are above the limit.
func (m *measure) print() (over int) {
	slices.SortFunc(m.found, func(a, b size) int {
		if a.n != b.n {
			return b.n - a.n
		}
		return strings.Compare(a.name, b.name)
	})
	for _, s := range m.found {
		if s.n > m.limit {
			over++
		}
	}
	fmt.Printf("\n%s, at most %d (%d above)\n", m.what, m.limit, over)
	for _, s := range m.found[:min(10, len(m.found))] {
		mark := " "
		if s.n > m.limit {
			mark = "!"
		}
		fmt.Printf("%s %5d  %s\n", mark, s.n, s.name)
	}
	return over
}

// raw returns the lines on which a raw string stands: what it holds is another language, or
// expected output, whose lines are not ours to break.
func raw(fset *token.FileSet, f *ast.File) map[int]bool {
	lines := map[int]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && lit.Value[0] == '`' {
			for i := fset.Position(lit.Pos()).Line; i <= fset.Position(lit.End()).Line; i++ {
				lines[i] = true
			}
		}
		return true
	})
	return lines
}

// wide adds the lines of a file that have more than 100 columns. A tab counts as one. The
// lines of raw strings do not count, but for those of SQL, which are in internal/store.
func wide(m *measure, file string, src []byte, raw map[int]bool) {
	sql := strings.HasPrefix(file, "internal/store/") && !strings.HasSuffix(file, "_test.go")
	sc := bufio.NewScanner(bytes.NewReader(src))
	sc.Buffer(nil, 1<<20)
	for n := 1; sc.Scan(); n++ {
		if w := utf8.RuneCount(sc.Bytes()); w > 100 && (sql || !raw[n]) {
			m.add(fmt.Sprintf("%s:%d", file, n), w)
		}
	}
}

func receiver(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return receiver(e.X)
	case *ast.IndexExpr:
		return receiver(e.X)
	case *ast.Ident:
		return e.Name
	}
	return "?"
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "limits:", err)
	os.Exit(2)
}
