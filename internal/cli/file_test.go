package cli

import (
	"bytes"
	"encoding/json"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/testkit"
)

// TestAPictureByCommandLine takes a picture from a file onto the built page of the site: uploaded,
// described, shown in an entry, published; then replaced, refused to be removed, and removed.
func TestAPictureByCommandLine(t *testing.T) {
	picture := func(name string, w int) string {
		img := image.NewRGBA(image.Rect(0, 0, w, w*2/3))
		for i := range img.Pix {
			img.Pix[i] = uint8(i / w)
		}
		img.Set(1, 1, color.White)
		var b bytes.Buffer
		if err := jpeg.Encode(&b, img, nil); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, b.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	var added struct{ Items []api.File }
	out := must(
		t,
		"file",
		"add",
		picture("gull-stair.jpg", 1500),
		"--alt",
		"The stair in the rain",
		"--alt",
		"nb=Trappa i regn",
		"--focus",
		"55,40,10,20",
		"--tag",
		"piers",
		"-o",
		"json",
	)
	if err := json.Unmarshal([]byte(out), &added); err != nil || len(added.Items) != 1 {
		t.Fatal(out, err)
	}
	f := added.Items[0]
	if f.Name != "gull-stair.jpg" || f.Width != 1500 || f.Published {
		t.Errorf("%+v", f)
	}
	made := must(t, "entry", "create", "pier", "--set", "name=Gull Stair", "--set", "picture="+f.ID)
	id := savedID.FindStringSubmatch(made)[1]
	must(t, "entry", "publish", id)
	page := func() string {
		resp, err := http.Get(line.Connection.Slipway + "/piers/gull-stair/")
		if err != nil {
			return ""
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return string(body)
	}
	testkit.Eventually(t, "the site shows it", func() bool {
		return strings.Contains(page(), `alt="The stair in the rain"`) && strings.Contains(page(), "/640,/")
	})
	if out := must(t, "read", "/piers/gull-stair?fields=picture(badge)"); !strings.Contains(out, "/400,0,1000,1000/") {
		t.Errorf("the crop does not follow the focal region: %s", out)
	}
	for _, want := range []string{"Gull Stair", "pier.picture", "1500 × 1000", "published", "Trappa i regn"} {
		if out := must(t, "file", "show", f.ID); !strings.Contains(out, want) {
			t.Errorf("file show lacks %q: %s", want, out)
		}
	}
	if out := must(t, "file", "list", "--tag", "piers"); !strings.Contains(out, f.ID) ||
		!strings.Contains(out, "image/jpeg") {
		t.Error(out)
	}
	must(t, "file", "describe", f.ID, "--alt", "The stair in the sun")
	testkit.Eventually(
		t,
		"the site says it anew",
		func() bool { return strings.Contains(page(), "The stair in the sun") },
	)
	if out := must(t, "file", "replace", f.ID, picture("gull-stair-2.jpg", 900), "--publish"); !strings.Contains(
		out,
		"900 × 600",
	) {
		t.Error(out)
	}
	testkit.Eventually(t, "the site shows the other one", func() bool {
		return strings.Contains(page(), "Gull Stair") && !strings.Contains(page(), "/1280,/")
	})
	refused(t, "Shown by Gull Stair", "file", "remove", f.ID)
	refused(t, "no such file or directory", "file", "add", "/nowhere/x.jpg")
	refused(t, "focal region", "file", "describe", f.ID, "--focus", "90,0,50,10")
	for want, args := range map[string][]string{"give x,y,width,height": {"--focus", "1,2"}, "say what": nil} {
		if code, _, errOut := run(t, append([]string{"file", "describe", f.ID}, args...)...); code != exitMisuse ||
			!strings.Contains(errOut, want) {
			t.Errorf("%v: exit %d, %s; want %q", args, code, errOut, want)
		}
	}
	broken := file(t, "this is no picture")
	if err := os.Rename(broken, broken+".png"); err != nil {
		t.Fatal(err)
	}
	refused(t, "its bytes are text/plain", "file", "add", broken+".png")
	must(t, "entry", "delete", id, "--yes")
	must(t, "file", "remove", f.ID)
	if out := must(t, "file", "check", "--hashes"); !strings.Contains(out, "missing    none") {
		t.Error(out)
	}
}

// TestALargeFileGoesInPieces uploads more than fits into one piece.
func TestALargeFileGoesInPieces(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tides.bin")
	if err := os.WriteFile(path, bytes.Repeat([]byte("high and low "), 2<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	var added struct{ Items []api.File }
	if err := json.Unmarshal([]byte(must(t, "file", "add", path, "-o", "json")), &added); err != nil {
		t.Fatal(err)
	}
	if f := added.Items[0]; f.Bytes != 13*2<<20 || f.Name != "tides.bin" {
		t.Errorf("%+v", f)
	}
	must(t, "file", "remove", added.Items[0].ID)
}
