package demo_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
)

// TestThePreviewBesideTheForm writes a notice with the site's preview beside it: it is loaded again when it
// is saved, at the widths of devices, with what is published beside it.
func TestThePreviewBesideTheForm(t *testing.T) {
	found, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Type: "notice", Search: "Ramp at Mella"})
	if err != nil || len(found) != 1 {
		t.Fatal(err, found)
	}
	id := found[0].ID
	before, err := admin().Keys().Previews(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	w := signedIn(t)
	w.do("to the notice", chromedp.Navigate(line.Connection.Gateway+"/console/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=title] input")))
	w.press("Preview on the site")
	w.do("the frame", chromedp.WaitVisible(chromedp.CSS("iframe[title='Preview on skerry-web']")))
	w.when("the frame is the site's preview", fmt.Sprintf("document.querySelector('iframe').src.startsWith(%q)",
		line.Connection.Slipway+"/preview?path=%2Fnotices%2Framp-at-mella-under-repair&token=ubv_"))
	w.when("the frame is as wide as a telephone", "document.querySelector('iframe').style.width === '390px'")
	w.press("desktop")
	w.when("the frame is a desktop, made smaller", "document.querySelector('iframe').style.width === '1280px' && "+
		"document.querySelector('iframe').getBoundingClientRect().width < 700")
	w.when("the frame that is there is known", "(window.frame = document.querySelector('iframe')) !== null")
	w.write("Title, English", " still")
	w.press("Save draft")
	w.when(
		"another frame is loaded",
		"!!document.querySelector('iframe') && document.querySelector('iframe') !== window.frame",
	)
	links, err := admin().Keys().Previews(t.Context(), id)
	if err != nil || len(links) != len(before)+1 {
		t.Errorf("one link is enough: %+v, %v", links, err)
	}
	w.press("published beside")
	w.when("both are there", fmt.Sprintf("[...document.querySelectorAll('iframe')].map((f) => f.src)[0] === %q",
		line.Connection.Slipway+"/notices/ramp-at-mella-under-repair"))
	in := func(frame string) string {
		within, cancel := context.WithTimeout(w.b, time.Minute)
		defer cancel()
		nodes, err := chromedp.Run(within, chromedp.Nodes(chromedp.CSS("iframe[title^='"+frame+"']")))
		if err != nil {
			t.Fatal(err)
		}
		text, err := chromedp.Run(within, chromedp.Text(chromedp.CSS("main"), chromedp.FromNode(nodes[0])))
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	if text := in("Preview"); !strings.Contains(text, "still") || !strings.Contains(text, "This is a preview") {
		t.Errorf("in preview: %s", text)
	}
	if text := in("Published"); strings.Contains(text, "still") || strings.Contains(text, "This is a preview") {
		t.Errorf("published: %s", text)
	}
	w.shows("/notices/ramp-at-mella-under-repair") // on these pages
	resp, err := http.Get(line.Connection.Gateway + "/console/")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if csp := resp.Header.Get("Content-Security-Policy"); !strings.HasSuffix(
		csp,
		"; frame-src "+line.Connection.Slipway,
	) {
		t.Errorf("frames of %s", csp)
	}
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Do: "discard"}); err != nil {
		t.Fatal(err)
	}
}
