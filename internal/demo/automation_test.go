package demo_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
	"ubiquon/internal/testkit/skerry"
)

// removeRule takes a rule out at the end of a test.
func removeRule(t *testing.T, name string) {
	t.Cleanup(func() {
		if err := admin().Settings().Remove(context.Background(), "rule", name); err != nil {
			t.Logf("the rule %s stays: %v", name, err)
		}
	})
}

// TestRuleIsMadeInTheConsole makes a rule that has a site rebuilt when something is published,
// and reads in its log why a save did not.
func TestRuleIsMadeInTheConsole(t *testing.T) {
	w := signedIn(t)
	const name = "Rebuild on fares"
	removeRule(t, name)
	w.follow("Rules")
	w.do("the rules", chromedp.WaitVisible(chromedp.CSS("[data-rule]")))
	w.press("Make a rule")
	w.write("Name", name)
	w.tick("fare")
	w.choose("Add a step", "rebuild")
	w.do("the step", chromedp.WaitVisible(chromedp.CSS("[data-step=rebuild]")))
	w.shows("When a fare is published, rebuild skerry-web.")
	w.shows("site: skerry-web") // in the YAML beside it
	w.press("Make the rule")
	w.do("its page", chromedp.WaitVisible(chromedp.CSS("[aria-label='Runs'], main h1")))
	w.when("it is kept", fmt.Sprintf("location.pathname.endsWith(%q)", "/rules/Rebuild%20on%20fares"))
	id := made(t, "fare", content.Fields{"name": map[string]any{"en": "Dog ticket"}, "price": map[string]any{
		"amount": 300, "currency": "NOK",
	}})
	w.when("the save is in its log", `[...document.querySelectorAll("[data-run]")].some((r) =>
		r.innerText.includes("did not fire") && r.innerText.includes("event: it is on published, this was saved"))`)
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Type: "fare", Do: "publish"}); err != nil {
		t.Fatal(err)
	}
	w.when("the publish is in its log", `[...document.querySelectorAll("[data-run]")].some((r) =>
		r.innerText.includes("done") && r.innerText.includes("asked for a build of skerry-web"))`)
	w.choose("What sets it off", "time")
	w.replace("Cron line", "0 6 30 2 *")
	w.shows("never comes: no such day is in any of the months")
	w.replace("Cron line", "0 6 1 10 *")
	w.shows("At 0 6 1 10 *, rebuild skerry-web.")
	w.press("Save")
	w.when("when it fires next is known", `document.querySelector("main").innerText.includes("At 0 6 1 10 *")`)
	testkit.Eventually(t, "it is kept", func() bool {
		r, err := admin().Settings().Get(t.Context(), "rule", name)
		return err == nil && r.Version == 2
	})
}

// made writes a draft and returns its id.
func made(t *testing.T, typ string, fields content.Fields) string {
	t.Helper()
	done, err := admin().Entries().Edit(t.Context(), api.Edit{Type: typ, Save: fields})
	if err != nil {
		t.Fatal(err)
	}
	return done.Entries[0].ID
}

// TestReviewGoesByMail submits in the console as an editor, approves as an approver, and reads the
// mail that both get.
func TestReviewGoesByMail(t *testing.T) {
	const title = "Pier lights are out at Mella"
	id := made(t, "notice", content.Fields{"title": map[string]any{"en": title}, "severity": "information"})
	as := func(role string) writer {
		t.Helper()
		b, stop, err := browser.Tab()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(stop)
		for _, a := range line.Connection.Accounts {
			if string(a.Role) == role {
				if err := browser.SignIn(b, line.Connection.Gateway, a.Email, a.Password, false); err != nil {
					t.Fatal(err)
				}
			}
		}
		return writer{t, b}
	}
	editor := as("editor")
	editor.do("to the entry", chromedp.Navigate(line.Connection.Gateway+"/console/main/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=title]")))
	editor.press("Submit for review…")
	editor.press("Submit for review")
	asked := skerry.Mail(t, line, "duty@skerry.example", "Waiting for approval: "+title)
	if !strings.Contains(asked.Text, "title: "+title) || !strings.Contains(asked.Text, "/console/main/entries/"+id) {
		t.Errorf("what the approver gets: %s", asked.Text)
	}
	skerry.Mail(t, line, "duty-desk@skerry.example", "For review: "+title) // by the rule
	approver := as("approver")
	approver.do("what waits", chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf("[data-review='%s'] button", id))))
	approver.click("look", fmt.Sprintf("document.querySelector(\"[data-review='%s'] button\")", id))
	approver.press("Approve")
	skerry.Mail(t, line, "notices@skerry.example", "Approved: "+title)
}

// TestSiteIsConnectedInTheConsole connects a second display, and waits for its first read.
func TestSiteIsConnectedInTheConsole(t *testing.T) {
	w := signedIn(t)
	const name = "kiosk"
	t.Cleanup(func() {
		for _, one := range [][2]string{{"rule", "Keep kiosk fresh"}, {"site", name}} {
			if err := admin().Settings().Remove(context.Background(), one[0], one[1]); err != nil {
				t.Log(err)
			}
		}
	})
	w.follow("Sites")
	w.press("Connect a site")
	w.write("Name", name)
	w.choose("Kind of front end", "refresh")
	w.write("Address", "http://127.0.0.1:1")
	w.write("Address that takes refresh calls", line.Connection.Board+"/refresh")
	w.press("Make what it needs")
	w.do("the lines", chromedp.WaitVisible(chromedp.CSS("[data-lines]")))
	lines := w.value(`document.querySelector("[data-lines]").innerText`)
	env := map[string]string{}
	for l := range strings.Lines(lines) {
		k, v, _ := strings.Cut(strings.TrimSpace(l), "=")
		env[k] = v
	}
	w.do("nothing was read", chromedp.WaitVisible(chromedp.CSS("[data-read=no]")))
	req, err := http.NewRequestWithContext(
		t.Context(),
		http.MethodGet,
		env["UBIQUON_CONTENT"]+"/piers?fields=name",
		nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+env["UBIQUON_KEY"])
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	w.do("the first read", chromedp.WaitVisible(chromedp.CSS("[data-read=yes]")))
	w.press("Call it now")
	w.shows("401") // the board has another secret, and says so
	rules, err := admin().Settings().Rules(t.Context())
	if err != nil || !strings.Contains(fmt.Sprint(rules), "Keep kiosk fresh") {
		t.Errorf("%v, %v", rules, err)
	}
}

// TestCancelledCrossingShowsOnTheBoard publishes a notice, and looks at the pier display.
func TestCancelledCrossingShowsOnTheBoard(t *testing.T) {
	page := func() string {
		resp, err := http.Get(line.Connection.Board + "/")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return string(body)
	}
	page() // is kept from now on
	const title = "No boat to Tern Rock tonight"
	id := made(t, "notice", content.Fields{"title": map[string]any{"en": title}, "severity": "cancelled"})
	if strings.Contains(page(), title) {
		t.Fatal("a draft is shown")
	}
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Type: "notice", Do: "publish"}); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the display shows it", func() bool { return strings.Contains(page(), title) })
	if _, err := admin().Entries().Edit(t.Context(), api.Edit{ID: id, Type: "notice", Do: "unpublish"}); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the display shows it no more", func() bool { return !strings.Contains(page(), title) })
}
