package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/strictyaml"
)

// YAML writes the model as a file that Read takes.
func (m *Model) YAML() []byte {
	var b bytes.Buffer
	b.WriteString("locales:\n")
	for _, l := range m.Locales {
		var in flow
		in.text("name", l.Name)
		in.list("fallback", l.Fallback)
		in.flag("retired", l.Retired)
		fmt.Fprintf(&b, "  %s: %s\n", scalar(l.Tag), in.line())
	}
	b.WriteString("types:\n")
	for _, t := range m.OwnTypes() {
		t.yaml(&b)
	}
	if len(m.Shapes) > 0 {
		b.WriteString("shapes:\n")
	}
	for i := range m.Shapes {
		m.Shapes[i].yaml(&b)
	}
	return b.Bytes()
}

func (t *Type) yaml(b *bytes.Buffer) {
	fmt.Fprintf(b, "  %s:\n", t.Name)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(b, "    %s: %s\n", name, scalar(value))
		}
	}
	line("was", t.Was)
	if !t.Singleton || t.Plural != t.Name {
		line("plural", t.Plural)
	}
	line("label", t.Label)
	line("help", t.Help)
	line("deprecated", t.Deprecated)
	line("deprecatedSince", t.DeprecatedSince)
	line("sunset", t.Sunset)
	if len(t.Paths) > 0 {
		var in flow
		for _, tag := range slices.Sorted(maps.Keys(t.Paths)) {
			in.text(tag, t.Paths[tag])
		}
		fmt.Fprintf(b, "    path: %s\n", in.line())
	} else {
		line("path", t.Path)
	}
	line("home", t.Home)
	line("title", t.Title)
	if t.Singleton {
		b.WriteString("    singleton: true\n")
	}
	if t.Approval {
		b.WriteString("    approval: true\n")
	}
	if s := t.Submissions; s != nil {
		var in flow
		in.list("fields", s.Fields)
		in.raw("bytes", strconv.Itoa(s.Bytes))
		in.raw("perMinute", strconv.Itoa(s.PerMinute))
		in.text("trap", s.Trap)
		fmt.Fprintf(b, "    submissions: %s\n", in.line())
	}
	b.WriteString("    fields:\n")
	writeFields(b, t.Fields, "      ")
	var in flow
	for _, s := range []struct {
		name string
		d    strictyaml.Duration
	}{
		{"private", t.Freshness.Private},
		{"shared", t.Freshness.Shared},
		{"staleWhileRevalidate", t.Freshness.StaleWhileRevalidate},
		{"staleIfError", t.Freshness.StaleIfError},
		{"staleInBrowsers", t.Freshness.StaleInBrowsers},
	} {
		if s.d != 0 {
			in.raw(s.name, strconv.Itoa(int(time.Duration(s.d)/time.Second))+"s")
		}
	}
	if t.Freshness.ServeExpired {
		in.raw("serveExpired", "true")
	}
	if in.parts != nil {
		fmt.Fprintf(b, "    freshness: %s\n", in.line())
	}
}

