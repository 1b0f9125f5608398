package demo_test

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/testkit"
)

// TestTheCacheInTheConsole looks at an answer, supposes a publish, and throws
// answers away.
func TestTheCacheInTheConsole(t *testing.T) {
	for range 3 {
		get(t, reader(), "/routes?fields=name,slug&limit=3")
	}
	w := inBrowser(t, 0)
	base := line.Connection.Gateway + "/console"
	w.do(
		"to the cache", chromedp.Navigate(base+"/cache?search=slug%26limit%3D3"),
		chromedp.WaitVisible(chromedp.CSS("[data-held] button")),
	)
	w.do(
		"one answer", chromedp.Click(chromedp.CSS("[data-held] button")),
		chromedp.WaitVisible(chromedp.CSS("[data-explained]")),
	)
	w.shows("the list of route in en, by -about.firstPublished: 3 shown")
	w.press("Close")
	held, err := admin().Cache().Entries(t.Context(), api.CacheQuery{Search: "slug&limit=3"}, 1)
	if err != nil || len(held.Items) != 1 {
		t.Fatalf("%v %+v", err, held)
	}
	e, err := admin().Cache().Explain(t.Context(), held.Items[0].Key)
	if err != nil || len(e.Dependencies.Entries) != 3 {
		t.Fatalf("%v %+v", err, e)
	}
	w.do(
		"suppose", chromedp.Navigate(base+"/cache?suppose="+e.Dependencies.Entries[0].ID),
		chromedp.WaitVisible(chromedp.CSS("[data-supposed]")),
	)
	w.choose("What", "unpublish")
	w.shows("/routes?fields=name,slug&limit=3")
	w.do(
		"back", chromedp.Navigate(base+"/cache?search=slug%26limit%3D3"),
		chromedp.WaitVisible(chromedp.CSS("[data-held]")),
	)
	w.press("Purge…")
	w.press("Purge 1 answer")
	w.shows("No cached answer matches")
	a, err := reader().Do(t.Context(), http.MethodGet, "/content/main/published/routes?fields=name,slug&limit=3",
		http.Header{"Cache-Control": {"only-if-cached"}}, nil)
	if err != nil || a.Status != http.StatusGatewayTimeout {
		t.Errorf("still held: %v %d", err, a.Status)
	}
	testkit.Eventually(t, "this node is there", func() bool {
		nodes, err := admin().Cache().Nodes(t.Context())
		return err == nil && len(nodes) == 1 && nodes[0].Here
	})
}
