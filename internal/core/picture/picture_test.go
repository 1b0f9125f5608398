package picture

import (
	"encoding/json"
	"errors"
	"net/url"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/model"
)

// TestLevel2 are requests of the IIIF Image API 3.0 for a picture of 300 × 200 pixels, as the
// specification has them, with the size that comes of each; none for a request that is refused.
func TestLevel2(t *testing.T) {
	for _, c := range []struct {
		request string
		w, h    int
	}{
		// Regions.
		{"full/max/0/default.jpg", 300, 200},
		{"square/max/0/default.jpg", 200, 200},
		{"125,15,120,140/max/0/default.jpg", 120, 140},
		{"pct:41.6,7.5,40,70/max/0/default.jpg", 120, 140},
		{"125,15,200,200/max/0/default.jpg", 175, 185},
		{"pct:41.6,7.5,66.6,100/max/0/default.jpg", 175, 185},
		{"300,0,10,10/max/0/default.jpg", 0, 0},
		{"0,0,0,10/max/0/default.jpg", 0, 0},
		{"-1,0,10,10/max/0/default.jpg", 0, 0},
		{"0,0,10/max/0/default.jpg", 0, 0},
		{"1.5,0,10,10/max/0/default.jpg", 0, 0},
		{"pct:0,0,0,0/max/0/default.jpg", 0, 0},
		{"all/max/0/default.jpg", 0, 0},
		// Sizes.
		{"full/150,/0/default.jpg", 150, 100},
		{"full/360,/0/default.jpg", 0, 0},
		{"full/^360,/0/default.jpg", 360, 240},
		{"full/,150/0/default.jpg", 225, 150},
		{"full/,240/0/default.jpg", 0, 0},
		{"full/^,240/0/default.jpg", 360, 240},
		{"full/pct:50/0/default.jpg", 150, 100},
		{"full/pct:120/0/default.jpg", 0, 0},
		{"full/^pct:120/0/default.jpg", 360, 240},
		{"full/225,100/0/default.jpg", 225, 100},
		{"full/^360,360/0/default.jpg", 360, 360},
		{"full/360,360/0/default.jpg", 0, 0},
		{"full/!225,100/0/default.jpg", 150, 100},
		{"full/!360,360/0/default.jpg", 300, 200},
		{"full/^!360,360/0/default.jpg", 360, 240},
		{"full/0,/0/default.jpg", 0, 0},
		{"full/,/0/default.jpg", 0, 0},
		{"full/!150,/0/default.jpg", 0, 0},
		{"full/pct:0/0/default.jpg", 0, 0},
		{"full/full/0/default.jpg", 0, 0}, // of version 2
		{"full/^9000,/0/default.jpg", 0, 0},
		{"full/-5,/0/default.jpg", 0, 0},
		{"full/99999999999999999999,/0/default.jpg", 0, 0},
		// Rotation.
		{"full/max/90/default.jpg", 300, 200},
		{"full/max/270/default.jpg", 300, 200},
		{"full/max/360/default.jpg", 300, 200},
		{"full/max/!180/default.jpg", 300, 200},
		{"full/max/22.5/default.jpg", 0, 0},
		{"full/max/-90/default.jpg", 0, 0},
		{"full/max/361/default.jpg", 0, 0},
		{"full/max/right/default.jpg", 0, 0},
		// Quality and format.
		{"full/max/0/color.png", 300, 200},
		{"full/max/0/gray.webp", 300, 200},
		{"full/max/0/bitonal.avif", 300, 200},
		{"full/max/0/default.auto", 300, 200},
		{"full/max/0/native.jpg", 0, 0},
		{"full/max/0/default.tif", 0, 0},
		{"full/max/0/default", 0, 0},
	} {
		p := strings.Split(c.request, "/")
		r, err := Parse(p[0], p[1], p[2], p[3])
		var j Job
		if err == nil {
			j, err = r.For(300, 200)
		}
		var says *Error
		switch {
		case c.w == 0 && (!errors.As(err, &says) || says.Detail == "" || says.Hint == ""):
			t.Errorf("%s gives %+v, %v; want a refusal with a hint", c.request, j, err)
		case c.w != 0 && (err != nil || j.Width != c.w || j.Height != c.h):
			t.Errorf("%s gives %d × %d, %v; want %d × %d", c.request, j.Width, j.Height, err, c.w, c.h)
		}
	}
}

