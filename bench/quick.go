package main

import (
	"context"
	"fmt"
	"net/http"

	"ubiquon/internal/client"
)

// goals are what the figures are to be: ratios of processor time against the reference, and numbers a second.
// There is none for the filtered list: among few entries the database sorts all of them for the reference, and
// the ratio flatters. There is none for HEAD: the load generator waits for a body.
var goals = []struct {
	name string
	goal float64
}{
	{"hit, REST GET", 0.95},
	{"hit, not modified", 0.95},
	{"hit, in an encoding", 0.95},
	{"hit, GraphQL POST", 0.92},
	{"miss, one by slug", 0.85},
	{"miss, page 1, by the same order", 0.85},
	{"miss, depth 3", 0.9},
	{"miss, the same in GraphQL", 0.9},
	{"import, of COPY of the same", 0.25},
	{"import, entries a second", 5000},
	{"publishes from eight writers a second", 1000},
}

// note keeps a figure for the table.
func (y *harness) note(name string, figure float64) {
	if y.figures == nil {
		y.figures = map[string]float64{}
	}
	y.figures[name] = figure
}

// quick measures what there are goals for, shortly, and prints the table; with a history each figure is added
// to it as a line: day, commit, name, figure.
func (y *harness) quick(ctx context.Context) error {
	y.rounds, y.seconds, y.entries = 3, 1, 3000
	for _, f := range []func(context.Context) error{y.hit, y.hitForms, y.posted, y.reads, y.writes} {
		if err := f(ctx); err != nil {
			return err
		}
	}
	fmt.Printf("\n  %-42s %10s %8s\n", "", "figure", "goal")
	for _, g := range goals {
		figure, known := y.figures[g.name]
		verdict := "missed"
		switch {
		case !known:
			return fmt.Errorf("%s was not measured", g.name)
		case figure >= g.goal:
			verdict = "met"
		}
		fmt.Printf("  %-42s %10.4g %8.4g  %s\n", g.name, figure, g.goal, verdict)
	}
	return y.remember()
}

// hitForms compares hits that are answered without a body, and with an encoded one.
func (y *harness) hitForms(ctx context.Context) error {
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Published}
	held, err := y.read(ctx)
	if err != nil {
		return err
	}
	for _, form := range []struct{ name, header, value string }{
		{"hit, not modified", "If-None-Match", held.Header.Get("Etag")},
		{"hit, in an encoding", "Accept-Encoding", "br"},
	} {
		a, err := c.Do(ctx, http.MethodGet, reading, http.Header{form.header: {form.value}}, nil)
		if err != nil {
			return err
		}
		address, stop, err := beside(saying(a))
		if err != nil {
			return err
		}
		y.what = form.name
		fmt.Printf("  %s: %d, %d bytes\n", form.name, a.Status, len(a.Body))
		err = y.compare(ctx, y.demo.Connection.Gateway+reading, address+reading, form.header+": "+form.value)
		y.what = ""
		stop()
		if err != nil {
			return err
		}
	}
	return nil
}

// writes measures the import and publishes from eight writers.
func (y *harness) writes(ctx context.Context) error {
	return y.withContent(ctx, (*contentHarness).againstCopy, (*contentHarness).eightAtOnce)
}
