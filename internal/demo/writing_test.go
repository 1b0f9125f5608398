package demo_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/client"
	"ubiquon/internal/store"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// writer is somebody at the console.
type writer struct {
	t *testing.T
	b context.Context
}

func (w writer) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	w.t.Helper()
	within, cancel := context.WithTimeout(w.b, 20*time.Second)
	defer cancel()
	if err := chromedp.Do(within, steps...); err != nil {
		w.t.Fatalf("%s: %v", what, err)
	}
}

// press presses the button with these words, in the window if one is open.
func (w writer) press(words string) {
	w.t.Helper()
	w.when("the button "+words, fmt.Sprintf(`(() => {
		const all = [...(document.querySelector("[role=dialog]:last-of-type") ?? document).querySelectorAll("button, a")];
		const b = all.find((b) => b.innerText.trim() === %q && !b.disabled);
		b?.click();
		return !!b;
	})()`, words))
}

// write replaces what stands in a field of a form.
func (w writer) write(label, text string) {
	w.t.Helper()
	selector := fmt.Sprintf("[aria-label='%s']", label)
	w.do("write "+label, chromedp.WaitVisible(chromedp.CSS(selector)), chromedp.Click(chromedp.CSS(selector)), chromedp.SendKeys(chromedp.CSS(selector), text))
}

// choose takes an option of a choice.
func (w writer) choose(label, value string) {
	w.t.Helper()
	w.when(label, fmt.Sprintf(`(() => {
		const s = document.querySelector("select[aria-label='%s']");
		if (!s || ![...s.options].some((o) => o.value === %q)) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %[2]q);
		s.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	})()`, label, value))
}

// tick ticks, or unticks, the box with these words.
func (w writer) tick(words string) {
	w.t.Helper()
	w.when("the box "+words, fmt.Sprintf(`(() => {
		const l = [...(document.querySelector("[role=dialog]:last-of-type") ?? document).querySelectorAll("label")].find((l) => l.innerText.trim().startsWith(%q));
		l?.querySelector("input").click();
		return !!l;
	})()`, words))
}

// when waits until a script says true.
func (w writer) when(what, script string) {
	w.t.Helper()
	testkit.Eventually(w.t, what, func() bool {
		ok, err := chromedp.Run(w.b, chromedp.Evaluate[bool](script))
		return err == nil && ok
	})
}

