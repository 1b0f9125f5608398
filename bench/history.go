package main

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"
)

// run is what quick measured at a commit.
type run struct {
	day, commit string
	figures     map[string]float64
}

// remember adds the figures to the history, a line for each: day, commit, name, figure. It draws the history
// beside it, as SVG.
func (y *harness) remember() error {
	if y.history == "" {
		return nil
	}
	commit, err := exec.Command("git", "rev-parse", "--short", "HEAD").Output()
	if err != nil {
		return fmt.Errorf("the commit, for the history: %w", err)
	}
	f, err := os.OpenFile(y.history, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	for _, g := range goals {
		_ = w.Write([]string{
			time.Now().UTC().Format(time.DateOnly), strings.TrimSpace(string(commit)), g.name,
			strconv.FormatFloat(y.figures[g.name], 'g', 4, 64),
		}) // kept until Error
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return drawHistory(y.history, strings.TrimSuffix(y.history, ".csv")+".svg")
}

// readHistory reads the runs of a history, the oldest first. Lines of one commit are one run, the last of a
// name counts.
func readHistory(file string) (runs []run, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for i, l := range lines {
		if len(l) != 4 {
			return nil, fmt.Errorf("%s: line %d has %d fields, not day, commit, name and figure", file, i+1, len(l))
		}
		figure, err := strconv.ParseFloat(l[3], 64)
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", file, i+1, err)
		}
		if n := len(runs); n == 0 || runs[n-1].commit != l[1] {
			runs = append(runs, run{l[0], l[1], map[string]float64{}})
		}
		runs[len(runs)-1].figures[l[2]] = figure
	}
	return runs, nil
}

// drawHistory draws how near each figure was to its goal, run by run.
func drawHistory(file, into string) error {
	runs, err := readHistory(file)
	if err != nil {
		return err
	}
	colours := []string{
		"#0b6e4f", "#3b5ba5", "#8a5a00", "#7a2e8e", "#b3261e", "#00697a", "#5c6b00", "#6b4a3a", "#444", "#a0527f",
	}
	var lines []line
	for i, g := range goals {
		l := line{colour: colours[i%len(colours)], dotted: true, dashed: i%2 == 1}
		for _, r := range runs {
			if figure, measured := r.figures[g.name]; measured {
				l.shares = append(l.shares, g.share(figure))
				l.name = fmt.Sprintf("%s: %.3g of %g", g.name, figure, g.goal)
			} else if len(l.shares) > 0 {
				l.shares = append(l.shares, l.shares[len(l.shares)-1])
			} else {
				l.from++
			}
		}
		lines = append(lines, l)
	}
	slices.SortFunc(lines, func(a, b line) int { // so that names stand in the order of what they name
		return cmp.Compare(b.shares[len(b.shares)-1], a.shares[len(a.shares)-1])
	})
	return plot(into, "How near each figure is to its goal", fmt.Sprintf(
		"runs: %d, %s to %s", len(runs), runs[0].day, runs[len(runs)-1].day,
	), lines)
}
