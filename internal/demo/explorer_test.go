package demo_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ubiquon/internal/api"

	"github.com/chromedp/chromedp"
)

// into types into one of the explorer's texts, in place of what stands there.
func (w writer) into(label, text string) {
	w.t.Helper()
	selector := "[data-editor='" + label + "'] .cm-content"
	w.do(
		"into "+label,
		chromedp.WaitVisible(chromedp.CSS(selector)),
		chromedp.Click(chromedp.CSS(selector)),
		chromedp.Evaluate[chromedp.Void](
			`document.execCommand("selectAll")`,
		),
		chromedp.Evaluate[chromedp.Void](`document.execCommand("delete")`),
		chromedp.KeyEvent(text),
	)
}

// take chooses what is offered at the cursor. The editor overlooks a press while it asks anew
// for what to offer, as after a key that was struck just before, so it is pressed until it is taken.
func (w writer) take(label string) {
	w.t.Helper()
	w.when("taken: "+label, fmt.Sprintf(`(() => {
		const found = [...document.querySelectorAll(".cm-completionLabel")].find((e) => e.innerText === %q);
		if (!found) return document.querySelector(".cm-focused .cm-content").innerText.includes(%[1]q);
		found.dispatchEvent(new MouseEvent("mousedown", { bubbles: true, cancelable: true }));
		return false;
	})()`, label))
}

// TestTheExplorer reads with the console: with completion, with mistakes shown where
// they are, as others, and in both spellings.
func TestTheExplorer(t *testing.T) {
	w := inBrowser(t, 0)
	base := line.Connection.Gateway + "/console"
	w.do(
		"to the explorer", chromedp.Navigate(base+"/explorer"),
		chromedp.WaitVisible(chromedp.CSS("select[aria-label=What]")),
	)
	w.choose("What", "notices")
	w.into("Fields", "title,rou")
	w.take("routes")
	w.do("its parts", chromedp.KeyEvent("(na"))
	w.take("name")
	w.into("Filter", "severity = 'de")
	w.take("delay")
	w.press("Read")
	w.do("the answer", chromedp.WaitVisible(chromedp.CSS("[data-answer='200']")))
	w.shows("the list of notice in en")
	w.when(
		"the read is in the address",
		`new URLSearchParams(location.search).get("request").startsWith("/notices?fields=title,routes(name)&filter=severity")`,
	)
	const request = "decodeURIComponent(new URLSearchParams(location.search).get('request'))"
	if at := w.value(request); at != "/notices?fields=title,routes(name)&filter=severity = 'delay'" {
		t.Errorf("the request is %s", at)
	}
	w.tick("with PostgreSQL's plans")
	w.press("Read")
	w.press("Statements")
	w.shows("actual rows=")

	w.into("Fields", "title,rutes")
	w.press("Read")
	w.do("it is refused", chromedp.WaitVisible(chromedp.CSS("[data-answer='400']")))
	w.when(
		"at its place", `document.querySelector("[data-editor=Fields] .cm-lintRange-error")?.innerText === "rutes"`,
	)
	w.into("Fields", "title")
	w.choose("Read by", "everyone")
	w.press("Read")
	w.do("everyone may not", chromedp.WaitVisible(chromedp.CSS("[data-answer='401']")))
	w.press("Ask why")
	w.do("why", chromedp.WaitVisible(chromedp.CSS("[data-reason]")))

	w.do(
		"GraphQL, from a link",
		chromedp.Navigate(
			base+"/explorer?language=nb&query="+
				`query+One($slug:String!){notice(slug:$slug){title+titel}}&variables={"slug":"x"}`,
		),
		chromedp.WaitVisible(chromedp.CSS("[data-answer='400']")),
	)
	w.when("at its place", `document.querySelector("[data-editor=Query] .cm-lintRange-error")?.innerText === "titel"`)
	w.into("Query", "{ notices { totalC")
	w.take("totalCount")
	w.into("Variables", " ")
	w.press("Read")
	w.do("the answer", chromedp.WaitVisible(chromedp.CSS("[data-answer='200']")))
	var page struct{ Window struct{ Total int } }
	if err := json.Unmarshal(get(t, reader(), "/notices?count=true&fields=id").Body, &page); err != nil ||
		page.Window.Total == 0 {
		t.Fatal(err, page)
	}
	counted := fmt.Sprintf("\"totalCount\": %d", page.Window.Total)
	w.shows(counted)

	w.press("Copy as…")
	w.do("as", chromedp.WaitVisible(chromedp.CSS("[data-share=curl]")))
	if curl := w.value("document.querySelector('[data-share=curl] pre').innerText"); !strings.Contains(
		curl, "$UBIQUON_KEY",
	) ||
		!strings.Contains(curl, "Accept-Language: nb") ||
		strings.Contains(curl, "ubq_") {
		t.Errorf("curl: %s", curl)
	}
	w.press("Close")
	w.press("Save…")
	w.write("Name", "how many notices")
	w.press("Save")
	w.shows("/console/main/explorer?saved=")
	kept, err := admin().Reads().SavedReads(t.Context())
	if err != nil || len(kept) != 1 || kept[0].Name != "how many notices" {
		t.Fatalf("%v %+v", err, kept)
	}
	t.Cleanup(func() { _ = admin().Reads().ForgetRead(context.Background(), kept[0].ID) })
	w.do(
		"the link", chromedp.Navigate(base+"/explorer?saved="+kept[0].ID),
		chromedp.WaitVisible(chromedp.CSS("[data-answer='200']")),
	)
	w.shows(counted)
	w.press("Earlier and kept")
	w.shows("how many notices")

	out, err := admin().Reads().Examine(t.Context(), api.ReadQuestion{Request: "/notices?fields=title&limit=1"})
	if err != nil || len(out.Titles) == 0 {
		t.Errorf("what it depends on is not named: %v %v", err, out.Titles)
	}
}
