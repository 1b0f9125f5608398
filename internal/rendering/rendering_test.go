package rendering_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/rendering"
)

func TestMain(m *testing.M) {
	rendering.RunIfChild()
	os.Exit(m.Run())
}

// quarters is a picture whose quarters are red, green, blue and white.
func quarters(w, h int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.RGBA{255, 0, 0, 255}
			switch {
			case x >= w/2 && y < h/2:
				c = color.RGBA{0, 255, 0, 255}
			case x < w/2 && y >= h/2:
				c = color.RGBA{0, 0, 255, 255}
			case x >= w/2:
				c = color.RGBA{255, 255, 255, 255}
			}
			img.Set(x, y, c)
		}
	}
	return img
}

// withOrientation puts an EXIF orientation into a JPEG.
func withOrientation(src []byte, n byte) []byte {
	exif := append(
		[]byte("Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00"),
		n,
		0,
		0,
		0,
		0,
		0,
		0,
	)
	head := binary.BigEndian.AppendUint16([]byte{0xff, 0xd8, 0xff, 0xe1}, uint16(len(exif)+2))
	return append(append(head, exif...), src[2:]...)
}

func encoded(t *testing.T, img image.Image, format string) []byte {
	t.Helper()
	var b bytes.Buffer
	var err error
	if format == "png" {
		err = png.Encode(&b, img)
	} else {
		err = jpeg.Encode(&b, img, &jpeg.Options{Quality: 95})
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func kept(t *testing.T, src []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "picture")
	if err := os.WriteFile(path, src, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// renderers are both ways in which pictures are made.
func renderers(t *testing.T, each func(t *testing.T, r *rendering.Renderer)) {
	for name, o := range map[string]rendering.Options{"tools": {}, "ourselves": {WithoutTools: true}} {
		t.Run(name, func(t *testing.T) {
			r := rendering.New(o)
			if name == "tools" && !r.HasTools() {
				t.Skip("libvips-tools are not installed")
			}
			each(t, r)
		})
	}
}

func TestPicturesAreCutTurnedAndScaled(t *testing.T) {
	turned := kept(t, withOrientation(encoded(t, quarters(200, 100), "jpg"), 6))
	renderers(t, func(t *testing.T, r *rendering.Renderer) {
		f, err := r.Look(t.Context(), turned, "image/jpeg")
		if err != nil {
			t.Fatal(err)
		}
		// Turned by a quarter clockwise: blue is at the left above, red at its right.
		if f.Width != 100 || f.Height != 200 || !f.Turned {
			t.Fatalf("looked like %+v, want 100 × 200 upright", f)
		}
		if len(f.Color) != 7 || len(f.Placeholder) < 100 {
			t.Errorf("colour %q, placeholder %q", f.Color, f.Placeholder)
		}
		for _, c := range []struct {
			region, size, rotation, quality string
			w, h                            int
			at                              color.RGBA // left above
		}{
			{"full", "50,", "0", "default", 50, 100, color.RGBA{0, 0, 255, 255}},
			{"50,0,50,100", "max", "0", "default", 50, 100, color.RGBA{255, 0, 0, 255}},
			{"square", "20,20", "0", "default", 20, 20, color.RGBA{0, 0, 255, 255}},
			{"full", "50,", "90", "default", 100, 50, color.RGBA{255, 255, 255, 255}},
			{"full", "50,", "!0", "default", 50, 100, color.RGBA{255, 0, 0, 255}},
			{"full", "50,100", "180", "gray", 50, 100, color.RGBA{150, 150, 150, 255}},
			{"50,100,50,100", "25,", "0", "bitonal", 25, 50, color.RGBA{255, 255, 255, 255}},
		} {
			req, err := picture.Parse(c.region, c.size, c.rotation, c.quality+".png")
			if err != nil {
				t.Fatal(err)
			}
			job, err := req.For(f.Width, f.Height)
			if err != nil {
				t.Fatal(err)
			}
			out := filepath.Join(t.TempDir(), "out")
			if err := r.Make(t.Context(), turned, f, job, 0, out); err != nil {
				t.Errorf("%s: %v", req, err)
				continue
			}
			src, _ := os.ReadFile(out)
			img, err := png.Decode(bytes.NewReader(src))
			if err != nil {
				t.Fatal(err)
			}
			if b := img.Bounds(); b.Dx() != c.w || b.Dy() != c.h {
				t.Errorf("%s is %d × %d, want %d × %d", req, b.Dx(), b.Dy(), c.w, c.h)
			}
			got := color.RGBAModel.Convert(img.At(3, 3)).(color.RGBA)
			if c.quality == "gray" {
				// Green is turned to this corner; how light it is in gray is the decoder's.
				if got.R != got.G || got.G != got.B || got.R == 0 {
					t.Errorf("%s is %v, want a gray", req, got)
				}
			} else if near(got, c.at) > 60 {
				t.Errorf("%s begins with %v, want about %v", req, got, c.at)
			}
		}
	})
}

func near(a, b color.RGBA) int {
	d := func(x, y uint8) int { return max(int(x)-int(y), int(y)-int(x)) }
	return max(d(a.R, b.R), d(a.G, b.G), d(a.B, b.B))
}

func TestFormatsAreMade(t *testing.T) {
	path := kept(t, encoded(t, quarters(300, 200), "png"))
	renderers(t, func(t *testing.T, r *rendering.Renderer) {
		f, err := r.Look(t.Context(), path, "image/png")
		if err != nil {
			t.Fatal(err)
		}
		for _, format := range r.Formats() {
			req := picture.Request{Region: "full", Size: "120,", Rotation: "0", Quality: "default", Format: format}
			job, err := req.For(f.Width, f.Height)
			if err != nil {
				t.Fatal(err)
			}
			out := filepath.Join(t.TempDir(), "out")
			if err := r.Make(t.Context(), path, f, job, 60, out); err != nil {
				t.Errorf("%s: %v", format, err)
				continue
			}
			if again, err := r.Look(t.Context(), out, picture.Formats[format]); r.HasTools() &&
				(err != nil || again.Width != 120 || again.Height != 80) {
				t.Errorf("%s became %+v, %v", format, again, err)
			}
		}
	})
}

// TestPathsMayBeRelative looks and makes where paths are relative to the working directory, as with "--data .ubiquon".
func TestPathsMayBeRelative(t *testing.T) {
	path := kept(t, encoded(t, quarters(300, 200), "png"))
	renderers(t, func(t *testing.T, r *rendering.Renderer) {
		t.Chdir(filepath.Dir(path))
		f, err := r.Look(t.Context(), filepath.Base(path), "image/png")
		if err != nil || f.Width != 300 {
			t.Fatalf("%+v, %v", f, err)
		}
		req := picture.Request{Region: "full", Size: "120,", Rotation: "0", Quality: "default", Format: "png"}
		job, err := req.For(f.Width, f.Height)
		if err != nil {
			t.Fatal(err)
		}
		if err := r.Make(t.Context(), filepath.Base(path), f, job, 0, "out"); err != nil {
			t.Fatal(err)
		}
		if again, err := r.Look(t.Context(), "out", "image/png"); err != nil || again.Width != 120 {
			t.Errorf("made %+v, %v", again, err)
		}
	})
}

func TestFramesAreKept(t *testing.T) {
	r := rendering.New(rendering.Options{})
	if !r.HasTools() {
		t.Skip("libvips-tools are not installed")
	}
	var moving gif.GIF
	for i := range 3 {
		frame := image.NewPaletted(image.Rect(0, 0, 80, 60), color.Palette{color.Black, color.White})
		frame.Pix[i] = 1
		moving.Image, moving.Delay = append(moving.Image, frame), append(moving.Delay, 10)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, &moving); err != nil {
		t.Fatal(err)
	}
	path := kept(t, b.Bytes())
	f, err := r.Look(t.Context(), path, "image/gif")
	if err != nil || f.Frames != 3 || f.Width != 80 || f.Height != 60 {
		t.Fatalf("%+v, %v; want 3 frames of 80 × 60", f, err)
	}
	job, err := picture.Request{
		Region:   "full",
		Size:     "40,",
		Rotation: "0",
		Quality:  "default",
		Format:   "webp",
	}.For(
		80,
		60,
	)
	if err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(t.TempDir(), "out")
	if err := r.Make(t.Context(), path, f, job, 0, out); err != nil {
		t.Fatal(err)
	}
	if f, err = r.Look(t.Context(), out, "image/webp"); err != nil || f.Frames != 3 || f.Width != 40 ||
		f.Height != 30 {
		t.Errorf("%+v, %v; want 3 frames of 40 × 30", f, err)
	}
}

// TestBrokenPicturesHarmNothing feeds sixty broken pictures to both renderers: each is refused with a
// reason, or is a picture after all, in bounded time.
func TestBrokenPicturesHarmNothing(t *testing.T) {
	sources := [][]byte{encoded(t, quarters(320, 240), "jpg"), encoded(t, quarters(320, 240), "png")}
	rnd := rand.New(rand.NewPCG(8400, 1))
	var broken [][]byte
	for i := range 56 {
		src := bytes.Clone(sources[i%2])
		switch i % 4 {
		case 0, 1: // cut off
			src = src[:16+rnd.IntN(len(src)*9/10-16)]
		case 2: // scribbled over
			for range 40 {
				src[20+rnd.IntN(len(src)-20)] = byte(rnd.Uint32())
			}
		case 3: // something else behind the head
			for j := 100 + rnd.IntN(200); j < len(src); j++ {
				src[j] = byte(rnd.Uint32())
			}
		}
		broken = append(broken, src)
	}
	broken = append(broken, nil, []byte("no picture at all"), bomb(30000, 30000), bomb(100, 1<<30))
	renderers(t, func(t *testing.T, r *rendering.Renderer) {
		refused := 0
		for i, src := range broken {
			path := kept(t, src)
			began := time.Now()
			f, err := r.Look(t.Context(), path, "image/png")
			if took := time.Since(began); took > 6*rendering.Timeout {
				t.Errorf("picture %d took %s", i, took)
			}
			var says *rendering.BrokenError
			switch {
			case err == nil && (f.Width <= 0 || f.Height <= 0):
				t.Errorf("picture %d is %+v", i, f)
			case err != nil && !errors.As(err, &says):
				t.Errorf("picture %d: %v", i, err)
			case err != nil:
				refused++
				if bytes.Contains([]byte(says.Reason), []byte(filepath.Dir(path))) {
					t.Errorf("picture %d tells where it lies: %s", i, says)
				}
			}
		}
		if refused < 30 {
			t.Errorf("%d of %d were refused", refused, len(broken))
		}
		if _, err := r.Look(t.Context(), kept(t, sources[0]), "image/jpeg"); err != nil {
			t.Errorf("a good picture afterwards: %v", err)
		}
	})
}

// bomb is a PNG that says it is that large, and has nothing.
func bomb(w, h uint32) []byte {
	chunk := func(name string, body []byte) []byte {
		out := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
		out = append(append(out, name...), body...)
		return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[4:]))
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h)
	return fmt.Append(
		[]byte("\x89PNG\r\n\x1a\n"),
		string(chunk("IHDR", append(head, 8, 2, 0, 0, 0))),
		string(chunk("IDAT", nil)),
		string(chunk("IEND", nil)),
	)
}

// TestABusyMachineBreaksNoPicture tells a child that had no processor from one that took too much of it.
func TestABusyMachineBreaksNoPicture(t *testing.T) {
	for does, broken := range map[string]bool{"exec sleep 60": false, "while :; do :; done": true} {
		dir := t.TempDir()
		for _, name := range []string{"vips", "vipsheader"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+does+"\n"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		t.Setenv("PATH", dir+":/usr/bin:/bin")
		r := rendering.New(rendering.Options{Timeout: time.Second})
		_, err := r.Look(t.Context(), kept(t, encoded(t, quarters(32, 24), "png")), "image/png")
		var says *rendering.BrokenError
		if errors.As(err, &says) != broken || errors.Is(err, admission.ErrOverloaded) == broken {
			t.Errorf("%s: %v", does, err)
		}
	}
}
