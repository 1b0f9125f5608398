package demo_test

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
)

// TestPublishRefetchesOnlyAffectedQueries counts the requests of the Entries page after a publish.
func TestPublishRefetchesOnlyAffectedQueries(t *testing.T) {
	w := signedIn(t)
	id := draftOf(t, "pier", map[string]any{"name": "Gullholmen"})
	w.do(
		"to Entries", chromedp.Navigate(line.Connection.Gateway+"/console/entries?type=pier&search=Gullholmen"),
		chromedp.WaitVisible(chromedp.CSS("[data-entry]")),
	)
	w.shows("● live")
	w.when("nothing is being fetched", `(() => {
		const all = performance.getEntriesByType("resource").length;
		window.still = window.fetched === all ? (window.still ?? 0) + 1 : 0;
		window.fetched = all;
		return window.still > 100;
	})()`)
	w.do("begin to count", chromedp.Evaluate[chromedp.Void]("performance.clearResourceTimings(), undefined"))
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Do: "publish"}); err != nil {
		t.Fatal(err)
	}
	w.when("the list shows it", "/published/.test(document.querySelector('[data-entry]')?.innerText ?? '')")
	asked, err := chromedp.Run(w.b, chromedp.Evaluate[[]string](
		"performance.getEntriesByType('resource').map((r) => r.name).filter((name) => name.includes('/control/v1/'))",
	))
	if err != nil || len(asked) < 1 || len(asked) > 2 {
		t.Errorf("requests after a publish: %q, %v", asked, err)
	}
}

// TestStreamLostAndBack cuts the connection while an entry is being written: the list catches up with
// what was published meanwhile, and what was typed is still there.
func TestStreamLostAndBack(t *testing.T) {
	gateway, err := url.Parse(line.Connection.Gateway)
	if err != nil {
		t.Fatal(err)
	}
	var cut atomic.Bool
	proxy := &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(gateway)
		r.Out.Host = r.In.Host
	}}
	between := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if cut.Load() {
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(rw, r)
	}))
	t.Cleanup(between.Close)

	id := draftOf(t, "pier", map[string]any{"name": "Lillholmen"})
	w := signedInAt(t, between.URL)
	w.do(
		"to the entry", chromedp.Navigate(between.URL+"/console/main/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")),
	)
	w.shows("● live")
	w.write("Name", " east")
	cut.Store(true)
	between.CloseClientConnections()
	w.shows("○ not connected, trying")
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Do: "publish"}); err != nil {
		t.Fatal(err)
	}
	cut.Store(false)
	w.shows("● live")
	w.when("it is shown as published", "/published/i.test(document.querySelector('main').innerText)")
	w.when("what was typed is there", "document.querySelector('[data-field=name] input').value === 'Lillholmen east'")
	w.control("s")
	w.shows("Draft saved.")
}
