package demo_test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// TestConsole signs in and walks through the pages as a person would, while
// something is published.
func TestConsole(t *testing.T) {
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	var mu sync.Mutex
	var complaints []string
	messages := chromedp.Console(b)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.Type == "error" {
				mu.Lock()
				complaints = append(complaints, m.Text)
				mu.Unlock()
			}
		}
	}()
	do := func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		within, cancel := context.WithTimeout(b, time.Minute)
		defer cancel()
		if err := chromedp.Do(within, steps...); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	text := func(selector string) string {
		t.Helper()
		within, cancel := context.WithTimeout(b, time.Minute)
		defer cancel()
		s, err := chromedp.Run(within, chromedp.Text(chromedp.CSS(selector)))
		if err != nil {
			t.Fatalf("text of %s: %v", selector, err)
		}
		return s
	}
	base := line.Connection.Gateway + "/console"

	do(
		"a wrong password",
		chromedp.Navigate(base+"/entries"),
		chromedp.WaitVisible(chromedp.CSS("input[name=email]")),
		chromedp.SendKeys(
			chromedp.CSS("input[name=email]"), line.Connection.Accounts[0].Email,
		),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), "not this one"),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
	)
	testkit.Eventually(
		t, "the refusal is told in the service's words",
		func() bool { return strings.Contains(text("main"), "the e-mail address or the password is wrong") },
	)
	if err := browser.SignIn(b, line.Connection.Gateway, line.Connection.Accounts[0].Email,
		line.Connection.Accounts[0].Password,
		false); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	complaints = nil // the refusal above is one
	mu.Unlock()

	inOffice(t, "PATCH", "/api/reports/R-1002", map[string]any{"headline": "Counting seals, again"})
	inOffice(t, "POST", "/api/reports/R-1002/publish", nil)
	testkit.Eventually(t, "the publish shows on Now without a reload", func() bool {
		return strings.Contains(text("[aria-label='Last events']"), "Counting seals, again")
	})
	do("its trace is drawn", chromedp.WaitVisible(chromedp.CSS("svg[data-trace]")))

	do(
		"to Entries", chromedp.Click(chromedp.CSS("a[href='/console/main/entries']")),
		chromedp.WaitVisible(chromedp.CSS("[data-entry]")),
		chromedp.SendKeys(chromedp.CSS("input[aria-label=Search]"), "fog week"),
	)
	id := content.MakeID("harbour-office", "dispatch", "R-1009")
	testkit.Eventually(t, "the search leaves one", func() bool {
		n, err := chromedp.Run(b, chromedp.Evaluate[int]("document.querySelectorAll('[data-entry]').length"))
		return err == nil && n == 1
	})
	testkit.Eventually(t, "the search is in the address", func() bool {
		at, err := chromedp.Run(b, chromedp.Evaluate[string]("location.href"))
		return err == nil && strings.HasSuffix(at, "search=fog+week")
	})
	do(
		"into the entry", chromedp.Click(chromedp.CSS("[data-entry='"+id+"'] a")),
		chromedp.WaitVisible(chromedp.CSS("[data-field=title]")),
	)
	if got, err := chromedp.Run(b, chromedp.Evaluate[string]("document.querySelector('[data-field=title] "+
		"input').value")); err != nil ||
		got != "Fog week" {
		t.Errorf("the title is %q, %v", got, err)
	}
	testkit.Eventually(
		t, "the writer is named", func() bool { return strings.Contains(text("[data-field=writer]"), "Odd Marken") },
	)
	if got := text("[data-command]"); got != "ubiquon entry show "+id {
		t.Errorf("the command is %q", got)
	}

	do(
		"to an event", chromedp.Navigate(base+"/events"), chromedp.WaitVisible(chromedp.CSS("[data-event] a")),
		chromedp.Click(chromedp.CSS("[data-event] a")), chromedp.WaitVisible(chromedp.CSS("[data-trace-full]")),
	)
	if got := text("main"); !strings.Contains(got, "specversion") || !strings.Contains(got, "harbour-office") {
		t.Errorf("the event's page says %q", got)
	}
	do(
		"to Sites", chromedp.Navigate(base+"/sites"),
		chromedp.WaitVisible(chromedp.CSS("[data-site=skerry-web] [data-build]")),
	)
	before := text("[data-site=skerry-web] [data-build]")
	do("rebuild", chromedp.Click(chromedp.CSS("[data-site=skerry-web] button:last-of-type")))
	testkit.Eventually(t, "the new build shows", func() bool {
		now := text("[data-site=skerry-web] [data-build]")
		return now != before && strings.Contains(now, "finished")
	})
	for _, page := range []string{
		"/", "/types", "/types/notice", "/entries", "/entries/" + id,
		"/entries/" + id + "?view=history", "/events", "/sites", "/sites/skerry-web/pages",
		"/settings", "/keys", "/accounts", "/audit",
		"/you", "/explorer?request=/notices",
	} {
		do(
			"to "+page, chromedp.Navigate(base+page),
			chromedp.WaitVisible(chromedp.CSS("main table, main [data-field], [data-answer]")),
		)
		nameless, err := chromedp.Run(b, chromedp.Evaluate[[]string](nameless))
		if err != nil || len(nameless) > 0 {
			t.Errorf("%s: nobody can name %q, %v", page, nameless, err)
		}
	}
	do(
		"by keyboard", chromedp.Navigate(base+"/entries"), chromedp.WaitVisible(chromedp.CSS("[data-entry]")),
		chromedp.KeyEvent(strings.Repeat("\t", 13)+"\r"), chromedp.WaitVisible(chromedp.CSS("main h1")),
	)
	testkit.Eventually(t, "Tab and Enter lead along the rail", func() bool {
		title, err := chromedp.Run(b, chromedp.Evaluate[string]("document.querySelector('main h1')?.innerText ?? ''"))
		return err == nil && title == "Events"
	})
	mu.Lock()
	defer mu.Unlock()
	if len(complaints) > 0 {
		t.Errorf("the browser complains: %q", complaints)
	}
}

// nameless lists what a screen reader could not name, and headings out of place.
const nameless = `(() => {
  const named = (e) => (e.getAttribute("aria-label") || e.getAttribute("aria-labelledby") || e.textContent.trim() || e.getAttribute("alt") || e.labels?.length) ? true : false;
  const bad = [...document.querySelectorAll("a, button, input, select, table, svg[role=img]")].filter((e) => !named(e)).map((e) => e.outerHTML.slice(0, 120));
  for (const img of document.querySelectorAll("img:not([alt]):not([aria-hidden])")) bad.push(img.outerHTML.slice(0, 120));
  if (document.querySelectorAll("h1").length !== 1) bad.push("not one h1");
  if (!document.documentElement.lang) bad.push("no language");
  return bad;
})()`
