package command

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"ubiquon/internal/demo"

	"github.com/goccy/go-yaml"
	"golang.org/x/term"
)

// Table writes lines of columns that fit a terminal.
type Table struct {
	W *tabwriter.Writer
	// width of the terminal; 0 where there is none: then nothing is cut.
	width int
	color bool
}

// tableWidth is what tables are made for.
const tableWidth = 100

// NewTable writes to out. The width is that of the terminal, or of COLUMNS. Colours are for
// terminals, unless NO_COLOR is set (no-color.org).
func NewTable(out io.Writer) *Table {
	t := &Table{W: tabwriter.NewWriter(out, 2, 4, 2, ' ', 0)}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		t.width = n
	}
	if fd, is := terminal(out); is {
		if w, _, err := term.GetSize(fd); err == nil && t.width == 0 {
			t.width = w
		}
		t.color = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	return t
}

// terminal tells whether out is one, and by which descriptor.
func terminal(out io.Writer) (fd int, is bool) {
	f, is := out.(*os.File)
	if !is {
		return 0, false
	}
	return int(f.Fd()), term.IsTerminal(int(f.Fd()))
}

// Short cuts a text to the n characters that it has in a terminal of 100 columns, and more
// where that is wider. What goes elsewhere is not cut.
func (t *Table) Short(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if t.width == 0 {
		return s
	}
	n += max(0, t.width-tableWidth)
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return strings.TrimRight(string([]rune(s)[:n-1]), " ,.;") + "…"
}

// Cut is Short for a column beside one that takes what a wider terminal has.
func (t *Table) Cut(s string, n int) string { return t.Short(s, n-max(0, t.width-tableWidth)) }

// marks are the signs at the beginning of lines that are coloured, by the escape sequence.
var marks = map[string]string{"✗": "31", "!": "33", "→": "36", "✓": "32"}

// coloured gives the sign at the beginning of a line a colour.
func (t *Table) coloured(line string) string {
	sign, rest, found := strings.Cut(line, " ")
	if code := marks[sign]; t.color && found && code != "" {
		return "\x1b[" + code + "m" + sign + "\x1b[0m " + rest
	}
	return line
}

// Row adds a line of cells.
func (t *Table) Row(cells ...any) {
	texts := make([]string, len(cells))
	for i, c := range cells {
		texts[i] = fmt.Sprint(c)
	}
	t.Line(strings.Join(texts, "\t"))
}

// Line adds a line that is not divided into cells.
func (t *Table) Line(s string) { fmt.Fprintln(t.W, t.coloured(s)) }

// Print writes v as --output says; table draws it for people.
func (a *App) Print(v any, draw func(*Table)) error {
	switch a.Output {
	case "json":
		enc := json.NewEncoder(a.Out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	case "yaml":
		src, err := json.Marshal(v)
		if err != nil {
			return err
		}
		src, err = yaml.JSONToYAML(src)
		if err != nil {
			return err
		}
		_, err = a.Out.Write(src)
		return err
	}
	t := NewTable(a.Out)
	draw(t)
	return t.W.Flush()
}

// When writes a time in the reader's own zone, near ones without the day.
func When(t *time.Time) string {
	if t == nil {
		return "–"
	}
	local := t.Local()
	if time.Since(local) < 20*time.Hour {
		return local.Format("15:04:05")
	}
	return local.Format("2006-01-02 15:04")
}

// Between adds an empty line, unless it would be the first.
func Between(from, to *time.Time) string {
	if from == nil || to == nil {
		return "–"
	}
	return Span(to.Sub(*from))
}

// OrDash returns the text, or a dash for an empty one.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// Span writes a duration as people read it.
func Span(d time.Duration) string { return demo.Span(d) }

// SortedNames returns the keys of a map, sorted.
func SortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
