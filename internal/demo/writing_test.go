package demo_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// writer is somebody at the console.
type writer struct {
	t *testing.T
	b context.Context
}

// signedIn opens the console in a browser of the test's own, as the first account.
func signedIn(t *testing.T) writer {
	t.Helper()
	return signedInAt(t, line.Connection.Gateway)
}

// signedInAt is signedIn by another address of the gateway.
func signedInAt(t *testing.T, gateway string) writer {
	t.Helper()
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	account := line.Connection.Accounts[0]
	if err := browser.SignIn(b, gateway, account.Email, account.Password, false); err != nil {
		t.Fatal(err)
	}
	return writer{t, b}
}

func (w writer) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	w.t.Helper()
	within, cancel := context.WithTimeout(w.b, time.Minute)
	defer cancel()
	if err := chromedp.Do(within, steps...); err != nil {
		w.t.Fatalf("%s: %v", what, err)
	}
}

// press presses the button with these words, in the window if one is open, with the mouse: one
// that is covered by something else cannot be pressed.
func (w writer) press(words string) {
	w.t.Helper()
	w.click("the button "+words, fmt.Sprintf(`(() => {
		const all = [...([...document.querySelectorAll("[role=dialog]")].pop() ?? document).querySelectorAll("button, a")];
		return all.find((b) => [b.innerText.trim(), b.getAttribute("aria-label")].includes(%q) && !b.disabled);
	})()`, words))
}

// follow presses a link of the rail.
func (w writer) follow(words string) {
	w.t.Helper()
	w.click("the link "+words, fmt.Sprintf(
		`[...document.querySelectorAll("nav a")].find((a) => a.innerText.trim() === %q)`, words,
	))
}

// click presses the element that a script finds where it is seen, once it stands still.
func (w writer) click(what, script string) {
	w.t.Helper()
	testkit.Eventually(w.t, what+" is pressed", func() bool {
		w.when(what+" can be pressed", fmt.Sprintf(`(() => {
			const b = %s;
			if (!b || b.disabled) return false;
			// Not at the edge: the bar to save with stands there.
			b.scrollIntoView({ block: "center" });
			const { x, y, width, height } = b.getBoundingClientRect();
			const at = [x + width / 2, y + height / 2, performance.now()];
			const before = window.pressed;
			if (!before || before[0] !== at[0] || before[1] !== at[1]) window.pressed = at;
			const still = at[2] - window.pressed[2] > 200; // what is fetched may still move it
			const hits = (e) => b.contains(e) || e.contains(b) && e.closest("button, a, label") === b;
			const top = document.elementFromPoint(...at);
			if (!still || !top || !hits(top)) return false;
			// It may yet move: a press on something else does nothing, and is made again.
			const events = ["pointerdown", "mousedown", "pointerup", "mouseup", "click"];
			const guard = (e) => {
				if (e.type === "pointerdown") window.astray = !hits(e.target);
				if (window.astray) e.preventDefault(), e.stopImmediatePropagation();
			};
			window.unguard?.();
			window.unguard = () => events.forEach((name) => removeEventListener(name, guard, true));
			events.forEach((name) => addEventListener(name, guard, true));
			return true;
		})()`, script))
		at, err := chromedp.Run(w.b, chromedp.Evaluate[[]float64]("window.pressed"))
		if err != nil || len(at) != 3 {
			w.t.Fatalf("%s: %v, %v", what, at, err)
		}
		w.do(what, chromedp.MouseClickXY(at[0], at[1]))
		return w.value(`(() => {
			const astray = String(!!window.astray);
			window.unguard?.();
			delete window.pressed, delete window.astray, delete window.unguard;
			return astray;
		})()`) == "false"
	})
}

// control is a script that finds what can be typed into or chosen from under this name, in the
// window if one is open.
func control(label string) string {
	return fmt.Sprintf(`(() => {
		const within = [...document.querySelectorAll("[role=dialog]")].pop() ?? document;
		const named = (e) => e.getAttribute("aria-label") ?? e.labels?.[0]?.innerText.trim();
		return [...within.querySelectorAll("input, textarea, select, [contenteditable=true]")].find((e) => named(e) === %q);
	})()`, label)
}

