package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
)

// table writes lines of columns that fit a terminal of 100 columns.
type table struct {
	w *tabwriter.Writer
}

func (t *table) row(cells ...any) {
	texts := make([]string, len(cells))
	for i, c := range cells {
		texts[i] = fmt.Sprint(c)
	}
	t.line(strings.Join(texts, "\t"))
}

func (t *table) line(s string) { fmt.Fprintln(t.w, s) }

// print writes v as --output says; table draws it for people.
func (a *app) print(v any, draw func(*table)) error {
	switch a.output {
	case "json":
		enc := json.NewEncoder(a.out)
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
		_, err = a.out.Write(src)
		return err
	}
	t := &table{tabwriter.NewWriter(a.out, 2, 4, 2, ' ', 0)}
	draw(t)
	return t.w.Flush()
}

// short cuts a text to n characters.
func short(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return strings.TrimRight(string([]rune(s)[:n-1]), " ,.;") + "…"
}

// when writes a time in the reader's own zone, near ones without the day.
func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	local := t.Local()
	if time.Since(local) < 20*time.Hour {
		return local.Format("15:04:05")
	}
	return local.Format("2006-01-02 15:04")
}

func between(from, to *time.Time) string {
	if from == nil || to == nil {
		return "–"
	}
	return span(to.Sub(*from))
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
