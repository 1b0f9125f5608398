// Package picture is the arithmetic of pictures: what a request of the IIIF Image API 3.0 asks
// for, which region a crop around a focal region is, and which addresses a read hands out. It
// decodes nothing.
package picture

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/core/model"
)

// Box is a rectangle in pixels, of a picture as it is seen upright.
type Box struct{ X, Y, Width, Height int }

// Request is what an address of the IIIF Image API asks for. Read it with Parse.
type Request struct {
	Region, Size, Rotation, Quality, Format string
}

// Job is a request worked out for one picture: what to do, in this order.
type Job struct {
	// Region of the picture; all of it if Whole.
	Region Box
	Whole  bool
	// Width and Height of the outcome, before it is turned.
	Width, Height int
	Mirror        bool
	// Turn is clockwise, in degrees: 0, 90, 180 or 270.
	Turn int
	// Quality is color, gray or bitonal.
	Quality string
	// Format is one of Formats.
	Format string
}

// Formats are the endings of pictures and their media types.
var Formats = map[string]string{
	"jpg": "image/jpeg", "png": "image/png", "webp": "image/webp", "avif": "image/avif",
}

// AutoFormat is the ending of a picture whose format goes by what its reader takes.
const AutoFormat = "auto"

// Error is the error of a request that cannot be answered, and what to do. Its status is 400.
type Error struct{ Detail, Hint string }

func (e *Error) Error() string { return e.Detail }

func fail(hint, format string, args ...any) error {
	return &Error{Detail: fmt.Sprintf(format, args...), Hint: hint}
}

// Parse takes the last four parts of a picture's path.
func Parse(region, size, rotation, last string) (Request, error) {
	quality, format, ok := strings.Cut(last, ".")
	if !ok {
		return Request{}, fail("end it as in default.jpg", "%q names no quality and format", last)
	}
	return Request{region, size, rotation, quality, format}, nil
}

// String is the request as the end of a path.
func (r Request) String() string {
	return r.Region + "/" + r.Size + "/" + r.Rotation + "/" + r.Quality + "." + r.Format
}

// maxArea bounds the pixels of a picture that is made.
const maxArea = 32 << 20

// For works out what the request asks of a picture of that size.
func (r Request) For(width, height int) (Job, error) {
	j := Job{Quality: r.Quality, Format: r.Format}
	if width <= 0 || height <= 0 {
		return j, fail("ask for the file itself", "the file is no picture that others can be made of")
	}
	var err error
	if j.Region, err = region(r.Region, width, height); err != nil {
		return j, err
	}
	j.Whole = j.Region == Box{0, 0, width, height}
	if j.Width, j.Height, err = size(r.Size, j.Region); err != nil {
		return j, err
	}
	turn := r.Rotation
	turn, j.Mirror = strings.CutPrefix(turn, "!")
	angle, err := strconv.ParseFloat(turn, 64)
	if err != nil || !decimalForm.MatchString(turn) || angle > 360 {
		return j, fail(
			"give degrees from 0 to 360, with ! before them to mirror first",
			"%q is no rotation",
			r.Rotation,
		)
	}
	if math.Mod(angle, 90) != 0 {
		return j, fail("turn by 0, 90, 180 or 270", "pictures are turned by multiples of 90 degrees, not by %s", turn)
	}
	j.Turn = int(angle) % 360
	switch r.Quality {
	case "default":
		j.Quality = "color"
	case "color", "gray", "bitonal":
	default:
		return j, fail("use default, color, gray or bitonal", "%q is no quality", r.Quality)
	}
	if _, ok := Formats[r.Format]; !ok && r.Format != AutoFormat {
		return j, fail("use jpg, png, webp, avif or auto", "%q is no format that pictures are made in", r.Format)
	}
	return j, nil
}

// Name is what the outcome is kept under: the same for requests that ask for the same.
func (j Job) Name() string {
	region := "full"
	if !j.Whole {
		region = j.Region.String()
	}
	mirror := ""
	if j.Mirror {
		mirror = "!"
	}
	quality := j.Quality
	if quality == "color" {
		quality = "default"
	}
	return fmt.Sprintf("%s/%d,%d/%s%d/%s.%s", region, j.Width, j.Height, mirror, j.Turn, quality, j.Format)
}

