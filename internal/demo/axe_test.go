package demo_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit/browser"
)

// seen is a page, or a window of it, that is checked.
type seen struct {
	name, path string
	// ready is what stands there once it is loaded.
	ready string
	// open are what is pressed to get to the window: a script that returns the element.
	open []string
}

func button(words string) string {
	return fmt.Sprintf(
		`[...document.querySelectorAll("main button, [role=dialog] button")].find((b) => [b.innerText.trim(), b.getAttribute("aria-label")].includes(%q) && !b.disabled)`,
		words,
	)
}

// TestAccessible checks every page and window against WCAG 2.2 AA, as far as a program can, in
// light and dark colours and at both widths.
func TestAccessible(t *testing.T) {
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	entry := content.MakeID("harbour-office", "dispatch", "R-1009")
	local := idOf(t, "notice", "Ramp at Mella")
	dialog := "[role=dialog]"
	pages := []seen{
		{"Now", "/", "[data-figure]", nil},
		{"Types", "/types", "[data-type]", nil},
		{"new type", "/types", dialog, []string{button("New type")}},
		{"the model as a file", "/types", ".cm-content", []string{button("As a file")}},
		{"a type", "/types/page", "[data-field]", nil},
		{"a field", "/types/notice", "[data-option]", []string{button("Change severity")}},
		{"a field of blocks", "/types/page", "[data-inner]", []string{button("Change blocks")}},
		{"settings of a type", "/types/notice", dialog, []string{button("Settings…")}},
		{"Entries", "/entries?type=notice", "[data-entry]", nil},
		{"Files", "/files", "[data-file]", nil},
		{"files in a table", "/files?as=table", "tr[data-file]", nil},
		{"a file", "/files/" + content.MakeID(content.Local, "file", "ostra"), "[data-crop]", nil},
		{
			"delete a file", "/files/" + content.MakeID(content.Local, "file", "ostra"), dialog,
			[]string{button("Delete…")},
		},
		{
			"choose a file", "/entries/" + content.MakeID(content.Local, "pier", "ostra"), dialog + " [data-file]",
			[]string{button("Choose another…")},
		},
		{
			"a crop of one's own", "/entries/" + content.MakeID(content.Local, "pier", "ostra"), "[data-focal]",
			[]string{button("Description and crop for this entry alone…")},
		},
		{"a foreign entry", "/entries/" + entry, "[data-field]", nil},
		{"an entry", "/entries/" + local + "?beside=nb", "[data-prose]", nil},
		{"publish", "/entries/" + local, dialog, []string{button("Unpublish…")}},
		{"delete", "/entries/" + local, dialog, []string{button("Delete…")}},
		{"why", "/entries/" + local, "[data-visible], [data-reason]", []string{button("Why not visible?")}},
		{"history", "/entries/" + local + "?view=history", "[data-revision]", nil},
		{"differences", "/entries/" + local + "?view=differences", "main select", nil},
		{"a new entry", "/entries/new?type=page", "[data-field]", nil},
		{"Explorer", "/explorer?run=yes&request=/notices", "[data-answer]", nil},
		{"Keys", "/keys", "[data-reader]", nil},
		{"Preview links", "/previews", "main h1", nil},
		{"Why not visible", "/why?entry=light-run-rests-until-may", "[data-reason], [data-visible]", nil},
		{"Events", "/events", "main h1", nil},
		{"Sites", "/sites", "[data-site]", nil},
		{"pages of a site", "/sites/skerry-web/pages", "[data-page]", nil},
		{"preview beside the form", "/entries/" + local + "?preview=site", "iframe", nil},
		{"connect a site", "/sites", dialog, []string{button("Connect a site")}},
		{"a site as YAML", "/sites", dialog + " .cm-content", []string{button("Edit…")}},
		{"Origins", "/origins", "[data-origin]", nil},
		{"Shapes", "/shapes", "[data-shape]", nil},
		{"a shape", "/shapes/teaser", "[data-result]", nil},
		{"a new shape", "/shapes", dialog, []string{button("New shape")}},
		{"an origin", "/origins/tide-tables", "[data-tried]", []string{button("Fetch it")}},
		{"an origin that is to be", "/origins/harbour-master", "main .cm-content", nil},
		{"Rules", "/rules", "[data-run]", nil},
		{"a rule", "/rules/Show%20cancelled%20crossings%20at%20once", "[data-step=mail]", nil},
		{"a new rule", "/rules/+new", "main h1", nil},
		{"Mail", "/notifications", "[data-target]", nil},
		{"Secrets", "/secrets", "[data-secret]", nil},
		{"a new secret", "/secrets", dialog, []string{button("Add a secret")}},
		{"Cache", "/cache", "[data-chart]", nil},
		{"Settings", "/settings", "[data-coverage]", nil},
		{"Accounts", "/accounts", "main table", nil},
		{"Audit log", "/audit", "main h1", nil},
		{"your account", "/you", "[data-session]", nil},
		{"no such page", "/harbour", "main h1", nil},
		{"no such environment", "/../other/types", "main h1", nil},
		{
			"the palette",
			"/",
			"[data-palette]",
			[]string{`[...document.querySelectorAll("[aria-keyshortcuts='Control+K']")][0]`},
		},
		{"retire", "/entries/" + local, dialog, []string{button("Retire…")}},
		{"a new key", "/keys", dialog, []string{button("Make a key")}},
		{"a key", "/keys", "[data-key-detail]", []string{button("demo published")}},
		{"rotate", "/keys", dialog, []string{button("demo published"), button("Rotate…")}},
		{"revoke", "/keys", dialog, []string{button("demo published"), button("Revoke…")}},
		{"a new account", "/accounts", dialog, []string{button("Add an account")}},
		{"a new locale", "/settings", dialog, []string{button("Add a locale")}},
		{"retire a locale", "/settings", dialog, []string{button("Retire…")}},
		{"an answer explained", "/cache", dialog, []string{`document.querySelector("[data-held] button")`}},
		{"a change simulated", "/cache?suppose=" + local, "[data-supposed]", nil},
		{"purge", "/cache", dialog, []string{button("Purge…")}},
		{"save a view", "/entries?type=notice&state=draft", dialog, []string{button("Save view…")}},
		{"save a read", "/explorer?run=yes&request=/notices", dialog, []string{button("Save…")}},
	}
	tabs := make(chan writer, 2)
	for range cap(tabs) {
		w := signedIn(t)
		w.do("less motion", browser.LessMotion()) // colours are looked at where they have come to
		tabs <- w
	}
	t.Run("pages", func(t *testing.T) {
		for _, p := range pages {
			t.Run(p.name, func(t *testing.T) {
				t.Parallel()
				w := <-tabs
				defer func() { tabs <- w }()
				get(t, reader(), "/piers?fields=name") // so that something is held to look at
				writer{t, w.b}.accessible(p, string(axe))
			})
		}
	})
	// Last, as it ends the session.
	t.Run("signing in", func(t *testing.T) {
		w := writer{t, (<-tabs).b}
		w.do(
			"to a page",
			chromedp.EmulateViewport(1280, 800),
			chromedp.Navigate(
				line.Connection.Gateway+"/console/main/types",
			),
			chromedp.WaitVisible(chromedp.CSS("[data-type]")),
		)
		w.when("the session ends", "window.ended ??= (fetch('/control/v1/session', { method: 'DELETE' }).then(() => "+
			"window.over = true), true), !!window.over")
		w.shows("Your session has ended")
		w.accessibleNow("sign in again", string(axe))
		w.do(
			"to the door",
			chromedp.EmulateViewport(1280, 800),
			chromedp.Navigate(
				line.Connection.Gateway+"/console/",
			),
			chromedp.WaitVisible(chromedp.CSS("input[name=password]")),
		)
		w.accessibleNow("sign in", string(axe))
	})
}

