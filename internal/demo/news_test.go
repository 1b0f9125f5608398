package demo_test

import (
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
