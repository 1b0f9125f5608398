package rendering

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"ubiquon/internal/core/picture"
)

// placeholderSide is the longer side of a placeholder, in pixels.
const placeholderSide = 16

func (r *Renderer) look(ctx context.Context, path, mediaType string) (Facts, error) {
	dir, done, err := workplace(os.TempDir() + "/x")
	if err != nil {
		return Facts{}, err
	}
	defer done()
	f, known := headerOf(path)
	if !known {
		if f, err = r.askHeader(ctx, dir, path, mediaType); err != nil {
			return f, err
		}
	}
	if err := checkSize(f.Width, f.Height, f.Frames); err != nil {
		return f, err
	}
	// The whole of it, so that what is broken is found now and not by those who look at it.
	small := filepath.Join(dir, "small.png")
	side := strconv.Itoa(placeholderSide)
	if _, err := r.run(ctx, dir, nil, r.vips, "thumbnail", path, small+"[strip]", side, "--height", side,
		"--size", "down", "--fail-on", "truncated"); err != nil {
		return f, err
	}
	src, err := os.ReadFile(small)
	if err != nil {
		return f, err
	}
	f.Color, err = average(src)
	f.Placeholder = "data:image/png;base64," + base64.StdEncoding.EncodeToString(src)
	return f, err
}

// askHeader has the tools read what a picture says of itself.
func (r *Renderer) askHeader(ctx context.Context, dir, path, mediaType string) (Facts, error) {
	out, err := r.run(ctx, dir, nil, r.header, "-a", path)
	if err != nil {
		return Facts{}, err
	}
	values := map[string]string{}
	for line := range strings.SplitSeq(string(out), "\n") {
		if name, value, ok := strings.Cut(line, ": "); ok {
			values[name] = value
		}
	}
	number := func(name string) int {
		n, _ := strconv.Atoi(strings.TrimSpace(values[name]))
		return n
	}
	f := Facts{Width: number("width"), Height: number("height"), Frames: 1}
	if mediaType == "image/gif" || mediaType == "image/webp" {
		f.Frames = max(number("n-pages"), 1)
	}
	_, f.Profiled = values["icc-profile-data"]
	return f.oriented(number("orientation")), nil
}

// average is the mean colour of a small PNG of our own, without what is transparent.
func average(src []byte) (string, error) {
	img, err := png.Decode(bytes.NewReader(src))
	if err != nil {
		return "", err
	}
	var red, green, blue, weight uint64
	b := img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			r, g, bl, a := img.At(x, y).RGBA() // with alpha in them
			red, green, blue, weight = red+uint64(r), green+uint64(g), blue+uint64(bl), weight+uint64(a)
		}
	}
	if weight == 0 {
		return "#ffffff", nil
	}
	part := func(n uint64) uint64 { return n * 255 / weight }
	return fmt.Sprintf("#%02x%02x%02x", part(red), part(green), part(blue)), nil
}

// saved is how a format is written.
func saved(format string, quality int) string {
	q := func(usual int) string {
		if quality > 0 {
			usual = quality
		}
		return "[strip,Q=" + strconv.Itoa(usual)
	}
	switch format {
	case "jpg":
		return q(82) + ",optimize-coding,interlace,background=255]"
	case "webp":
		return q(80) + ",effort=3]"
	case "avif":
		return q(58) + ",effort=2]"
	}
	return "[strip,compression=6]"
}

func (r *Renderer) make(ctx context.Context, path string, f Facts, j picture.Job, quality int, out string) error {
	dir, done, err := workplace(out)
	if err != nil {
		return err
	}
	defer done()
	var steps [][]string
	in, n := path, 0
	step := func(op string, args ...string) {
		n++
		to := filepath.Join(dir, strconv.Itoa(n)+".tif")
		steps = append(steps, append([]string{op, in, to}, args...))
		in = to
	}
	if !j.Whole {
		if f.Turned {
			step("autorot")
		}
		step(
			"crop",
			strconv.Itoa(j.Region.X),
			strconv.Itoa(j.Region.Y),
			strconv.Itoa(j.Region.Width),
			strconv.Itoa(j.Region.Height),
		)
	} else if f.Frames > 1 && j.Format == "webp" && j.Turn == 0 && !j.Mirror {
		in = path + "[n=-1]"
	}
	step("thumbnail", strconv.Itoa(j.Width), "--height", strconv.Itoa(j.Height), "--size", "force")
	if last := len(steps) - 1; f.Profiled {
		steps[last] = append(steps[last], "--export-profile", "srgb")
	}
	if j.Mirror {
		step("flip", "horizontal")
	}
	if j.Turn != 0 {
		step("rot", "d"+strconv.Itoa(j.Turn))
	}
	if j.Quality != "color" {
		step("colourspace", "b-w")
	}
	if j.Quality == "bitonal" {
		step("relational_const", "more", "127")
	}
	result := filepath.Join(dir, "out."+j.Format)
	steps[len(steps)-1][2] = result + saved(j.Format, quality)
	for _, s := range steps {
		if _, err := r.run(ctx, dir, nil, append([]string{r.vips}, s...)...); err != nil {
			return err
		}
	}
	return os.Rename(result, out)
}
