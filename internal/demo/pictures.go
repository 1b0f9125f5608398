package demo

import (
	"bytes"
	"hash/fnv"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/image/vector"
)

const (
	pictureWidth  = 1200
	pictureHeight = 800
)

// Pictures serves the office's pictures: every name gives a painting of sea, islands and a boat,
// always the same one.
func Pictures() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, ok := strings.CutSuffix(r.URL.Path, ".jpg")
		if !ok || name == "" || strings.ContainsAny(name, "/<>&\"") {
			http.NotFound(w, r)
			return
		}
		src, _ := Picture(name)
		w.Header().Set("Cache-Control", "public, max-age=86400")
		http.ServeContent(w, r, "picture.jpg", time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), bytes.NewReader(src))
	})
}

// painted are the pictures that were painted; there are a few dozen names.
var painted sync.Map

type painting struct {
	src   []byte
	focus map[string]any
}

// Picture is the picture of a name as a JPEG, and where the boat is in it: a focal region.
func Picture(name string) ([]byte, map[string]any) {
	if p, ok := painted.Load(name); ok {
		return p.(painting).src, p.(painting).focus
	}
	img, boat := paint(name)
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 88}) // into memory
	p := painting{b.Bytes(), map[string]any{
		"x": fraction(boat.Min.X, pictureWidth), "y": fraction(boat.Min.Y, pictureHeight),
		"width": fraction(boat.Dx(), pictureWidth), "height": fraction(boat.Dy(), pictureHeight),
	}}
	painted.Store(name, p)
	return p.src, p.focus
}

func fraction(n, of int) float64 { return math.Round(float64(n)/float64(of)*1000) / 1000 }

// canvas is what is painted on.
type canvas struct{ *image.RGBA }

// shape fills a polygon, whose corners are given one after the other.
func (c canvas) shape(ink color.Color, corners ...float64) {
	box := image.Rect(int(corners[0]), int(corners[1]), int(corners[0]), int(corners[1]))
	for i := 0; i < len(corners); i += 2 {
		x, y := int(corners[i]), int(corners[i+1])
		box = box.Union(image.Rect(x-1, y-1, x+2, y+2))
	}
	box = box.Intersect(c.Bounds())
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	at := func(i int) (float32, float32) {
		return float32(corners[i] - float64(box.Min.X)), float32(corners[i+1] - float64(box.Min.Y))
	}
	r.MoveTo(at(0))
	for i := 2; i < len(corners); i += 2 {
		r.LineTo(at(i))
	}
	r.ClosePath()
	r.Draw(c.RGBA, box, image.NewUniform(ink), image.Point{})
}

func (c canvas) disc(ink color.Color, x, y, radius float64) {
	var corners []float64
	for i := range 64 {
		a := float64(i) / 32 * math.Pi
		corners = append(corners, x+radius*math.Cos(a), y+radius*math.Sin(a))
	}
	c.shape(ink, corners...)
}

func (c canvas) box(ink color.Color, x, y, w, h float64) {
	c.shape(ink, x, y, x+w, y, x+w, y+h, x, y+h)
}

// hue is a colour by its hue in degrees, and saturation and lightness in percent.
func hue(h, s, l float64) color.RGBA {
	s, l = s/100, l/100
	part := func(n float64) uint8 {
		k := math.Mod(n+math.Mod(h, 360)/30, 12)
		return uint8(math.Round(255 * (l - s*math.Min(l, 1-l)*math.Max(-1, math.Min(math.Min(k-3, 9-k), 1)))))
	}
	return color.RGBA{part(0), part(8), part(4), 255}
}

// paint paints the picture of a name, and says where the boat is.
func paint(name string) (image.Image, image.Rectangle) {
	h := fnv.New64a()
	h.Write([]byte(name))
	r := rand.New(rand.NewPCG(h.Sum64(), 8400))
	sky := float64(r.IntN(360))
	sea := float64(430 + r.IntN(90))
	c := canvas{image.NewRGBA(image.Rect(0, 0, pictureWidth, pictureHeight))}
	for y := range pictureHeight {
		part := float64(y) / pictureHeight
		draw.Draw(
			c.RGBA,
			image.Rect(0, y, pictureWidth, y+1),
			image.NewUniform(hue(sky+40*part, 55+15*part, 72+18*part)),
			image.Point{},
			draw.Src,
		)
	}
	c.disc(color.RGBA{255, 246, 220, 255}, float64(150+r.IntN(900)), float64(90+r.IntN(200)), float64(34+r.IntN(40)))
	for layer := range 3 {
		y := sea - 60 + float64(layer)*30
		phase, height := r.Float64()*7, 40+r.Float64()*90
		corners := []float64{0, y + 60}
		for x := 0; x <= pictureWidth; x += 40 {
			corners = append(corners, float64(x), y+50-height*math.Max(0, math.Sin(float64(x)/170+phase)))
		}
		c.shape(
			hue(90+math.Mod(sky, 70), 20, float64(56-layer*12)),
			append(corners, pictureWidth, pictureHeight, 0, pictureHeight)...)
	}
	c.box(hue(185+math.Mod(sky, 40), 45, 34), 0, sea+30, pictureWidth, pictureHeight)
	for range 14 {
		c.box(
			color.RGBA{90, 90, 90, 90},
			float64(r.IntN(1100)),
			sea+50+float64(r.IntN(300)),
			float64(30+r.IntN(120)),
			3,
		)
	}
	x, y := float64(200+r.IntN(700)), sea+60+float64(r.IntN(120))
	dark, white := color.RGBA{18, 52, 63, 255}, color.RGBA{255, 255, 255, 255}
	c.shape(dark, x, y+60, x+220, y+60, x+190, y+110, x+40, y+110)
	c.box(white, x+30, y+20, 140, 40)
	c.box(color.RGBA{244, 241, 232, 255}, x+70, y-15, 60, 35)
	c.box(color.RGBA{217, 130, 43, 255}, x+92, y-45, 18, 30)
	for i := range 5 {
		c.disc(dark, x+float64(48+i*26), y+40, 7)
	}
	return c.RGBA, image.Rect(int(x), int(y)-45, int(x)+220, int(y)+110)
}