// write types at the end of what is in the control of this name.
func (w writer) write(label, text string) {
	w.t.Helper()
	w.when("the field "+label, fmt.Sprintf(`(() => {
		document.querySelector("[data-target]")?.removeAttribute("data-target");
		const e = %s;
		e?.setAttribute("data-target", "");
		e?.scrollIntoView({ block: "center" });
		return !!e;
	})()`, control(label)))
	const target = "[data-target]"
	w.do(
		"write "+label, chromedp.WaitVisible(chromedp.CSS(target)), chromedp.Click(chromedp.CSS(target)),
		chromedp.SendKeys(chromedp.CSS(target), text),
	)
}

// choose takes an option of a choice.
func (w writer) choose(label, value string) {
	w.t.Helper()
	w.when(label, fmt.Sprintf(`(() => {
		const s = %s;
		if (!s || ![...s.options].some((o) => o.value === %q)) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %[2]q);
		s.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	})()`, control(label), value))
}

// tick presses the box with these words.
func (w writer) tick(words string) {
	w.t.Helper()
	w.click("the box "+words, fmt.Sprintf(`(() => {
		const within = [...document.querySelectorAll("[role=dialog]")].pop() ?? document;
		return [...within.querySelectorAll("label")].find((l) => l.innerText.trim().startsWith(%q))?.querySelector("input");
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

// TestWritingInTheConsole goes the way of a newcomer with the console alone, on a screen of 768 px: a
// new type, two entries, a translation, one published in one locale, the other
// scheduled, and both seen to happen.
func TestWritingInTheConsole(t *testing.T) {
	w := signedIn(t)
	w.do("a narrow screen", chromedp.EmulateViewport(768, 800))
	base := line.Connection.Gateway + "/console"

	w.do("to Types", chromedp.Navigate(base+"/types"), chromedp.WaitVisible(chromedp.CSS("[data-type=notice]")))
	w.press("New type")
	w.write("Name", "island")
	w.write("Path", "/islands/{slug}")
	w.press("Done")
	field := func(name, kind string, more func()) {
		w.press("Field")
		w.write("Name", name)
		w.choose("Kind", kind)
		if more != nil {
			more()
		}
		w.press("Done")
		w.do("field "+name, chromedp.WaitVisible(chromedp.CSS("[data-field="+name+"]")))
	}
	field("name", "text", func() { w.tick("Required"); w.tick("Translated") })
	field("slug", "slug", func() { w.choose("Generated from", "name") })
	field("harbour", "reference", func() { w.tick("Pier"); w.write("Back-reference", "islands") })
	w.shows("a new type with 3 fields")
	w.press("Apply")
	w.when(
		"the model is applied",
		"!document.querySelector('[data-plan]') && !!document.querySelector('[data-field=harbour]')",
	)

	write := func(english string) {
		w.do(
			"to a new entry", chromedp.Navigate(base+"/entries/new?type=island"),
			chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")),
		)
		w.write("Name, English", english)
	}
	write("Tern Island")
	w.press("Choose")
	w.write("Search entries", "Mella")
	w.when(
		"the pier is offered",
		`(() => { const b = [...document.querySelectorAll("[data-field=harbour] button")].find((b) => b.innerText.startsWith("Mella")); b?.click(); return !!b; })()`,
	)
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
	if nb, en := reads("nb"), reads("en"); !strings.Contains(nb, "Terneøya") || !strings.Contains(nb, "Mella") ||
		strings.Contains(en, "Tern") {
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
	w.when(
		"the moment",
		fmt.Sprintf(
			`(() => { const i = document.querySelector("[aria-label=Moment]"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, %q); i.dispatchEvent(new Event("input", { bubbles: true })); return i.value !== ""; })()`,
			at.Format("2006-01-02T15:04:05"),
		),
	)
	w.press("Schedule")
	w.do("it is pending", chromedp.WaitVisible(chromedp.CSS("[data-schedule]")))
	testkit.Eventually(
		t, "it is published by itself", func() bool { return strings.Contains(reads("en"), "Seal Island") },
	)
	w.when(
		"the page shows it without a reload",
		"document.querySelector('main')?.innerText.includes('● published') || "+
			"document.querySelector('main')?.innerText.includes('●\\npublished') || "+
			"/published/.test(document.querySelector('main h1')?.parentElement?.innerText ?? '')",
	)

	// Somebody else saves meanwhile: both sides are shown, and nothing is lost.
	c := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	items, _, err := c.Entries().List(t.Context(), api.EntryFilter{Type: "island", Search: "Seal Island"})
	if err != nil || len(items) != 1 {
		t.Fatal(items, err)
	}
	id := items[0].ID
	w.do(
		"to the entry", chromedp.Navigate(base+"/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")),
	)
	w.write("Name, English", " of the north")
	if _, err := c.Entries().Edit(t.Context(), api.Edit{
		ID: id, Type: "island",
		Save: map[string]any{"name": map[string]any{"en": "Grey Seal Island"}},
	}); err != nil {
		t.Fatal(err)
	}
	w.press("Save draft")
	w.shows("Saved meanwhile by somebody else")
	w.shows("Grey")
	w.press("Save mine over it")
	testkit.Eventually(t, "mine is saved over theirs, which is kept", func() bool {
		e, err := c.Entries().Get(t.Context(), id)
		return err == nil && e.Revision == 3 && strings.Contains(e.Title, "of the north")
	})

	w.shows("Draft saved.")

	// Several at once.
	w.do(
		"to the list", chromedp.Navigate(base+"/entries?type=island"),
		chromedp.WaitVisible(chromedp.CSS("[data-entry]")),
	)
	for _, name := range []string{"Tern Island", "Seal Island of the north"} {
		w.when(
			"choose "+name,
			fmt.Sprintf(
				`(() => { const i = document.querySelector("input[aria-label='Select %s']"); i?.click(); return !!i; })()`,
				name,
			),
		)
	}
	w.press("Delete…")
	w.press("Delete")
	w.shows("No entry matches.")
	w.do(
		"to the type", chromedp.Navigate(base+"/types/island"),
		chromedp.WaitVisible(chromedp.CSS("[data-field=harbour]")),
	)
	w.press("Remove")
	w.shows("the type and all of its entries go")
	w.press("Apply")
	w.when(
		"the type is gone", "!document.querySelector('[data-plan]') && !document.querySelector('[data-type=island]')",
	)

	w.do(
		"to Settings", chromedp.Navigate(base+"/settings"),
		chromedp.WaitVisible(chromedp.CSS("[data-coverage=notice]")),
	)
	w.press("Add a locale")
	w.write("Tag", "sv")
	w.write("Fallbacks", "nb, en")
	w.press("Add")
	w.when("it is there", "document.querySelector('tr[data-locale=sv]')?.innerText.includes('svenska')")
	w.when(
		"retire it",
		`(() => { const b = [...document.querySelectorAll("tr[data-locale=sv] button")].find((b) => b.innerText === "Retire…"); b?.click(); return !!b; })()`,
	)
	w.press("Retire")
	w.when("it is retired", "document.querySelector('tr[data-locale=sv]')?.innerText.includes('retired')")
}

// replace writes a field of a form again.
func (w writer) replace(label, text string) {
	w.t.Helper()
	w.when("the field "+label, fmt.Sprintf(`(() => {
		const e = %s;
		if (!e) return false;
		e.focus();
		if (e.isContentEditable) { // until the editor has it
			const bare = (text) => text.replace(/\s/g, "");
			if (bare(e.innerText) === bare(%[2]q)) return true;
			document.execCommand("selectAll");
			document.execCommand("insertText", false, %[2]q);
			return false;
		}
		const of = e.tagName === "TEXTAREA" ? HTMLTextAreaElement : HTMLInputElement;
		Object.getOwnPropertyDescriptor(of.prototype, "value").set.call(e, %[2]q);
		e.dispatchEvent(new Event("input", { bubbles: true }));
		return true;
	})()`, control(label), text))
}

// TestEveryKindOfFieldIsEdited saves a value of every kind through the console, at 768 px.
func TestEveryKindOfFieldIsEdited(t *testing.T) {
	c := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	m, err := c.Models().Present(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	boats := strings.Replace(string(m.YAML()), "types:\n", `types:
  boat:
    title: name
    fields:
      name:    {kind: text, translated: true}
      text:    {kind: prose, translated: true}
      seats:   {kind: integer}
      draught: {kind: decimal}
      price:   {kind: money}
      afloat:  {kind: boolean}
      built:   {kind: date}
      refit:   {kind: datetime}
      state:   {kind: choice, options: {sails: Sails, rests: Rests}}
      uses:    {kind: choice, several: true, options: {people: People, bread: Bread}}
      home:    {kind: reference, types: [pier]}
      calls:   {kind: reference, types: [pier], several: true}
      photo:   {kind: file}
      at:      {kind: location}
      engine:  {kind: json, schema: {type: object}}
      names:   {kind: text, several: true}
      owner:   {kind: record, fields: {person: {kind: text, required: true}, since: {kind: integer}}}
      story:   {kind: blocks, blocks: {heading: {label: Heading, fields: {text: {kind: text}}}, aside: {label: Aside, fields: {text: {kind: prose, required: true}}}}}
`, 1)
	if err := c.Models().Apply(t.Context(), map[string]string{"model.yaml": boats}, false, 0, nil); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := c.Models().Apply(t.Context(), map[string]string{"model.yaml": string(m.YAML())}, true, 0,
			nil); err != nil {
			t.Error(err)
		}
	}()
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	if err := browser.SignIn(b, line.Connection.Gateway, line.Connection.Accounts[0].Email,
		line.Connection.Accounts[0].Password,
		true); err != nil {
		t.Fatal(err)
	}
	w := writer{t, b}
	w.do("a narrow screen", chromedp.EmulateViewport(768, 800))
	w.do(
		"to a new boat", chromedp.Navigate(line.Connection.Gateway+"/console/entries/new?type=boat"),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name] input")),
	)
	for label, text := range map[string]string{
		"Name, English": "Storm Petrel", "Text, English": "Built *of oak*.",
		"Seats": "48", "Draught": "1.75", "Price: Minor units": "9900", "Price: Currency": "NOK",
		"Built": "1962-05-17", "Refit": "2026-01-02T03:04:05", "At: Longitude": "5.1", "At: Latitude": "60.9",
		"Engine": `{"kw": 120}`, "Person": "Odd Marken", "Since": "1999",
	} {
		w.replace(label, text)
	}
	w.chooseFile("[data-field=photo] input[type=file]", pictureFile(t, "petrel.png"))
	w.when("the photo is there", `!!document.querySelector("[data-field=photo] [data-crop]")`)
	w.press("Description and crop for this entry alone…")
	w.replace("Photo: description here", "The Storm Petrel")
	w.choose("Afloat", "true")
	w.choose("State", "rests")
	w.tick("Bread")
	w.tick("People")
	pick := func(field, name string) {
		w.when(
			"choose in "+field,
			fmt.Sprintf(
				`(() => { const b = [...document.querySelectorAll("[data-field=%s] button")].find((b) => b.innerText.trim() === "Choose"); b?.click(); return !!b; })()`,
				field,
			),
		)
		w.when(
			name+" is offered",
			fmt.Sprintf(
				`(() => { const b = [...document.querySelectorAll("[data-field=%s] button")].find((b) => b.innerText.startsWith(%q)); b?.click(); return !!b; })()`,
				field,
				name,
			),
		)
	}
	pick("home", "Mella")
	pick("calls", "Kvalholm")
	pick("calls", "Seal Gap")
	w.when(
		"Seal Gap is moved up",
		`(() => { const rows = document.querySelectorAll("[data-field=calls] button[aria-label=Up]"); rows[1]?.click(); return rows.length === 2; })()`,
	)
	// A pier that is not there yet is made on the way.
	w.when(
		"a new pier",
		`(() => { const b = [...document.querySelectorAll("[data-field=calls] button")].find((b) => b.innerText.includes("New pier")); b?.click(); return !!b; })()`,
	)
	w.when("its form", `!!document.querySelector("[role=dialog] [data-field=name] input")`)
	w.when(
		"its name",
		`(() => { const e = document.querySelector("[role=dialog] [data-field=name] input"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(e, "Petrel Steps"); e.dispatchEvent(new Event("input", { bubbles: true })); return e.value === "Petrel Steps"; })()`,
	)
	w.press("Save draft and choose it")
	w.when(
		"it is chosen",
		`!document.querySelector("[role=dialog]") && document.querySelectorAll("[data-field=calls] button[aria-label=Up]").length === 3`,
	)
	w.when(
		"a further name",
		`(() => { const b = [...document.querySelectorAll("[data-field=names] button")].find((b) => b.innerText.trim() === "Add"); b?.click(); return !!b; })()`,
	)
	w.replace("Names 1", "The Petrel")
	for _, kind := range []string{"Aside", "Heading"} {
		w.when(
			"add "+kind,
			fmt.Sprintf(
				`(() => { const b = [...document.querySelectorAll("[data-field=story] button")].find((b) => b.innerText.trim() === %q); b?.click(); return !!b; })()`,
				kind,
			),
		)
		w.do(kind, chromedp.WaitVisible(chromedp.CSS("[data-block="+strings.ToLower(kind)+"]")))
	}
	for block, text := range map[string]string{"aside": "She was a herring boat.", "heading": "Before"} {
		w.when("write "+block, fmt.Sprintf(`(() => {
			const e = document.querySelector("[data-block=%s]")?.querySelector("input, [contenteditable=true]");
			e?.focus();
			return !!e && document.execCommand("insertText", false, %q);
		})()`, block, text))
	}
	w.click("the heading's Up", `document.querySelector("[data-block=heading] button[aria-label=Up]")`)
	w.when("the heading stands first", `document.querySelector("[data-block]").dataset.block === "heading"`)
	w.press("Save draft")
	w.when("it has its page", "document.querySelector('main h1')?.innerText === 'Storm Petrel'")
	items, _, err := c.Entries().List(t.Context(), api.EntryFilter{Type: "boat"})
	if err != nil || len(items) != 1 {
		t.Fatal(items, err)
	}
	e, err := c.Entries().Get(t.Context(), items[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	piers, _, err := c.Entries().List(t.Context(), api.EntryFilter{Type: "pier"})
	if err != nil {
		t.Fatal(err)
	}
	pier := map[string]string{}
	for _, p := range piers {
		pier[p.Title] = p.ID
	}
	got, _ := json.Marshal(e.Newest)
	for _, want := range []string{
		`"name":{"en":"Storm Petrel"}`, `"text":{"en":"Built *of oak*."}`, `"seats":48`,
		`"draught":1.75`, `"price":{"amount":9900,"currency":"NOK"}`, `"afloat":true`, `"built":"1962-05-17"`,
		`"refit":"2026-01-02T03:04:05`, `"state":"rests"`, `"uses":["bread","people"]`, `"home":"` + pier["Mella"] + `"`,
		`"calls":["` + pier["Seal Gap"] + `","` + pier["Kvalholm"] + `","` + pier["Petrel Steps"] + `"]`,
		`"alt":"The Storm Petrel"`, `"coordinates":[5.1,60.9]`, `"engine":{"kw":120}`, `"names":["The Petrel"]`,
		`"owner":{"person":"Odd Marken","since":1999}`,
		`"story":[{"block":"heading","text":"Before"},{"block":"aside","text":"She was a herring boat."}]`,
	} {
		if !strings.Contains(string(got), want) {
			t.Errorf("%s is missing in %s", want, got)
		}
	}
	// What the service finds wrong stands beside its field, and nothing is lost.
	w.replace("Seats", "4.5")
	w.press("Save draft")
	w.when(
		"the problem stands at its field",
		`[...document.querySelectorAll("[data-field=seats] [role=alert]")].some((e) => e.innerText.includes("whole number"))`,
	)
	w.when("the value is still there", `document.querySelector("input[aria-label=Seats]").value === "4.5"`)
	w.press("Discard changes")
	w.when("it is put back", `document.querySelector("input[aria-label=Seats]").value === "48"`)
	if _, err := c.Entries().Edit(t.Context(), api.Edit{ID: items[0].ID, Do: "delete"},
		api.Edit{ID: pier["Petrel Steps"], Do: "delete"}); err != nil {
		t.Error(err)
	}
}