func writeFields(b *bytes.Buffer, fields []*Field, indent string) {
	for _, f := range fields {
		var in flow
		in.text("kind", string(f.Kind))
		in.text("was", f.Was)
		in.text("label", f.Label)
		in.text("help", f.Help)
		in.text("deprecated", f.Deprecated)
		in.text("deprecatedSince", f.DeprecatedSince)
		in.text("sunset", f.Sunset)
		in.flag("required", f.Required)
		in.flag("unique", f.Unique)
		in.flag("indexed", f.Indexed)
		in.flag("translated", f.Translated)
		in.flag("several", f.Several)
		in.number("min", f.Min)
		in.number("max", f.Max)
		in.text("pattern", f.Pattern)
		if f.Default != nil {
			src, _ := json.Marshal(f.Default) // came out of JSON, which is YAML too
			in.raw("default", string(src))
		}
		if len(f.Options) > 0 {
			var options flow
			for _, o := range f.Options {
				if len(o.Labels) == 0 {
					options.raw(scalar(o.Value), scalar(o.Label))
					continue
				}
				var labels flow
				for _, tag := range slices.Sorted(maps.Keys(o.Labels)) {
					labels.text(tag, o.Labels[tag])
				}
				options.raw(scalar(o.Value), labels.line())
			}
			in.raw("options", options.line())
		}
		in.list("types", f.Types)
		in.text("inverse", f.Inverse)
		in.text("madeFrom", f.MadeFrom)
		in.list("marks", f.Marks)
		if f.Schema != nil {
			in.raw("schema", string(f.Schema))
		}
		if f.MaxBytes != 0 {
			in.raw("maxBytes", strconv.FormatInt(f.MaxBytes, 10))
		}
		if f.MinWidth != 0 {
			in.raw("minWidth", strconv.Itoa(f.MinWidth))
		}
		if len(f.Renditions) > 0 {
			in.raw("renditions", renditionsLine(f.Renditions))
		}
		if f.Inner == nil {
			fmt.Fprintf(b, "%s%s: %s\n", indent, f.Name, in.line())
			continue
		}
		fmt.Fprintf(b, "%s%s:\n", indent, f.Name)
		for _, p := range in.parts {
			fmt.Fprintf(b, "%s  %s\n", indent, p)
		}
		if f.Kind == Record {
			fmt.Fprintf(b, "%s  fields:\n", indent)
			writeFields(b, f.Inner[0].Fields, indent+"    ")
			continue
		}
		fmt.Fprintf(b, "%s  blocks:\n", indent)
		for _, t := range f.Inner {
			fmt.Fprintf(b, "%s    %s:\n", indent, t.Name)
			fmt.Fprintf(b, "%s      label: %s\n", indent, scalar(t.Label))
			if t.Help != "" {
				fmt.Fprintf(b, "%s      help: %s\n", indent, scalar(t.Help))
			}
			fmt.Fprintf(b, "%s      fields:\n", indent)
			writeFields(b, t.Fields, indent+"        ")
		}
	}
}

func renditionsLine(all []Rendition) string {
	var out flow
	for _, r := range all {
		var one flow
		for _, n := range []struct {
			name  string
			value int
		}{{"width", r.Width}, {"height", r.Height}, {"quality", r.Quality}} {
			if n.value != 0 {
				one.raw(n.name, strconv.Itoa(n.value))
			}
		}
		one.text("fit", r.Fit)
		one.text("format", r.Format)
		out.raw(r.Name, one.line())
	}
	return out.line()
}

// flow collects the parts of a YAML mapping that is written on one line; empty
// ones are left out.
type flow struct{ parts []string }

func (f *flow) raw(name, value string) { f.parts = append(f.parts, name+": "+value) }

func (f *flow) text(name, value string) {
	if value != "" {
		f.raw(name, scalar(value))
	}
}

func (f *flow) flag(name string, on bool) {
	if on {
		f.raw(name, "true")
	}
}

func (f *flow) number(name string, v *float64) {
	if v != nil {
		f.raw(name, strconv.FormatFloat(*v, 'f', -1, 64))
	}
}

func (f *flow) list(name string, values []string) {
	if len(values) > 0 {
		quoted := make([]string, len(values))
		for i, v := range values {
			quoted[i] = scalar(v)
		}
		f.raw(name, "["+strings.Join(quoted, ", ")+"]")
	}
}

func (f *flow) line() string { return "{" + strings.Join(f.parts, ", ") + "}" }

var plainScalar = regexp.MustCompile(`^[\p{L}/][\p{L}\p{N} /._()'-]*$`)

// scalar writes a text bare where that cannot be misread, else as JSON does.
func scalar(s string) string {
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
	default:
		if plainScalar.MatchString(s) && strings.TrimSpace(s) == s {
			return s
		}
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // text into a buffer cannot fail
	return strings.TrimSpace(b.String())
}
