// Package pages is about the pages of sites: how a read says which page it is for, how a builder
// says which reads its pages are made of, and which pages a build is to render.
package pages

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/dunglas/httpsfv"
)

// Header is the request header with which a site says which page it reads for.
const Header = "Ubiquon-Page"

// Structure is the path of what a build reads for no page: which pages there are, above all.
const Structure = ""

const (
	// maxPath and maxRun bound the path of a page and the name of a build or render, in bytes.
	maxPath = 1024
	maxRun  = 64
)

// Mark says for which page a read is made, and in which build or render of it.
type Mark struct {
	// Page is the path at which the site serves the page; Structure for none.
	Page string
	// Run is the build's number or id, or a name that the site makes up for a render.
	Run string
	// Render tells a page that is rendered on demand from one that is built.
	Render bool
}

// ParseMark reads the values of the header: a structured field (RFC 9651), a string with the
// parameter build or render, as in
//
//	"/dispatches/fog-week"; build="42"
func ParseMark(values []string) (Mark, error) {
	if len(values) == 1 {
		if m, plain := plainMark(values[0]); plain {
			return m, m.Check()
		}
	}
	item, err := httpsfv.UnmarshalItem(values)
	if err != nil {
		return Mark{}, errors.New(`it is no structured field; write "/path"; build="42" or "/path"; render="name"`)
	}
	var m Mark
	text, ok := item.Value.(string)
	if !ok {
		return Mark{}, errors.New(`the page is no string; write its path in double quotes, or "" for none`)
	}
	m.Page = text
	build, isBuild := parameter(item.Params, "build")
	render, isRender := parameter(item.Params, "render")
	switch {
	case isBuild == isRender:
		return Mark{}, errors.New("it takes either the parameter build, with the build's number or id, or render")
	case isBuild:
		m.Run = build
	default:
		m.Run, m.Render = render, true
	}
	return m, m.Check()
}

// plainMark reads a mark as nearly all are written, character by character as above, and nothing else: it
// costs a tenth of reading a structured field.
func plainMark(v string) (m Mark, plain bool) {
	page, rest, found := strings.Cut(strings.TrimPrefix(v, `"`), `"; `)
	name, run, named := strings.Cut(rest, `="`)
	if !found || !named || v[0] != '"' || name != "build" && name != "render" || !strings.HasSuffix(run, `"`) {
		return m, false
	}
	run = run[:len(run)-1]
	for _, text := range []string{page, run} {
		for i := range len(text) {
			if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
				return m, false
			}
		}
	}
	return Mark{Page: page, Run: run, Render: name == "render"}, true
}

// parameter returns a parameter as text: a string, or a number.
func parameter(params *httpsfv.Params, name string) (text string, there bool) {
	v, there := params.Get(name)
	if !there {
		return "", false
	}
	return fmt.Sprint(v), true
}

// Check returns what is wrong with the mark.
func (m Mark) Check() error {
	switch {
	case m.Run == "" || len(m.Run) > maxRun:
		return fmt.Errorf("the build or render has a name of 1 to %d bytes", maxRun)
	case m.Page == Structure && m.Render:
		return errors.New("a render is of a page: name its path")
	case m.Page == Structure:
		return nil
	}
	return CheckPath(m.Page)
}

// CheckPath returns what is wrong with the path of a page.
func CheckPath(path string) error {
	switch {
	case !strings.HasPrefix(path, "/"):
		return fmt.Errorf("the page %q does not begin with a slash", path)
	case len(path) > maxPath:
		return fmt.Errorf("the page's path has %d bytes, at most %d are taken", len(path), maxPath)
	case strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fmt.Errorf("the page %q has control characters in it", path)
	}
	return nil
}

// Line is a line of a manifest: what one page was made of.
type Line struct {
	// Page is the path of the page; Structure for what makes the whole site stale.
	Page string `json:"page"`
	// Reads are addresses below the edition, as in /dispatches?limit=5.
	Reads []string `json:"reads"`
	// Entries are ids of entries that the page shows.
	Entries []string `json:"entries"`
}

const (
	// MaxLine bounds a line of a manifest, in bytes, and MaxReads what one names.
	MaxLine  = 1 << 20
	MaxReads = 5000
)

// ParseLine reads a line of a manifest.
func ParseLine(src []byte) (Line, error) {
	var l Line
	if err := json.Unmarshal(src, &l); err != nil {
		return l, fmt.Errorf("it is no JSON object with page, reads and entries: %w", err)
	}
	if l.Page != Structure {
		if err := CheckPath(l.Page); err != nil {
			return l, err
		}
	}
	if n := len(l.Reads) + len(l.Entries); n > MaxReads {
		return l, fmt.Errorf("the page %q names %d reads and entries, at most %d are taken", l.Page, n, MaxReads)
	}
	for _, r := range l.Reads {
		if !strings.HasPrefix(r, "/") {
			return l, fmt.Errorf("the read %q does not begin with a slash; write it as in /dispatches?limit=5", r)
		}
	}
	return l, nil
}