// accessible checks a page at both widths and in both colours.
func (w writer) accessible(p seen, axe string) {
	w.t.Helper()
	w.goTo(p)
	for _, script := range p.open {
		press := "(() => { const b = " + script + "; if (!b || b.disabled) return false; b.click(); return true; })()"
		w.when(p.name+" is opened", press)
	}
	w.do(p.name, chromedp.WaitReady(chromedp.CSS(p.ready)))
	w.accessibleNow(p.name, axe)
}

// goTo goes to a page within the console, as its links do: loading it anew for each page would take half of the time.
// The way leads past a page that has no windows, so that nothing is left of the page before.
func (w writer) goTo(p seen) {
	w.t.Helper()
	const base = "/console/main"
	nowhere := `document.querySelector("main h1")?.innerText === "No such page"`
	to := func(path string) {
		w.t.Helper()
		w.do("to "+path, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(
			`history.pushState(null, "", %q), dispatchEvent(new PopStateEvent("popstate", { state: null })), undefined`,
			base+path,
		)))
	}
	w.do("width", chromedp.EmulateViewport(1280, 800))
	if w.value("location.pathname.split('/').slice(0, 3).join('/')") == base && !strings.HasPrefix(p.path, "/..") {
		to("/harbour")
		w.when("a page without windows", nowhere)
		if w.value(`String(document.querySelector("[role=dialog], [data-palette]") === null)`) == "true" {
			to(p.path)
			w.when("to "+p.name, fmt.Sprintf(
				`(%s) === %t && !!document.querySelector("main h1")`, nowhere, p.path == "/harbour",
			))
			return
		}
	}
	w.do(
		"to "+p.name, chromedp.Navigate(line.Connection.Gateway+base+p.path),
		chromedp.WaitVisible(chromedp.CSS("main h1")),
	)
}