func (w writer) shows(text string) {
	w.t.Helper()
	w.when("the page shows "+text, fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// TestWritingInTheConsole goes the way of a newcomer with the console alone: a
// new type, two entries, a translation, one published in one locale, the other
// scheduled, and both seen to happen.
func TestWritingInTheConsole(t *testing.T) {
	b, stop, err := browser.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	if err := browser.SignIn(b, line.Card.Gateway, line.Card.Keys.Admin, false); err != nil {
		t.Fatal(err)
	}
	w := writer{t, b}
	base := line.Card.Gateway + "/console"

	w.do("to Types", chromedp.Navigate(base+"/types"), chromedp.WaitVisible(chromedp.CSS("[data-type=notice]")))
	w.press("New type")
	w.write("Name", "island")
	w.write("Path", "/islands/{slug}")
	w.press("Keep")
	field := func(name, kind string, more func()) {
		w.press("Field")
		w.write("Name", name)
		w.choose("Kind", kind)
		if more != nil {
			more()
		}
		w.press("Keep")
		w.do("field "+name, chromedp.WaitVisible(chromedp.CSS("[data-field="+name+"]")))
	}
	field("name", "text", func() { w.tick("Required"); w.tick("Translated") })
	field("slug", "slug", func() { w.choose("Made from", "name") })
	field("harbour", "reference", func() { w.tick("Pier"); w.write("Way back", "islands") })
	w.shows("a new type with 3 fields")
	w.press("Apply")
	w.when("the model is applied", "!document.querySelector('[data-plan]') && !!document.querySelector('[data-field=harbour]')")

	write := func(english string) {
		w.do("to a new entry", chromedp.Navigate(base+"/entries/new?type=island"), chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")))
		w.write("Name, English", english)
	}
	write("Tern Island")
	w.press("Choose")
	w.write("Search entries", "Mella")
	w.when("the pier is offered", `(() => { const b = [...document.querySelectorAll("[data-field=harbour] button")].find((b) => b.innerText.startsWith("Mella")); b?.click(); return !!b; })()`)
	w.press("Save draft")
	w.when("the entry has its page", "/\\/entries\\/[a-z0-9]{16}/.test(location.pathname)")
	w.shows("Publish…")
	w.choose("Target locale", "nb")
	w.write("Name, Norsk bokmål", "Terneøya")
	w.press("Save draft")
	w.shows("Draft saved.")
	w.press("Publish…")
	w.tick("English")
	w.press("Publish")
	w.shows("published as sequence")
	reads := func(locale string) string {
		return string(get(t, reader(), "/islands?fields=name,harbour(name)&locale="+locale).Body)
	}
	if nb, en := reads("nb"), reads("en"); !strings.Contains(nb, "Terneøya") || !strings.Contains(nb, "Mella") || strings.Contains(en, "Tern") {
		t.Errorf("readers get nb %s, en %s", nb, en)
	}
	w.press("Differences")
	w.do("what en would get is marked", chromedp.WaitVisible(chromedp.CSS("[data-difference=name] ins")))

	write("Seal Island")
	w.press("Save draft")
	w.when("the second has its page", "document.querySelector('main h1')?.innerText === 'Seal Island'")
	w.press("Publish…")
	w.tick("At a moment")
	at := time.Now().Add(3 * time.Second).UTC()
	w.choose("Time zone", "UTC")
	w.when("the moment", fmt.Sprintf(`(() => { const i = document.querySelector("[aria-label=Moment]"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, %q); i.dispatchEvent(new Event("input", { bubbles: true })); return i.value !== ""; })()`, at.Format("2006-01-02T15:04:05")))
	w.press("Schedule")
	w.do("it is pending", chromedp.WaitVisible(chromedp.CSS("[data-schedule]")))
	testkit.Eventually(t, "it is published by itself", func() bool { return strings.Contains(reads("en"), "Seal Island") })
	w.when("the page shows it without a reload", "document.querySelector('main')?.innerText.includes('● published') || document.querySelector('main')?.innerText.includes('●\\npublished') || /published/.test(document.querySelector('main h1')?.parentElement?.innerText ?? '')")

	// Somebody else saves meanwhile: both sides are shown, and nothing is lost.
	c := &client.Client{Address: line.Card.Gateway, Key: line.Card.Keys.Admin}
	items, _, err := c.Entries(t.Context(), store.EntryFilter{Type: "island", Search: "Seal Island"})
	if err != nil || len(items) != 1 {
		t.Fatal(items, err)
	}
	id := items[0].ID
	w.do("to the entry", chromedp.Navigate(base+"/entries/"+id), chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")))
	w.write("Name, English", " of the north")
	if _, err := c.Edit(t.Context(), client.Edit{ID: id, Type: "island", Save: map[string]any{"name": map[string]any{"en": "Grey Seal Island"}}}); err != nil {
		t.Fatal(err)
	}
	w.press("Save draft")
	w.shows("Saved meanwhile by somebody else")
	w.shows("Grey")
	w.press("Save mine over it")
	testkit.Eventually(t, "mine is saved over theirs, which is kept", func() bool {
		e, err := c.Entry(t.Context(), id)
		return err == nil && e.Revision == 3 && strings.Contains(e.Title, "of the north")
	})

	w.shows("Draft saved.")

	// Several at once.
	w.do("to the list", chromedp.Navigate(base+"/entries?type=island"), chromedp.WaitVisible(chromedp.CSS("[data-entry]")))
	for _, name := range []string{"Tern Island", "Seal Island of the north"} {
		w.when("choose "+name, fmt.Sprintf(`(() => { const i = document.querySelector("input[aria-label='Choose %s']"); i?.click(); return !!i; })()`, name))
	}
	w.press("Delete…")
	w.press("Delete")
	w.shows("Nothing fits.")
	w.do("to the type", chromedp.Navigate(base+"/types/island"), chromedp.WaitVisible(chromedp.CSS("[data-field=harbour]")))
	w.press("Take out")
	w.shows("the type and all of its entries go")
	w.press("Apply")
	w.when("the type is gone", "!document.querySelector('[data-plan]') && !document.querySelector('[data-type=island]')")

	w.do("to Settings", chromedp.Navigate(base+"/settings"), chromedp.WaitVisible(chromedp.CSS("[data-coverage=notice]")))
	w.press("Add a locale")
	w.write("Tag", "sv")
	w.write("Fallbacks", "nb, en")
	w.press("Add")
	w.when("it is there", "document.querySelector('tr[data-locale=sv]')?.innerText.includes('svenska')")
	w.when("retire it", `(() => { const b = [...document.querySelectorAll("tr[data-locale=sv] button")].find((b) => b.innerText === "Retire…"); b?.click(); return !!b; })()`)
	w.press("Retire")
	w.when("it is retired", "document.querySelector('tr[data-locale=sv]')?.innerText.includes('retired')")
}
