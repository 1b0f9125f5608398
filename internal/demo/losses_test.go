package demo_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ubiquon/internal/api"
)

// TestConsoleLosesNothing leaves, reloads, signs out and types on while something is unsaved.
func TestConsoleLosesNothing(t *testing.T) {
	w := signedIn(t)
	// A reload with something unsaved asks; the answer is yes.
	if err := chromedp.Listen(w.b, func(ev any) {
		if _, is := ev.(*page.EventJavascriptDialogOpening); is {
			go func() {
				_, _ = chromedp.Call(w.b, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{Accept: true})
			}()
		}
	}); err != nil {
		t.Fatal(err)
	}
	base := line.Connection.Gateway + "/console"
	const name = "Name"
	holds := func(text string) {
		t.Helper()
		w.when("the field holds "+text, fmt.Sprintf(
			"document.querySelector(\"input[aria-label='%s']\")?.value === %q", name, text,
		))
	}
	gone := func(words string) {
		t.Helper()
		w.when("the page does not show "+words, fmt.Sprintf("!document.body.innerText.includes(%q)", words))
	}

	w.do("to a new entry", chromedp.Navigate(base+"/entries/new?type=pier"))
	w.write(name, "Losgata")
	w.follow("Sites")
	w.shows("Leave without saving?")
	w.press("Stay here")
	holds("Losgata")

	w.do("reload", chromedp.Evaluate[chromedp.Void]("window.before = setTimeout(() => location.reload()), undefined"))
	w.when("the page is loaded again", "!window.before && !!document.querySelector('[data-field=name]')")
	holds("Losgata")

	w.when("the session ends", "window.ended ??= (fetch('/control/v1/session', { method: 'DELETE' }).then(() => "+
		"window.over = true), true), !!window.over")
	w.shows("Your session has ended")
	holds("Losgata")
	w.do(
		"sign in again", chromedp.SendKeys(chromedp.CSS("input[name=password]"), line.Connection.Accounts[0].Password),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
	)
	gone("Your session has ended")
	holds("Losgata")
	w.press("Save draft")
	w.when("the entry has its page", "/\\/entries\\/[a-z0-9]{16}/.test(location.pathname)")
	w.shows("Publish…")
	holds("Losgata")

	// What is typed while a save is under way is kept, as a draft of what was saved.
	w.write(name, " north")
	w.when("the answer to a save is held back", `(() => {
		const answer = window.fetch;
		window.fetch = async (...asked) => {
			const got = await answer(...asked);
			if (String(asked[0]).endsWith("/edits")) await new Promise((go) => (window.letThrough = go));
			return got;
		};
		return true;
	})()`)
	w.press("Save draft")
	w.when("the save is under way", "!!window.letThrough")
	w.write(name, " side")
	w.when("the answer comes", "window.letThrough(), delete window.letThrough")
	w.when("it is saved", "(window.fetch, document.querySelectorAll('[aria-label=Message]').length === 1)")
	holds("Losgata north side")
	w.press("Save draft")
	w.when("the second save is under way", "!!window.letThrough && (window.letThrough(), true)")
	w.shows("Draft saved.")
	holds("Losgata north side")

	// A window in which something was chosen does not close by accident.
	w.press("Publish…")
	w.tick("At a moment")
	w.do("Escape", chromedp.KeyEvent(kb.Escape))
	w.when("the window is still open", "!!document.querySelector(\"[role=dialog] [aria-label='Time zone']\")")
	w.press("Close")
	w.shows("What you entered here is not kept.")
	w.press("Discard")
	w.when("the window is closed", "!document.querySelector('[role=dialog]')")

	w.do("to an address that is none", chromedp.Navigate(base+"/main/harbour"))
	w.shows("No such page")
	w.do("to an environment that is none", chromedp.Navigate(base+"/harbour/entries"))
	w.shows("No such environment")

	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Type: "pier", Search: "Losgata"})
	if err != nil || len(items) != 1 || items[0].Title != "Losgata north side" {
		t.Fatalf("saved are %+v, %v", items, err)
	}
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: items[0].ID, Do: "delete"}); err != nil {
		t.Error(err)
	}
}

// TestTheFieldWindowKeepsWhatItDoesNotShow renames an option, and tries a name that is taken.
func TestTheFieldWindowKeepsWhatItDoesNotShow(t *testing.T) {
	w := signedIn(t)
	w.do(
		"to the type", chromedp.Navigate(line.Connection.Gateway+"/console/types/notice"),
		chromedp.WaitVisible(chromedp.CSS("[data-field=severity]")),
	)
	w.press("Change severity")
	w.write("Option 2, label in English", " or late")
	w.press("Done")
	const draft = `JSON.parse(sessionStorage.getItem(Object.keys(sessionStorage).find((k) => k.startsWith("ubiquon.model "))) ?? "null")`
	w.when("the other locales keep their labels", `(() => {
		const model = `+draft+`?.model;
		const options = model?.types.find((t) => t.name === "notice").fields.find((f) => f.name === "severity").options;
		const changed = options?.find((o) => o.label.includes(" or late"));
		return options?.length === 3 && changed?.labels.en === changed?.label && !!changed?.labels.nb && !!changed.labels.ja;
	})()`)
	w.press("Field")
	w.write("Name", "title")
	w.press("Done")
	w.shows("There is a field title already")
	w.press("Close")
	w.press("Discard")

	// Another model is applied meanwhile: what goes together with this draft is taken into it, and
	// what does not must be decided.
	m, err := admin().Models().Present(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	yaml := string(m.YAML())
	apply := func(yaml string) {
		t.Helper()
		if err := admin().Models().Apply(t.Context(), map[string]string{"model.yaml": yaml}, true, 0, nil); err != nil {
			t.Fatal(err)
		}
	}
	w.when("the draft has its consequences", "document.querySelector('[data-plan]')?.dataset.plan === '1'")
	ticket := strings.Replace(yaml, "label: Fare\n", "label: Ticket\n", 1)
	apply(ticket)
	w.shows("your changes are on top of it now")
	w.when("the draft has both", draft+`.model.types.some((t) => t.label === "Ticket") && `+
		`document.querySelector('[data-plan]')?.dataset.plan === '1'`)
	apply(strings.Replace(ticket, "Forsinkelse", "Forsinket", 1))
	w.shows("Both have changed: notice.severity")
	w.when("it cannot be applied",
		`[...document.querySelectorAll("button")].find((b) => b.innerText.trim() === "Apply")?.disabled === true`)
	w.press("Take theirs for these")
	w.shows("Nothing is changed yet.")
	w.press("Discard changes")
	apply(yaml)
}
