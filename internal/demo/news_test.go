package demo_test

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
)

// TestPublishRefetchesOnlyAffectedQueries counts the requests of the Entries page after a publish.
func TestPublishRefetchesOnlyAffectedQueries(t *testing.T) {
	w := signedIn(t)
	out, err := admin().Entries().Edit(t.Context(), api.Edit{
		Type: "pier", Save: map[string]any{"name": "Gullholmen"},
	})
	if err != nil {
		t.Fatal(err)
	}
	id := out.Entries[0].ID
	t.Cleanup(func() {
		if _, err := admin().Entries().Edit(context.Background(), api.Edit{ID: id, Do: "delete"}); err != nil {
			t.Error(err)
		}
	})
	w.do(
		"to Entries", chromedp.Navigate(line.Connection.Gateway+"/console/entries?type=pier&search=Gullholmen"),
		chromedp.WaitVisible(chromedp.CSS("[data-entry]")),
	)
	w.shows("● live")
	w.when("nothing is being fetched", `(() => {
		const all = performance.getEntriesByType("resource").length;
		const same = window.fetched === all;
		window.fetched = all;
		return same;
	})()`)
	w.do("begin to count", chromedp.Evaluate[chromedp.Void]("performance.clearResourceTimings(), undefined"))
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Do: "publish"}); err != nil {
		t.Fatal(err)
	}
	w.when("the list shows it", "/published/.test(document.querySelector('[data-entry]')?.innerText ?? '')")
	n, err := chromedp.Run(w.b, chromedp.Evaluate[int](
		"performance.getEntriesByType('resource').filter((r) => r.name.includes('/control/v1/')).length",
	))
	if err != nil || n < 1 || n > 2 {
		t.Errorf("%d requests after a publish, %v", n, err)
	}
}
