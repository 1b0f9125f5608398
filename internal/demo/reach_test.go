package demo_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ubiquon/internal/api"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// control presses a key together with Control.
func (w writer) control(key string) {
	w.t.Helper()
	w.do("Control "+key, chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// TestPaletteReachesPagesEntriesAndActions finds all three by keyboard alone.
func TestPaletteReachesPagesEntriesAndActions(t *testing.T) {
	w := signedIn(t)
	find := func(text string) {
		t.Helper()
		w.control("k")
		w.do("the palette", chromedp.WaitVisible(chromedp.CSS("[data-palette] input")))
		w.do(text, chromedp.KeyEvent(text))
		w.when(text+" is found", fmt.Sprintf(
			`document.querySelector("[data-palette] [aria-selected=true]")?.innerText.toLowerCase().includes(%q)`,
			strings.ToLower(text),
		))
		w.do("take it", chromedp.KeyEvent(kb.Enter))
		w.when("the palette is gone", "!document.querySelector('[data-palette]')")
	}
	find("Audit log")
	w.when("the page", "location.pathname === '/console/main/audit'")
	w.when(
		"the title has the focus",
		"document.activeElement?.tagName === 'H1' && document.title.startsWith('Audit log')",
	)
	find("Ramp at Mella")
	w.when("the entry", "document.querySelector('main h1')?.innerText.startsWith('Ramp at Mella')")
	w.do("its form", chromedp.WaitVisible(chromedp.CSS("[data-field=title]")))
	find("History")
	w.do("its history", chromedp.WaitVisible(chromedp.CSS("[data-revision]")))
}

// TestNarrowScreens works at 768 px: the menu is a drawer, and the page does not scroll sideways.
func TestNarrowScreens(t *testing.T) {
	w := signedIn(t)
	w.do("narrow", chromedp.EmulateViewport(768, 800))
	w.click("the menu", `document.querySelector("header button[aria-label=Menu]")`)
	w.click(
		"Entries",
		`[...document.querySelectorAll("[role=dialog] nav a")].find((a) => a.innerText.trim() === "Entries")`,
	)
	w.do("the list", chromedp.WaitVisible(chromedp.CSS("[data-entry]")))
	w.when("the drawer has closed", "!document.querySelector('[role=dialog]')")
	for _, path := range []string{
		"/", "/entries", "/types/notice", "/keys", "/cache", "/events", "/settings", "/explorer?request=/notices",
	} {
		w.do("to "+path, chromedp.Navigate(line.Connection.Gateway+"/console/main"+path),
			chromedp.WaitVisible(chromedp.CSS("main h1")))
		w.when(path+" fits", "document.documentElement.scrollWidth <= innerWidth")
	}
}

// draftOf saves an entry for the time of the test, and returns its id.
func draftOf(t *testing.T, typ string, fields map[string]any) string {
	t.Helper()
	out, err := admin().Entries().Edit(t.Context(), api.Edit{Type: typ, Save: fields})
	if err != nil {
		t.Fatal(err)
	}
	id := out.Entries[0].ID
	t.Cleanup(func() {
		if _, err := admin().Entries().Edit(context.Background(), api.Edit{ID: id, Do: "delete"}); err != nil {
			t.Error(err)
		}
	})
	return id
}

// TestSaveKeyAndPresence saves with Control-S, and shows who edits which field.
func TestSaveKeyAndPresence(t *testing.T) {
	id := draftOf(t, "pier", map[string]any{"name": "Otholmen"})
	w := signedIn(t)
	w.do("to the entry", chromedp.Navigate(line.Connection.Gateway+"/console/main/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")))
	w.write("Name", " north")
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost,
		line.Connection.Gateway+"/control/v1/entries/"+id+"/open",
		strings.NewReader(`{"session": "somebody elses tab", "field": "fields.name"}`))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+line.Connection.Keys.Admin)
	r.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(r)
	if err != nil || resp.StatusCode != http.StatusOK {
		t.Fatalf("%v, %v", resp, err)
	}
	_ = resp.Body.Close()
	w.do("leave the field", chromedp.Click(chromedp.CSS("main h1")))
	w.shows("is editing this")
	w.control("s")
	w.shows("Draft saved.")
	w.when("nothing is unsaved", "!document.querySelector('[aria-label=Saving]')")
	e, err := admin().Entries().Get(t.Context(), id)
	if err != nil || e.Title != "Otholmen north" {
		t.Errorf("saved is %q, %v", e.Title, err)
	}
	// What somebody else saves meanwhile is told.
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{
		ID: id, Type: "pier", Save: map[string]any{"name": "Otholmen south"},
	}); err != nil {
		t.Fatal(err)
	}
	w.when(
		"it is told",
		`[...document.querySelectorAll("[data-toast]")].some((t) => t.innerText.includes("saved revision 3"))`,
	)
}