// TestCropsHoldTheFocus asks for many proportions around many focal regions.
func TestCropsHoldTheFocus(t *testing.T) {
	for _, focus := range [][4]float64{{0, 0, .1, .1}, {.9, .9, .1, .1}, {.4, .2, .2, .2}, {.1, .6, .2, .3}} {
		for _, want := range [][2]int{{1, 1}, {3, 2}, {16, 9}, {2, 3}, {1, 2}} {
			b := Crop(1200, 800, want[0]*100, want[1]*100, focus)
			if b.X < 0 || b.Y < 0 || b.X+b.Width > 1200 || b.Y+b.Height > 800 || b.Width != 1200 && b.Height != 800 {
				t.Fatalf("%v of %v is %+v", want, focus, b)
			}
			if got := float64(b.Width) / float64(b.Height); got/(float64(want[0])/float64(want[1])) > 1.01 ||
				got/(float64(want[0])/float64(want[1])) < .99 {
				t.Errorf("%v of %v has the proportions %v", want, focus, got)
			}
			x, y := (focus[0]+focus[2]/2)*1200, (focus[1]+focus[3]/2)*800
			if x < float64(b.X) || x > float64(b.X+b.Width) || y < float64(b.Y) || y > float64(b.Y+b.Height) {
				t.Errorf("%v of %v leaves the focus out: %+v", want, focus, b)
			}
		}
	}
	if b := Crop(1200, 800, 400, 400, [4]float64{}); b != (Box{200, 0, 800, 800}) {
		t.Errorf("without a focus: %+v", b)
	}
}

func addresses() *Addresses {
	at := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	return &Addresses{
		Environment: "main",
		Secret:      []byte("s"),
		Ladder:      DefaultLadder,
		Now:         func() time.Time { return at },
	}
}

var harbour = Facts{
	Hash:      strings.Repeat("ab", 32),
	Name:      "Harbour at dawn.jpg",
	MediaType: "image/jpeg",
	Width:     2400,
	Height:    1600,
}

// rest is what stands behind the hash of a picture's address.
func rest(t *testing.T, address string) (string, url.Values) {
	t.Helper()
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	_, rest, ok := strings.Cut(u.Path, harbour.Hash+"/")
	if !ok {
		t.Fatalf("%s has no hash", address)
	}
	return rest, u.Query()
}

func TestAddressesAreGoodForWhatTheySay(t *testing.T) {
	a := addresses()
	for _, c := range []struct {
		want  model.Rendition
		path  string
		exact bool
	}{
		{model.Rendition{Width: 640}, "full/640,427/0/default.auto", false},
		{model.Rendition{Width: 641}, "full/641,427/0/default.auto", true},
		{model.Rendition{Width: 600, Height: 400, Fit: "cover"}, "full/600,400/0/default.auto", true},
		{model.Rendition{Width: 400, Height: 400, Format: "jpeg"}, "400,0,1600,1600/400,400/0/default.jpg", true},
		{model.Rendition{Width: 640, Quality: 40, Format: "webp"}, "full/640,427/0/default.webp", true},
		{model.Rendition{Width: 300, Height: 300, Fit: "inside"}, "full/300,200/0/default.auto", true},
		{model.Rendition{Width: 4800, Fit: "contain"}, "full/^4800,3200/0/default.auto", true},
		{model.Rendition{Width: 4800, Fit: "inside"}, "full/2400,1600/0/default.auto", false},
		{model.Rendition{Width: 4000, Height: 4000}, "400,0,1600,1600/1600,1600/0/default.auto", true},
	} {
		address := a.Picture(&harbour, Show(&harbour, &c.want))
		path, query := rest(t, address)
		if path != c.path {
			t.Errorf("%+v is at %s, want %s", c.want, path, c.path)
		}
		if s := a.Check(harbour.Hash, path, query); s.Exact != c.exact || s.Draft {
			t.Errorf("%s is signed for %+v", address, s)
		}
		p := strings.Split(path, "/")
		r, err := Parse(p[0], p[1], p[2], p[3])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.For(harbour.Width, harbour.Height); err != nil {
			t.Errorf("%s is not answered: %v", address, err)
		}
		if other, err := r.Snap(harbour.Width, harbour.Height, a.Ladder, false); !c.exact &&
			(err != nil || other != "") {
			t.Errorf("%s is led to %q, %v", address, other, err)
		}
		for _, wrong := range []string{strings.Replace(path, ",", "1,", 1), "0,0,10,10/10,10/0/default.jpg"} {
			if s := a.Check(harbour.Hash, wrong, query); s.Exact || s.Region {
				t.Errorf("the signature of %s is good for %s", path, wrong)
			}
		}
	}
	if got := a.File(&harbour); got != "/files/main/"+harbour.Hash+"/Harbour%20at%20dawn.jpg" {
		t.Error(got)
	}
}