// String writes the box as IIIF does.
func (b Box) String() string {
	return fmt.Sprintf("%d,%d,%d,%d", b.X, b.Y, b.Width, b.Height)
}

var (
	decimalForm = regexp.MustCompile(`^[0-9]+(\.[0-9]*)?$|^\.[0-9]+$`)
	wholeForm   = regexp.MustCompile(`^[0-9]{1,9}$`)
)

func region(text string, width, height int) (Box, error) {
	switch text {
	case "full":
		return Box{0, 0, width, height}, nil
	case "square":
		side := min(width, height)
		return Box{(width - side) / 2, (height - side) / 2, side, side}, nil
	}
	const hint = "write it as in 10,20,300,200, pct:10,10,50,50, square or full"
	in, percent := strings.CutPrefix(text, "pct:")
	parts := strings.Split(in, ",")
	if len(parts) != 4 {
		return Box{}, fail(hint, "%q is no region", text)
	}
	var n [4]float64
	for i, p := range parts {
		form := wholeForm
		if percent {
			form = decimalForm
		}
		f, err := strconv.ParseFloat(p, 64)
		if err != nil || !form.MatchString(p) {
			return Box{}, fail(hint, "%q is no region", text)
		}
		if percent {
			f = f / 100 * float64([]int{width, height}[i%2])
		}
		n[i] = math.Round(f)
	}
	b := Box{int(n[0]), int(n[1]), int(n[2]), int(n[3])}
	if b.Width <= 0 || b.Height <= 0 {
		return Box{}, fail("ask for at least one pixel", "the region %q is empty", text)
	}
	if b.X >= width || b.Y >= height {
		return Box{}, fail(
			fmt.Sprintf("the picture is %d × %d pixels", width, height),
			"the region %q is outside of the picture",
			text,
		)
	}
	b.Width, b.Height = min(b.Width, width-b.X), min(b.Height, height-b.Y)
	return b, nil
}

// size says how large the region becomes.
func size(text string, of Box) (int, int, error) {
	const hint = "write it as in max, 600,, ,400, 600,400, !600,400 or pct:50, with ^ before it to enlarge"
	in, enlarge := strings.CutPrefix(text, "^")
	w, h := 0, 0
	ratio := float64(of.Height) / float64(of.Width)
	rest, within := strings.CutPrefix(in, "!")
	percent, isPercent := strings.CutPrefix(in, "pct:")
	switch {
	case in == "max":
		w, h = of.Width, of.Height
		if enlarge { // as large as is allowed
			f := math.Min(float64(model.MaxPicture)/float64(max(w, h)), math.Sqrt(maxArea/(float64(w)*float64(h))))
			f = math.Max(f, 1)
			w, h = int(float64(w)*f), int(float64(h)*f)
		}
	case isPercent:
		p, err := strconv.ParseFloat(percent, 64)
		if err != nil || !decimalForm.MatchString(percent) || p <= 0 {
			return 0, 0, fail(hint, "%q is no size", text)
		}
		w, h = scaled(of.Width, p/100), scaled(of.Height, p/100)
	default:
		first, second, ok := strings.Cut(rest, ",")
		a, errA := whole(first)
		b, errB := whole(second)
		switch {
		case !ok || errA != nil || errB != nil || first == "" && second == "" || within && (first == "" || second == ""):
			return 0, 0, fail(hint, "%q is no size", text)
		case first != "" && a == 0 || second != "" && b == 0:
			return 0, 0, fail("ask for at least one pixel", "the size %q is empty", text)
		case within:
			f := math.Min(float64(a)/float64(of.Width), float64(b)/float64(of.Height))
			if !enlarge {
				f = math.Min(f, 1)
			}
			w, h = scaled(of.Width, f), scaled(of.Height, f)
		case second == "":
			w, h = a, max(int(math.Round(float64(a)*ratio)), 1)
		case first == "":
			w, h = max(int(math.Round(float64(b)/ratio)), 1), b
		default:
			w, h = a, b
		}
	}
	if !enlarge && (w > of.Width || h > of.Height) {
		return 0, 0, fail(
			"ask for less, or write ^ before the size to enlarge",
			"the size %q is larger than the region of %d × %d pixels",
			text,
			of.Width,
			of.Height,
		)
	}
	if w > model.MaxPicture || h > model.MaxPicture || w*h > maxArea {
		return 0, 0, fail(
			fmt.Sprintf("ask for at most %d pixels on a side, and %d in all", model.MaxPicture, maxArea),
			"%d × %d pixels are too many",
			w,
			h,
		)
	}
	return w, h, nil
}

