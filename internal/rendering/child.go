package rendering

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // decoded
	"image/jpeg"
	"image/png"
	"os"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // decoded

	"ubiquon/internal/core/picture"
)

// ChildVariable is set in the environment of a child that is our own program.
const ChildVariable = "UBIQUON_RENDER_CHILD"

// order is what a child is told to do.
type order struct {
	In, Out string
	Job     *picture.Job // nil: only look
	Quality int
}

// RunIfChild does the work of a child process and exits, if this process is one. A program that
// makes pictures calls it first.
func RunIfChild() {
	if os.Getenv(ChildVariable) == "" {
		return
	}
	if err := child(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

func child() error {
	var o order
	if err := json.NewDecoder(os.Stdin).Decode(&o); err != nil {
		return err
	}
	src, err := os.ReadFile(o.In)
	if err != nil {
		return errors.New("it cannot be read")
	}
	header, _, err := image.DecodeConfig(bytes.NewReader(src))
	if err != nil {
		return err
	}
	if err := checkSize(header.Width, header.Height, 1); err != nil {
		return err
	}
	img, format, err := image.Decode(bytes.NewReader(src))
	if err != nil {
		return err
	}
	turned := 1
	if format == "jpeg" {
		turned = orientation(src)
	}
	img = upright(img, turned)
	if o.Job == nil {
		return look(img, turned > 1)
	}
	return render(img, o)
}

func look(img image.Image, turned bool) error {
	b := img.Bounds()
	f := Facts{Width: b.Dx(), Height: b.Dy(), Frames: 1, Turned: turned}
	scale := min(1, float64(placeholderSide)/float64(max(f.Width, f.Height)))
	small := resize(img, max(int(float64(f.Width)*scale), 1), max(int(float64(f.Height)*scale), 1))
	var out bytes.Buffer
	if err := png.Encode(&out, small); err != nil {
		return err
	}
	var err error
	if f.Color, err = average(out.Bytes()); err != nil {
		return err
	}
	f.Placeholder = "data:image/png;base64," + base64.StdEncoding.EncodeToString(out.Bytes())
	return json.NewEncoder(os.Stdout).Encode(f)
}

func render(img image.Image, o order) error {
	j := o.Job
	b := img.Bounds()
	if !j.Whole {
		at := image.Rect(j.Region.X, j.Region.Y, j.Region.X+j.Region.Width, j.Region.Y+j.Region.Height).Add(b.Min)
		cut := image.NewRGBA(image.Rect(0, 0, at.Dx(), at.Dy()))
		draw.Copy(cut, image.Point{}, img, at, draw.Src, nil)
		img = cut
	}
	made := resize(img, j.Width, j.Height)
	if j.Mirror {
		made = upright(made, 2)
	}
	made = upright(made, map[int]int{0: 1, 90: 6, 180: 3, 270: 8}[j.Turn])
	if j.Quality != "color" {
		gray := image.NewGray(made.Bounds())
		draw.Copy(gray, image.Point{}, made, made.Bounds(), draw.Src, nil)
		if j.Quality == "bitonal" {
			for i, v := range gray.Pix {
				gray.Pix[i] = 0
				if v > 127 {
					gray.Pix[i] = 255
				}
			}
		}
		made = gray
	}
	f, err := os.Create(o.Out)
	if err != nil {
		return err
	}
	switch j.Format {
	case "png":
		err = png.Encode(f, made)
	case "jpg":
		quality := 82
		if o.Quality > 0 {
			quality = o.Quality
		}
		on := image.NewRGBA(made.Bounds())
		draw.Draw(on, on.Bounds(), image.NewUniform(color.White), image.Point{}, draw.Src)
		draw.Draw(on, on.Bounds(), made, made.Bounds().Min, draw.Over)
		err = jpeg.Encode(f, on, &jpeg.Options{Quality: quality})
	default:
		err = fmt.Errorf("%s is not made here: install libvips-tools", j.Format)
	}
	return errors.Join(err, f.Close())
}

// resize halves a large picture first: scaling at once would take memory for each line of it.
func resize(img image.Image, width, height int) image.Image {
	for b := img.Bounds(); b.Dx() >= 2*width && b.Dy() >= 2*height && b.Dx() > 64; b = img.Bounds() {
		half := image.NewRGBA(image.Rect(0, 0, (b.Dx()+1)/2, (b.Dy()+1)/2))
		draw.ApproxBiLinear.Scale(half, half.Bounds(), img, b, draw.Src, nil)
		img = half
	}
	if b := img.Bounds(); b.Dx() == width && b.Dy() == height {
		return img
	}
	out := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.CatmullRom.Scale(out, out.Bounds(), img, img.Bounds(), draw.Src, nil)
	return out
}

// upright turns and mirrors a picture as its EXIF orientation says.
func upright(img image.Image, orientation int) image.Image {
	if orientation < 2 || orientation > 8 {
		return img
	}
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	if orientation >= 5 {
		w, h = h, w
	}
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			var sx, sy int
			switch orientation {
			case 2:
				sx, sy = w-1-x, y
			case 3:
				sx, sy = w-1-x, h-1-y
			case 4:
				sx, sy = x, h-1-y
			case 5:
				sx, sy = y, x
			case 6:
				sx, sy = y, w-1-x
			case 7:
				sx, sy = h-1-y, w-1-x
			case 8:
				sx, sy = h-1-y, x
			}
			out.Set(x, y, img.At(b.Min.X+sx, b.Min.Y+sy))
		}
	}
	return out
}

func (r *Renderer) order(ctx context.Context, dir string, o order) ([]byte, error) {
	src, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	return r.run(ctx, dir, src, r.self)
}

func (r *Renderer) lookOurselves(ctx context.Context, path string) (f Facts, err error) {
	dir, done, err := workplace(os.TempDir() + "/x")
	if err != nil {
		return f, err
	}
	defer done()
	out, err := r.order(ctx, dir, order{In: path})
	if err != nil {
		return f, err
	}
	return f, json.Unmarshal(out, &f)
}

func (r *Renderer) makeOurselves(ctx context.Context, path string, j picture.Job, quality int, out string) error {
	dir, done, err := workplace(out)
	if err != nil {
		return err
	}
	defer done()
	to := dir + "/out"
	if _, err := r.order(ctx, dir, order{path, to, &j, quality}); err != nil {
		return err
	}
	return os.Rename(to, out)
}