func TestAddressesOfDraftsEnd(t *testing.T) {
	a, draft := addresses(), harbour
	draft.Draft = true
	u, err := url.Parse(a.File(&draft))
	if err != nil {
		t.Fatal(err)
	}
	if !a.Check(draft.Hash, "", u.Query()).Draft {
		t.Error("it is not good")
	}
	late := a.Now().Add(DraftAddressesFor)
	a.Now = func() time.Time { return late }
	if !a.Check(draft.Hash, "", u.Query()).Draft {
		t.Error("it ends earlier than it may")
	}
	late = late.AddDate(0, 0, 3)
	if a.Check(draft.Hash, "", u.Query()).Draft {
		t.Error("it never ends")
	}
	q := u.Query()
	q.Set("until", "9999999999")
	if a.Check(draft.Hash, "", q).Draft || a.Check(strings.Repeat("cd", 32), "", u.Query()).Draft {
		t.Error("another time, or another file, is good with the same signature")
	}
}

// TestSrcsetIsAnswered asks for every address of a srcset as a stranger would.
func TestSrcsetIsAnswered(t *testing.T) {
	a := addresses()
	for _, want := range []model.Rendition{{}, {Width: 600, Height: 600}, {Width: 320}, {Width: 100, Height: 50}} {
		var sources []Source
		if err := json.Unmarshal(a.AppendSrcset(nil, &harbour, Show(&harbour, &want)), &sources); err != nil {
			t.Fatal(err)
		}
		if len(sources) != 3 || sources[0].Type != "image/avif" || sources[2].Type != "image/jpeg" {
			t.Fatalf("%+v", sources)
		}
		for _, s := range sources {
			for _, one := range strings.Split(s.Srcset, ", ") {
				address, width, _ := strings.Cut(one, " ")
				path, query := rest(t, address)
				p := strings.Split(path, "/")
				r, err := Parse(p[0], p[1], p[2], p[3])
				if err != nil {
					t.Fatal(err)
				}
				j, err := r.For(harbour.Width, harbour.Height)
				if err != nil || width == "" {
					t.Fatalf("%s: %v", one, err)
				}
				signed := a.Check(harbour.Hash, path, query)
				if other, err := r.Snap(harbour.Width, harbour.Height, a.Ladder, signed.Region); err != nil ||
					other != "" {
					t.Errorf("%s (%d pixels) is led to %q, %v", address, j.Width, other, err)
				}
			}
		}
	}
}

func TestStrangersGetTheLadder(t *testing.T) {
	for request, want := range map[string]string{
		"full/640,/0/default.jpg":             "",
		"full/max/0/default.jpg":              "",
		"full/613,/0/default.jpg":             "full/640,/0/default.jpg",
		"full/pct:1/0/default.jpg":            "full/160,/0/default.jpg",
		"full/2399,/0/default.jpg":            "full/max/0/default.jpg",
		"square/!100,100/90/gray.png":         "square/160,/90/gray.png",
		"full/640,100/0/default.jpg":          "full/640,/0/default.jpg",
		"0,0,512,512/512,/0/default.jpg":      "",
		"1024,0,1024,1024/512,/0/default.jpg": "",
	} {
		p := strings.Split(request, "/")
		r, _ := Parse(p[0], p[1], p[2], p[3])
		if got, err := r.Snap(harbour.Width, harbour.Height, DefaultLadder, false); err != nil || got != want {
			t.Errorf("%s is led to %q, %v; want %q", request, got, err, want)
		}
	}
	r, _ := Parse("3,5,700,700", "160,", "0", "default.jpg")
	if _, err := r.Snap(harbour.Width, harbour.Height, DefaultLadder, false); err == nil {
		t.Error("a region of one's own is answered")
	}
	if got, err := r.Snap(harbour.Width, harbour.Height, DefaultLadder, true); err != nil || got != "" {
		t.Errorf("a signed region is led to %q, %v", got, err)
	}
}