func scaled(n int, f float64) int { return max(int(math.Round(float64(n)*f)), 1) }

func whole(s string) (int, error) {
	if s == "" {
		return 0, nil
	}
	if !wholeForm.MatchString(s) {
		return 0, strconv.ErrSyntax
	}
	return strconv.Atoi(s)
}

// Info describes a picture as the IIIF Image API does (info.json).
func Info(id string, width, height int, ladder []int) map[string]any {
	sizes := []map[string]int{}
	for _, w := range ladder {
		if w < width {
			sizes = append(
				sizes,
				map[string]int{
					"width":  w,
					"height": max(int(math.Round(float64(w)*float64(height)/float64(width))), 1),
				},
			)
		}
	}
	factors := []int{1}
	for f := 2; f*tile < max(width, height)*2; f *= 2 {
		factors = append(factors, f)
	}
	return map[string]any{
		"@context": "http://iiif.io/api/image/3/context.json", "id": id, "type": "ImageService3",
		"protocol": "http://iiif.io/api/image", "profile": "level2", "width": width, "height": height,
		"maxWidth": model.MaxPicture, "maxHeight": model.MaxPicture, "maxArea": maxArea, "sizes": sizes,
		"tiles":            []map[string]any{{"width": tile, "scaleFactors": factors}},
		"preferredFormats": []string{"webp", "jpg"}, "extraFormats": []string{"avif", "webp"},
		"extraQualities": []string{"color", "gray", "bitonal"},
		"extraFeatures":  []string{"mirroring", "sizeUpscaling", "canonicalLinkHeader", "profileLinkHeader"},
	}
}

// tile is the side of the squares that viewers take large pictures apart into.
const tile = 512

// isTile tells whether a region and a size are of a tile that info.json names.
func isTile(b Box, j Job, width, height int) bool {
	for f := 1; f*tile < max(width, height)*2; f *= 2 {
		side := f * tile
		if b.X%side == 0 && b.Y%side == 0 && b.Width == min(side, width-b.X) && b.Height == min(side, height-b.Y) {
			up := func(n int) int { return (n + f - 1) / f }
			return abs(j.Width-up(b.Width)) <= 1 && abs(j.Height-up(b.Height)) <= 1
		}
	}
	return false
}

func abs(n int) int { return max(n, -n) }

// DefaultLadder are the widths that pictures are made in for anybody.
var DefaultLadder = []int{160, 320, 480, 640, 800, 960, 1280, 1600, 1920, 2560, 3840}

// Snap says what a request is answered with that no read has handed out: "" if the request
// itself may be answered, else the one that is nearest to it of those that anybody may ask for.
// Its error is an *Error if there is none.
func (r Request) Snap(width, height int, ladder []int, hasRegion bool) (string, error) {
	j, err := r.For(width, height)
	if err != nil {
		return "", err
	}
	if !hasRegion && r.Region != "square" && !j.Whole && !isTile(j.Region, j, width, height) {
		return "", fail(
			"take the address from a read, as in picture[width=600,height=400](url)",
			"a region of one's own needs a signed address",
		)
	}
	if isTile(j.Region, j, width, height) && !j.Whole {
		return "", nil
	}
	natural := j.Region.Width
	proportional := func(w int) int {
		return max(int(math.Round(float64(w)*float64(j.Region.Height)/float64(j.Region.Width))), 1)
	}
	on := j.Width == natural || slices.Contains(ladder, j.Width)
	if on && abs(j.Height-proportional(j.Width)) <= 1 && j.Width <= natural {
		return "", nil
	}
	w := natural
	for _, step := range ladder {
		if step >= j.Width && step < natural {
			w = step
			break
		}
	}
	r.Size = strconv.Itoa(w) + ","
	if w == natural {
		r.Size = "max"
	}
	return r.String(), nil
}