// TestReviewsWaitOnNow has somebody decide on Now what somebody else submitted.
func TestReviewsWaitOnNow(t *testing.T) {
	id := draftOf(t, "notice", map[string]any{
		"title": map[string]any{"en": "Crane on the quay"}, "severity": "information",
	})
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Do: "submit", Remark: "for Monday"}); err != nil {
		t.Fatal(err)
	}
	w := signedIn(t)
	w.shows("Crane on the quay")
	w.press("Look and decide")
	w.shows("for Monday")
	w.write("Remark on Crane on the quay", "say which quay")
	w.press("Send back")
	w.when("it waits no longer", fmt.Sprintf("!document.querySelector('[data-review=%q]')", id))
	e, err := admin().Entries().Get(t.Context(), id)
	if err != nil || e.Review != "returned" || len(e.Reviews) == 0 || e.Reviews[0].Remark != "say which quay" {
		t.Errorf("the review is %q %+v, %v", e.Review, e.Reviews, err)
	}
}

// TestListsInTheConsole sorts, filters, chooses all and saves a view of Entries.
func TestListsInTheConsole(t *testing.T) {
	w := signedIn(t)
	w.do("to Entries", chromedp.Navigate(line.Connection.Gateway+"/console/main/entries?type=notice"),
		chromedp.WaitVisible(chromedp.CSS("[data-entry]")))
	w.press("Title")
	first := "document.querySelector('[data-entry] a')?.innerText"
	w.when("sorted by title", first+" === \"Baker's Ferry leaves ten minutes earlier\"")
	w.when("the address says so", "new URLSearchParams(location.search).get('sort') === 'title'")
	w.click("the filter", `document.querySelector("input[aria-label=Filter]")`)
	w.into("Filter", "titel LIKE 'Ice%'")
	w.press("Filter")
	w.shows("no property")
	w.into("Filter", "title LIKE 'Ice%'")
	w.press("Filter")
	w.when("filtered", "document.querySelectorAll('[data-entry]').length === 1 && "+
		first+" === 'Ice Shuttle stands ready'")
	w.click("choose all", `document.querySelector("[aria-label='Select all loaded entries']")`)
	w.shows("1 selected")
	w.press("Clear selection")
	w.press("Save view…")
	w.write("Name", "ice")
	w.press("Save view")
	w.when(
		"it is chosen",
		`[...document.querySelectorAll("select[aria-label='Saved view'] option:checked")].some((o) => o.innerText === "ice")`,
	)
	saved := func() (query string) {
		t.Helper()
		views, err := admin().Reads().Views(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range views {
			if v.Name == "ice" {
				query = v.Query
			}
		}
		return query
	}
	if query := saved(); !strings.Contains(query, "filter=") || !strings.Contains(query, "sort=title") {
		t.Errorf("the view is saved as %q", query)
	}
	w.press("Remove view")
	testkit.Eventually(t, "the view is gone", func() bool { return saved() == "" })
}

// TestReadersSeeNoWritersTools opens the console as somebody who may only read.
func TestReadersSeeNoWritersTools(t *testing.T) {
	const email, password = "reader@skerry.example", "a password of a reader"
	if _, _, err := admin().Accounts().Create(t.Context(), email, "Una Reader", "reader", password); err != nil {
		t.Fatal(err)
	}
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	if err := browser.SignIn(b, line.Connection.Gateway, email, password, false); err != nil {
		t.Fatal(err)
	}
	w := writer{t, b}
	w.when(
		"no page of admins",
		`![...document.querySelectorAll("nav a")].some((a) => /Keys|Accounts|Audit/.test(a.innerText))`,
	)
	w.follow("Entries")
	w.do("the list", chromedp.WaitVisible(chromedp.CSS("[data-entry]")))
	w.click("an entry", `document.querySelector("[data-entry] a")`)
	w.do("its fields", chromedp.WaitVisible(chromedp.CSS("[data-field]")))
	w.when(
		"nothing to write with",
		`![...document.querySelectorAll("button")].some((b) => /Save draft|Publish…|Delete…/.test(b.innerText))`,
	)
}
