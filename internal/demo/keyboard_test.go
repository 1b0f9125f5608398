package demo_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ubiquon/internal/api"
)

// tabTo presses Tab until the control of this name has the focus.
func (w writer) tabTo(name string) {
	w.t.Helper()
	focused := fmt.Sprintf(`(() => {
		const e = document.activeElement;
		const named = e.getAttribute("aria-label") ?? e.labels?.[0]?.innerText.trim() ?? e.innerText?.trim();
		return named === %q;
	})()`, name)
	for range 80 {
		w.do("Tab", chromedp.KeyEvent(kb.Tab))
		if ok, err := chromedp.Run(w.b, chromedp.Evaluate[bool](focused)); err == nil && ok {
			return
		}
	}
	w.t.Fatalf("Tab does not lead to %s", name)
}

// TestWritingByKeyboard makes a type, writes an entry of it and publishes it without a mouse.
func TestWritingByKeyboard(t *testing.T) {
	m, err := admin().Models().Present(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	yaml := string(m.YAML())
	w := signedIn(t)
	palette := func(text string) {
		t.Helper()
		w.control("k")
		w.do("the palette", chromedp.WaitVisible(chromedp.CSS("[data-palette] input")), chromedp.KeyEvent(text))
		w.when(text+" is found", fmt.Sprintf(
			`document.querySelector("[data-palette] [aria-selected=true]")?.innerText.trim().startsWith(%q)`, text,
		))
		w.do("take it", chromedp.KeyEvent(kb.Enter))
	}
	window := func(open bool) {
		t.Helper()
		w.when("the window", fmt.Sprintf("!!document.querySelector('[data-window]') === %v", open))
	}

	palette("Types")
	w.do("the types", chromedp.WaitVisible(chromedp.CSS("[data-type=notice]")))
	w.tabTo("New type")
	w.do("open it", chromedp.KeyEvent(kb.Enter))
	window(true)
	w.when("the name has the focus", "document.activeElement?.name === 'name'")
	w.do("its name", chromedp.KeyEvent("quay"+kb.Enter))
	w.when("its page", "location.pathname === '/console/main/types/quay'")
	window(false)
	w.tabTo("Field")
	w.do("open it", chromedp.KeyEvent(kb.Enter))
	window(true)
	w.when("the name has the focus", "document.activeElement?.name === 'name'")
	w.do("its name", chromedp.KeyEvent("name"+kb.Enter))
	window(false)
	w.when("it can be applied", "document.querySelector('[data-plan]')?.dataset.plan === '1' && "+
		`[...document.querySelectorAll("main button")].some((b) => b.innerText.trim() === "Apply" && !b.disabled)`)
	w.tabTo("Apply")
	w.do("apply", chromedp.KeyEvent(kb.Enter))
	w.when("the model is applied", "!document.querySelector('[data-plan]')")

	palette("New entry")
	w.when("what kinds there are", "location.pathname === '/console/main/entries/new' && "+
		"document.querySelectorAll('main button').length > 5")
	w.tabTo("quay")
	w.do("choose it", chromedp.KeyEvent(kb.Enter), chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")))
	w.tabTo("Name")
	w.do("write", chromedp.KeyEvent("Nordkai"))
	w.control("s")
	w.when("it has its page", "document.querySelector('main h1')?.innerText === 'Nordkai'")
	w.tabTo("Publish…")
	w.do("open it", chromedp.KeyEvent(kb.Enter))
	window(true)
	w.tabTo("Publish")
	w.do("publish", chromedp.KeyEvent(kb.Enter))
	window(false)
	w.when(
		"it is told",
		`[...document.querySelectorAll("[data-toast]")].some((t) => t.innerText.includes("published as"))`,
	)
	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Type: "quay"})
	if err != nil || len(items) != 1 || items[0].State != "published" || !strings.Contains(items[0].Title, "Nordkai") {
		t.Errorf("%+v, %v", items, err)
	}
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: items[0].ID, Do: "delete"}); err != nil {
		t.Error(err)
	}
	if err := admin().Models().Apply(t.Context(), map[string]string{"model.yaml": yaml}, true, 0, nil); err != nil {
		t.Error(err)
	}
}
