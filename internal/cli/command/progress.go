package command

import (
	"fmt"
	"io"
	"time"
)

// Progress shows how far long work has come: on one line of a terminal, elsewhere, as in the log of a pipeline,
// with a line now and then. It is not safe for concurrent use.
type Progress struct {
	out      io.Writer
	terminal bool
	told     time.Time
}

const (
	// terminalPause and otherPause are how often Show shows something.
	terminalPause = 200 * time.Millisecond
	otherPause    = 10 * time.Second
)

// Progress returns a Progress that has shown nothing.
func (a *App) Progress() *Progress {
	if _, is := terminal(a.Err); is {
		return &Progress{out: a.Err, terminal: true}
	}
	return &Progress{out: a.Err, told: time.Now()}
}

// Show shows how far it has come, unless it has just done so.
func (p *Progress) Show(format string, args ...any) {
	switch since := time.Since(p.told); {
	case p.terminal && since >= terminalPause:
		fmt.Fprintf(p.out, "\r"+format+clearRest, args...)
	case !p.terminal && since >= otherPause:
		fmt.Fprintf(p.out, format+"\n", args...)
	default:
		return
	}
	p.told = time.Now()
}

// clearRest clears what a terminal still shows behind the cursor (ECMA-48, EL).
const clearRest = "\x1b[K"

// Line writes a line that stays.
func (p *Progress) Line(format string, args ...any) {
	p.End()
	fmt.Fprintf(p.out, format+"\n", args...)
}

// End takes away what a terminal shows of it.
func (p *Progress) End() {
	if p.terminal {
		fmt.Fprint(p.out, "\r"+clearRest)
	}
}
