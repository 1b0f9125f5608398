package demo_test

import (
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ubiquon/internal/api"
	"ubiquon/internal/testkit"
)

// pictureFile writes a picture to disk and returns its path.
func pictureFile(t *testing.T, name string) string {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, 900, 600))
	for y := range 600 {
		for x := range 900 {
			c := color.RGBA{uint8(40 + len(name)), 90, uint8(120 + y/6), 255}
			if x > 700 && x < 800 && y > 400 && y < 500 {
				c = color.RGBA{230, 120, 20, 255}
			}
			img.Set(x, y, c)
		}
	}
	path := filepath.Join(t.TempDir(), name)
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := png.Encode(f, img); err != nil {
		t.Fatal(err)
	}
	return path
}

// chooseFile has a file chosen, as its window does.
func (w writer) chooseFile(selector, path string) {
	w.t.Helper()
	w.do("choose "+path, chromedp.SetUploadFiles(chromedp.CSS(selector), []string{path}))
}

// TestAPictureGoesToTheSite uploads a picture in a new entry, says what it shows, publishes, and
// finds it on the built page in the sizes that the page asks for; then describes the file anew.
func TestAPictureGoesToTheSite(t *testing.T) {
	w := signedIn(t)
	w.do("to a new pier", chromedp.EmulateViewport(1280, 800),
		chromedp.Navigate(line.Connection.Gateway+"/console/main/entries/new?type=pier"),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")))
	w.replace("Name", "Petrel Quay")
	w.chooseFile("[data-field=picture] input[type=file]", pictureFile(t, "petrel-quay.png"))
	w.when("it is uploaded", `document.querySelector("[data-file-field]")?.dataset.fileField !== "" &&
		!!document.querySelector("[data-crop=card]")`)
	w.shows("petrel-quay.png")
	w.press("Save draft")
	w.when("it has its page", `document.querySelector("main h1")?.innerText === "Petrel Quay"`)
	w.press("Publish…")
	w.when("the window", `!!document.querySelector("[role=dialog]")`)
	w.press("Publish")
	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Type: "pier", Search: "Petrel Quay"})
	if err != nil || len(items) != 1 {
		t.Fatal(items, err)
	}
	defer func() {
		if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: items[0].ID, Do: "delete"}); err != nil {
			t.Error(err)
		}
	}()
	picture := regexp.MustCompile(`<img src="([^"]+)" alt="([^"]*)" width="(\d+)"`)
	var page string
	testkit.Eventually(t, "the page of the site shows it", func() bool {
		resp, err := http.Get(line.Connection.Slipway + "/piers/petrel-quay/")
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		page = string(body)
		return resp.StatusCode == 200 && picture.MatchString(page)
	})
	shown := picture.FindStringSubmatch(page)
	if shown[3] != "800" || !strings.Contains(page, `type="image/avif"`) || !strings.Contains(page, "/640,/") {
		t.Errorf("the page: %s", page)
	}
	resp, err := http.Get(strings.ReplaceAll(shown[1], "&amp;", "&"))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 || !strings.HasPrefix(resp.Header.Get("Content-Type"), "image/") {
		t.Errorf("%s: %s %s", shown[1], resp.Status, resp.Header.Get("Content-Type"))
	}

	// The file itself: what it shows, and what no crop leaves out.
	w.click("the file", `document.querySelector("[data-file-field] a")`)
	w.do("the file", chromedp.WaitVisible(chromedp.CSS("[data-region]")))
	w.write("Description, English", "A quay in the evening")
	w.when(
		"the crops stand in the middle",
		`document.querySelector("[data-crop$=badge]")?.dataset.box === "150,0,600,600"`,
	)
	var at []float64
	if at, err = chromedp.Run(w.b, chromedp.Evaluate[[]float64](`(() => {
		const frame = document.querySelector("[data-focal] img");
		frame.scrollIntoView({ block: "center" });
		const { x, y, width, height } = frame.getBoundingClientRect();
		return [x, y, width, height];
	})()`)); err != nil {
		t.Fatal(err)
	}
	// It is drawn around the orange spot with the mouse.
	w.drag(at[0]+at[2]*.78, at[1]+at[3]*.67, at[0]+at[2]*.89, at[1]+at[3]*.83)
	w.when("the crops follow", `document.querySelector("[data-crop$=badge]")?.dataset.box.startsWith("300,0,")`)
	left := `document.querySelector("[data-focal] input").value`
	before := w.value(left)
	w.do("arrow keys", chromedp.Focus(chromedp.CSS("[data-region]")), chromedp.KeyEvent(kb.ArrowLeft))
	w.when("it moves", fmt.Sprintf(`%s !== %q`, left, before))
	w.press("Save and publish")
	w.shows("Saved and published")
	testkit.Eventually(t, "the site has the description", func() bool {
		resp, err := http.Get(line.Connection.Slipway + "/piers/petrel-quay/")
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return strings.Contains(string(body), `alt="A quay in the evening"`)
	})
	w.press("Delete…")
	w.shows("1 entry shows it")
}

// drag presses the mouse at a place, moves it to another and lets go.
func (w writer) drag(fromX, fromY, toX, toY float64) {
	w.t.Helper()
	w.do("drag", chromedp.MouseEvent(chromedp.MousePressed, fromX, fromY, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, (fromX+toX)/2, (fromY+toY)/2, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, toX, toY, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseReleased, toX, toY, chromedp.ButtonLeft))
}
