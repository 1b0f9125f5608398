package demo

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
)

const (
	pictureWidth  = 1200
	pictureHeight = 800
)

// Pictures serves the line's pictures: every name gives a drawing of sea,
// islands and a boat, always the same one.
func Pictures() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, ok := strings.CutSuffix(r.URL.Path, ".svg")
		if !ok || name == "" || strings.ContainsAny(name, "/<>&\"") {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "image/svg+xml")
		w.Header().Set("Cache-Control", "public, max-age=86400")
		fmt.Fprint(w, draw(name))
	})
}

func draw(name string) string {
	h := fnv.New64a()
	h.Write([]byte(name))
	r := rand.New(rand.NewPCG(h.Sum64(), 8400))
	hue := r.IntN(360)
	sea := 430 + r.IntN(90)
	var b strings.Builder
	fmt.Fprintf(
		&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" role="img">`, pictureWidth, pictureHeight,
	)
	fmt.Fprintf(
		&b,
		`<defs><linearGradient id="s" x2="0" y2="1"><stop offset="0" stop-color="hsl(%d 55%% 72%%)"/><stop offset="1" stop-color="hsl(%d 70%% 90%%)"/></linearGradient></defs>`,
		hue, (hue+40)%360,
	)
	fmt.Fprintf(&b, `<rect width="%d" height="%d" fill="url(#s)"/>`, pictureWidth, pictureHeight)
	fmt.Fprintf(&b, `<circle cx="%d" cy="%d" r="%d" fill="#fff6dc"/>`, 150+r.IntN(900), 90+r.IntN(200), 34+r.IntN(40))
	for layer := range 3 {
		y := float64(sea) - 60 + float64(layer)*30
		fmt.Fprintf(&b, `<path fill="hsl(%d 22%% %d%%)" d="M0 %.0f`, (hue+190)%360, 58-layer*14, y+60)
		phase, height := r.Float64()*7, 40+r.Float64()*90
		for x := 0; x <= pictureWidth; x += 40 {
			fmt.Fprintf(&b, " L%d %.0f", x, y+50-height*math.Max(0, math.Sin(float64(x)/170+phase)))
		}
		fmt.Fprintf(&b, ` L%d %d L0 %d Z"/>`, pictureWidth, pictureHeight, pictureHeight)
	}
	fmt.Fprintf(
		&b, `<rect y="%d" width="%d" height="%d" fill="hsl(%d 42%% 38%%)"/>`, sea+30, pictureWidth, pictureHeight,
		(hue+180)%360,
	)
	for range 14 {
		fmt.Fprintf(
			&b, `<rect x="%d" y="%d" width="%d" height="3" rx="1.5" fill="#fff" opacity=".35"/>`, r.IntN(1100),
			sea+50+r.IntN(300), 30+r.IntN(120),
		)
	}
	x, y := 200+r.IntN(700), sea+60+r.IntN(120)
	fmt.Fprintf(
		&b,
		`<g transform="translate(%d %d)"><path d="M0 60h220l-30 50H40z" fill="#12343f"/><path d="M30 20h140v40H30z" fill="#fff"/><path d="M70-15h60v35H70z" fill="#f4f1e8"/><path d="M92-45h18v30H92z" fill="#d9822b"/>`,
		x, y,
	)
	for i := range 5 {
		fmt.Fprintf(&b, `<circle cx="%d" cy="40" r="7" fill="#12343f"/>`, 48+i*26)
	}
	b.WriteString(`</g></svg>`)
	return b.String()
}
