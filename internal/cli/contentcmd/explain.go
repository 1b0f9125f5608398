package contentcmd

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

// drawExamined tells what an answer is made of.
func drawExamined(t *command.Table, out *api.Examined) {
	t.Line(fmt.Sprintf("%d %s, %d bytes", out.Status, http.StatusText(out.Status), len(out.Body)))
	if out.Key == "" { // it was refused
		t.Line(out.Body)
		return
	}
	held := "not held in the cache"
	if out.Held > 0 {
		held = fmt.Sprintf("held in the cache since change %d", out.Held)
	}
	t.Line(fmt.Sprintf("as of change %d; %s", out.Sequence, held))
	if out.GoodFor > 0 {
		t.Line(
			"it holds for " + command.Span(
				time.Duration(out.GoodFor*float64(time.Millisecond)),
			) + " at most, for it speaks of now",
		)
	}
	l := out.Milliseconds
	t.Line("")
	t.Row("effort", fmt.Sprintf("%d of %d", out.Effort.Asked, out.Effort.Limit))
	t.Row(
		"time",
		fmt.Sprintf(
			"%.2f ms: parse %.2f, cache %.2f, SQL %.2f, lay out %.2f", l.All, l.Parse, l.Cache, l.SQL, l.Render,
		),
	)
	t.Row("database", fmt.Sprintf("%d statements in %d round trips", len(out.Statements), out.RoundTrips))
	t.Row("takes", strings.Join(out.Grants, ", "))
	t.Line("\nmade of")
	for _, line := range t.MadeOf(out.Dependencies, out.Titles) {
		t.Line("  " + line)
	}
	for i, s := range out.Statements {
		t.Line(fmt.Sprintf("\n%d. %s", i+1, s.SQL))
		if len(s.Args) > 0 {
			t.Line("   with " + t.Short(fmt.Sprint(s.Args), 150))
		}
		for line := range strings.Lines(s.Plan) {
			t.Line("   | " + strings.TrimRight(line, "\n"))
		}
	}
}