// accessibleNow checks what is shown, at both widths and in both colours.
func (w writer) accessibleNow(name, axe string) {
	w.t.Helper()
	for _, width := range []int64{1280, 768} {
		w.do("width", chromedp.EmulateViewport(width, 800))
		for _, mode := range []string{"light", "dark"} {
			w.when(name+" stands still", fmt.Sprintf(`(() => {
				const root = document.documentElement;
				root.classList.remove("light", "dark");
				root.classList.add(%q);
				return !document.querySelector("[aria-busy=true]") && document.getAnimations().every((a) => a.playState !== "running");
			})()`, mode))
			if width == 768 && mode == "dark" {
				continue // its colours are those of the wider page
			}
			for _, v := range w.violations(axe, mode == "dark") {
				w.t.Errorf("%s, %s, %d px: %s", name, mode, width, v)
			}
		}
	}
}

// violations are what axe finds wrong with the page shown; in other colours only what goes by
// colours can be another.
func (w writer) violations(axe string, colours bool) []string {
	w.t.Helper()
	within, cancel := context.WithTimeout(w.b, 60*time.Second)
	defer cancel()
	load := chromedp.Evaluate[chromedp.Void]("window.axe || (() => {" + axe + "})(); undefined")
	if err := chromedp.Do(within, load); err != nil {
		w.t.Fatal(err)
	}
	rules := `["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]`
	if colours {
		rules = `{ type: "rule", values: ["color-contrast", "link-in-text-block"] }`
	}
	out, err := chromedp.Run(within, chromedp.Evaluate[[]string](`axe.run(document, {
		runOnly: `+rules+`, resultTypes: ["violations"], preload: false,
	}).then((r) => r.violations.flatMap((v) => v.nodes.map((n) => v.id + ": " + n.target.join(" ") + " " + n.html.slice(0, 160) + " " +
		n.any.concat(n.all, n.none).map((c) => c.message).join("; ").slice(0, 200))))`,
		chromedp.EvalAwaitPromise,
	))
	if err != nil {
		w.t.Fatal(err)
	}
	return out
}

// idOf returns the id of the entry that a search finds.
func idOf(t *testing.T, typ, search string) string {
	t.Helper()
	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Type: typ, Search: search, Limit: 1})
	if err != nil || len(items) == 0 {
		t.Fatalf("no %s called %s: %v", typ, search, err)
	}
	return items[0].ID
}
