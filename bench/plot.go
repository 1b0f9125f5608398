package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
)

// labelHeight is how far apart the names of lines stand at least.
const labelHeight = 15

// line is a series of shares, from 0 to 1, in equal steps.
type line struct {
	name, colour string
	dashed       bool
	dotted       bool // each share is shown as a dot
	shares       []float64
	from         int // steps before the first share
}

// plot draws lines over time as an SVG.
func plot(file, title, below string, lines []line) error {
	const left, top, width, height = 60, 46, 640, 260
	var b strings.Builder
	fmt.Fprintf(
		&b,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n",
		left+width+360, top+height+56,
	)
	fmt.Fprintf(
		&b, `<rect width="100%%" height="100%%" fill="#fff"/><text x="%d" y="26" font-size="15">%s</text>`+"\n", left,
		title,
	)
	for p := 0; p <= 100; p += 25 {
		y := top + height - height*p/100
		fmt.Fprintf(
			&b,
			`<path d="M%d %dh%d" stroke="#ddd"/><text x="%d" y="%d" text-anchor="end" fill="#555">%d %%</text>`+"\n",
			left, y, width, left-8, y+4, p,
		)
	}
	var labels []int // how high they stand
	for _, l := range lines {
		var d strings.Builder
		var x, y float64
		for i, share := range l.shares {
			x, y = left+width*(float64(l.from+i)+0.5)/float64(l.from+len(l.shares)), top+height*(1-share)
			fmt.Fprintf(&d, "%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[i == 0], x, y)
			if l.dotted {
				fmt.Fprintf(&b, `<circle cx="%.1f" cy="%.1f" r="3" fill="%s"/>`+"\n", x, y, l.colour)
			}
		}
		dash := ""
		if l.dashed {
			dash = ` stroke-dasharray="6 4"`
		}
		at := int(y) + 4
		for slices.ContainsFunc(labels, func(other int) bool { return max(at-other, other-at) < labelHeight }) {
			at++ // below the one before
		}
		labels = append(labels, at)
		fmt.Fprintf(
			&b,
			`<path d="%s" fill="none" stroke="%s" stroke-width="2"%s/><text x="%d" y="%d" fill="%s">%s</text>`+"\n",
			d.String(), l.colour, dash, left+width+8, at, l.colour, l.name,
		)
	}
	fmt.Fprintf(
		&b, `<text x="%d" y="%d" text-anchor="middle" fill="#555">%s</text>`+"\n</svg>\n", left+width/2,
		top+height+36, below,
	)
	return os.WriteFile(file, []byte(b.String()), 0o644)
}
