package demo_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// inBrowser starts a browser in which somebody of the line is signed in.
func inBrowser(t *testing.T, account int) writer {
	t.Helper()
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	who := line.Connection.Accounts[account]
	if err := browser.SignIn(b, line.Connection.Gateway, who.Email, who.Password, false); err != nil {
		t.Fatal(err)
	}
	w := writer{t, b}
	t.Cleanup(func() {
		if t.Failed() {
			page, err := chromedp.Run(b, chromedp.Evaluate[string](`location.href + "\n" + document.body.innerText`))
			t.Logf("the page then: %s (%v)", page, err)
		}
	})
	return w
}

// value evaluates an expression in the page.
func (w writer) value(js string) string {
	w.t.Helper()
	within, cancel := context.WithTimeout(w.b, time.Minute)
	defer cancel()
	v, err := chromedp.Run(within, chromedp.Evaluate[string](js))
	if err != nil {
		w.t.Fatalf("%s: %v", js, err)
	}
	return v
}

// TestKeysAndWhyInTheConsole opens a type, makes a key and ends it, and finds out
// why an entry is not seen, all with the console.
func TestKeysAndWhyInTheConsole(t *testing.T) {
	w := inBrowser(t, 0)
	base := line.Connection.Gateway + "/console"
	t.Cleanup(func() {
		_, _ = admin().Keys().ChangePublicGrants(context.Background(), nil, []string{"read published pier"})
	})
	w.do("to Keys", chromedp.Navigate(base+"/keys"), chromedp.WaitVisible(chromedp.CSS("[data-reader='skerry-web']")))
	if first := w.value("document.querySelector('[data-reader]').dataset.reader"); first != "everyone" {
		t.Errorf("the first row is %q", first)
	}
	const cell = "document.querySelector(`[data-reader=everyone] [data-sight='pier published']`)"
	w.do(
		"everyone, piers", chromedp.Evaluate[chromedp.Void](cell+".click()"),
		chromedp.WaitVisible(chromedp.CSS("[data-becomes-readable]")),
	)
	w.when(
		"what becomes readable is said",
		`document.querySelector('[data-becomes-readable]').innerText.startsWith('9 entries become readable')`,
	)
	if a := get(t, &client.Client{Address: line.Connection.Gateway}, "/piers"); a.Status != 401 {
		t.Errorf("open before it was said yes to: %d", a.Status)
	}
	w.press("Open it")
	w.when("it is open", cell+".innerText.trim() === '○'")
	if a := get(t, &client.Client{Address: line.Connection.Gateway}, "/piers"); a.Status != 200 {
		t.Errorf("open to everyone: %d %s", a.Status, a.Body)
	}

	w.press("Make a key")
	w.write("Name", "pier board")
	w.do(
		"every type, published, is taken out",
		chromedp.Evaluate[chromedp.Void](`document.querySelector("input[aria-label='* published']").click()`),
		chromedp.Evaluate[chromedp.Void](`document.querySelector("input[aria-label='notice published']").click()`),
	)
	w.press("Make it")
	w.do("the secret is hidden at first", chromedp.WaitVisible(chromedp.CSS("[data-secret=hidden]")))
	w.press("Show")
	w.do("and shown once", chromedp.WaitVisible(chromedp.CSS("[data-secret=shown]")))
	secret := w.value("document.querySelector('[data-secret]').innerText.trim()")
	holder := &client.Client{Address: line.Connection.Gateway, Key: secret}
	if a := get(t, holder, "/notices?fields=title"); a.Status != 200 {
		t.Fatalf("with the new key: %d %s", a.Status, a.Body)
	}
	if a := get(t, holder, "/routes?fields=name"); a.Status != 403 {
		t.Errorf("with the new key, routes: %d", a.Status)
	}
	w.press("Close")
	w.do("the refusal is listed", chromedp.WaitVisible(chromedp.CSS("[data-refusal='read published route']")))
	w.do(
		"why",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelector("[data-refusal='read published route']").querySelectorAll('button')].find(b => b.innerText === 'Why?').click()`,
		),
		chromedp.WaitVisible(chromedp.CSS("[data-reason=no-grant]")),
	)
	w.do(
		"its mend",
		chromedp.Evaluate[chromedp.Void](`document.querySelector("[data-mend='Give the grant to the key']").click()`),
		chromedp.WaitVisible(chromedp.CSS("[data-visible=true]")),
	)
	if a := get(t, holder, "/routes?fields=name"); a.Status != 200 {
		t.Errorf("after the mend: %d %s", a.Status, a.Body)
	}
	w.press("Close")
	w.do(
		"the key's own part",
		chromedp.Evaluate[chromedp.Void](`document.querySelector("[data-reader='pier board'] button").click()`),
		chromedp.WaitVisible(chromedp.CSS("[data-key-detail='pier board']")),
	)
	w.press("Revoke…")
	w.press("Revoke")
	testkit.Eventually(
		t, "the key is revoked", func() bool { return get(t, holder, "/notices?fields=title").Status == 401 },
	)

	done, err := admin().Entries().Edit(t.Context(), api.Edit{
		Type: "pier",
		Save: map[string]any{"name": "Gannet Steps"},
	})
	if err != nil {
		t.Fatal(err)
	}
	id := done.Entries[0].ID
	t.Cleanup(func() {
		_, _ = admin().Entries().Edit(context.Background(), api.Edit{ID: id, Do: "delete", EvenIfReferred: true})
	})
	w.do(
		"to the entry", chromedp.Navigate(base+"/entries/"+id),
		chromedp.WaitVisible(chromedp.CSS("[data-field=name]")),
	)
	w.press("Why not visible?")
	w.do("it is a draft", chromedp.WaitVisible(chromedp.CSS("[data-reason=draft]")))
	w.do(
		"its mend", chromedp.Evaluate[chromedp.Void](`document.querySelector("[data-mend='Publish it']").click()`),
		chromedp.WaitVisible(chromedp.CSS("[data-visible=true]")),
	)
	if a := get(t, &client.Client{Address: line.Connection.Gateway}, "/piers/gannet-steps"); a.Status != 200 {
		t.Errorf("after the mend: %d", a.Status)
	}
	w.do(
		"the page of its own", chromedp.Navigate(base+"/why?entry=gannet-step"),
		chromedp.WaitVisible(chromedp.CSS("[data-reason=no-entry]")),
	)
	w.shows("the nearest is gannet-steps")
	w.do(
		"the audit log", chromedp.Navigate(base+"/audit?what=key"),
		chromedp.WaitVisible(chromedp.CSS("[data-what='key revoke']")),
	)
	w.shows(line.Connection.Accounts[0].Email)
}

// TestOwnAccount makes an account with the console, and goes in by its
// link.
func TestOwnAccount(t *testing.T) {
	w := inBrowser(t, 0)
	base := line.Connection.Gateway + "/console"
	w.do("to Accounts", chromedp.Navigate(base+"/accounts"), chromedp.WaitVisible(chromedp.CSS("[data-account]")))
	w.press("Add an account")
	w.write("E-mail", "pen@skerry.example")
	w.write("Name", "Pen Wilder")
	w.press("Add")
	w.do("the link", chromedp.WaitVisible(chromedp.CSS("[data-link]")))
	link := w.value("document.querySelector('[data-link]').innerText.trim()")
	if !strings.HasPrefix(link, line.Connection.Gateway+"/console/welcome#") {
		t.Fatalf("the link is %q", link)
	}
	w.do(
		"it is reloaded", chromedp.Navigate(base+"/accounts"),
		chromedp.WaitVisible(chromedp.CSS("[data-account='pen@skerry.example']")),
	)
	w.press("Sign out")
	w.do("signed out", chromedp.WaitVisible(chromedp.CSS("input[name=email]")))
	w.do(
		"by the link",
		chromedp.Navigate("about:blank"),
		chromedp.Navigate(link),
		chromedp.WaitVisible(chromedp.CSS("input[name=password]")),
		chromedp.SendKeys(
			chromedp.CSS("input[name=password]"), "eleven left gloves",
		),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
		chromedp.WaitVisible(chromedp.CSS("[data-figure]")),
	)
	w.shows("pen@skerry.example")
	w.when(
		"what is for admins is not offered",
		"!document.querySelector(`a[href='/console/main/keys']`) && "+
			"!!document.querySelector(`a[href='/console/main/entries']`)",
	)
	id := func() string {
		done, err := admin().Entries().Edit(t.Context(), api.Edit{
			Type: "fare",
			Save: map[string]any{
				"name":  map[string]any{"en": "Dog"},
				"price": map[string]any{"amount": 900, "currency": "NOK"},
			},
		})
		if err != nil {
			t.Fatal(err)
		}
		return done.Entries[0].ID
	}()
	w.do("an entry", chromedp.Navigate(base+"/entries/"+id), chromedp.WaitVisible(chromedp.CSS("[data-field=name]")))
	w.when(
		"an editor does not publish",
		"[...document.querySelectorAll('button')].find(b => b.innerText === 'Publish…').disabled",
	)
	w.do("the link again", chromedp.Navigate("about:blank"), chromedp.Navigate(link))
	w.shows("This link was used already")
	if resp, err := http.Get(line.Connection.Gateway + "/control/v1/session"); err != nil || resp.StatusCode != 401 {
		t.Errorf("without a cookie: %v %v", err, resp)
	}
}

// TestThePreviewOfADraftOnTheSite follows a preview link to the site, and reads
// labels in the locale that a path tells.
func TestThePreviewOfADraftOnTheSite(t *testing.T) {
	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Search: "draft-easter-timetable"})
	if err != nil || len(items) != 1 {
		t.Fatal(err, items)
	}
	link, err := admin().Keys().Preview(t.Context(), items[0].ID, api.PreviewOptions{Minutes: new(5)})
	if err != nil || len(link.Addresses) != 1 ||
		!strings.HasPrefix(
			link.Addresses[0].Address,
			line.Connection.Slipway+"/preview?path=%2Fnotices%2Fdraft-easter-timetable&token=ubv_",
		) {
		t.Fatal(err, link)
	}
	var cookie *http.Cookie // which a browser keeps for the site, and a client of Go only over https
	page := func(address string) (int, string) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
		if err != nil {
			t.Fatal(err)
		}
		if cookie != nil {
			req.Header.Set("Cookie", cookie.Name+"="+cookie.Value)
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		for _, c := range resp.Cookies() {
			if cookie = c; c.MaxAge < 0 {
				cookie = nil
			} else if !c.HttpOnly || !c.Secure || !c.Partitioned {
				t.Errorf("the cookie is %s", c)
			}
		}
		body, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(body)
	}
	draft := line.Connection.Slipway + "/notices/draft-easter-timetable/"
	testkit.Eventually(t, "the site is built, and a draft is not there to visitors", func() bool {
		status, _ := page(draft)
		return status == 404
	})
	if status, _ := page(link.Addresses[0].Address); status != 307 || cookie == nil {
		t.Fatalf("the preview begins with %d, %v", status, cookie)
	}
	if status, body := page(draft); status != 200 ||
		!strings.Contains(body, "<h1>Draft - easter timetable") || !strings.Contains(body, "This is a preview") ||
		!strings.Contains(body, "Not decided yet.") {
		t.Errorf("%d %s", status, body)
	}
	if status, _ := page(strings.Replace(link.Addresses[0].Address, "draft-easter-timetable",
		"ramp-at-mella-under-repair", 1)); status != 404 {
		t.Errorf("another page with the same link: %d", status)
	}
	if status, body := page(line.Connection.Slipway + "/notices/"); status != 200 ||
		strings.Contains(body, "This is a preview") {
		t.Errorf("a page that the link does not show: %d %s", status, body)
	}
	if status, _ := page(line.Connection.Slipway + "/preview/end?path=/notices/"); status != 307 || cookie != nil {
		t.Errorf("the preview ends with %d, %v", status, cookie)
	}
	if status, _ := page(draft); status != 404 {
		t.Errorf("a draft, after the preview: %d", status)
	}
	for path, want := range map[string]string{
		"/notices/north-line-cancelled-on-sunday": `"Cancelled"`,
		"/varsler/north-line-cancelled-on-sunday": `"Innstilt"`,
	} {
		if a := get(t, reader(), "/at?path="+path+"&fields=severity(label)"); !strings.Contains(
			string(a.Body), want,
		) {
			t.Errorf("%s: %s", path, a.Body)
		}
	}
}

// TestOnesOwnAccount goes through what somebody who is signed in does for themselves, and
// is asked for the password before changing who may do what.
func TestOnesOwnAccount(t *testing.T) {
	items, _, err := admin().Entries().List(t.Context(), api.EntryFilter{Search: "draft-easter-timetable"})
	if err != nil || len(items) != 1 {
		t.Fatal(err, items)
	}
	link, err := admin().Keys().Preview(t.Context(), items[0].ID, api.PreviewOptions{Minutes: new(5)})
	if err != nil {
		t.Fatal(err)
	}
	w := inBrowser(t, 0)
	base := line.Connection.Gateway + "/console"
	w.do(
		"to the preview links", chromedp.Navigate(base+"/previews"),
		chromedp.WaitVisible(chromedp.CSS("[data-preview='"+link.ID+"']")),
	)
	w.press("Revoke")
	w.when("it is revoked", "document.querySelector(`[data-preview='"+link.ID+"']`).innerText.includes('revoked')")
	if a, err := (&client.Client{Address: line.Connection.Gateway, Key: link.Token}).Do(t.Context(), http.MethodGet,
		"/content/main/preview/entries/"+items[0].ID, nil, nil); err != nil ||
		a.Status != 401 {
		t.Errorf("a revoked link: %v %+v", err, a)
	}
	database, err := cluster.RunningURL(line.Data)
	if err != nil {
		t.Fatal(err)
	}
	db, err := pgx.Connect(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.WithoutCancel(t.Context()))
	if _, err := db.Exec(t.Context(), `update session set proved = proved - interval '1 hour'`); err != nil {
		t.Fatal(err)
	}
	w.do("to Accounts", chromedp.Navigate(base+"/accounts"), chromedp.WaitVisible(chromedp.CSS("[data-account]")))
	w.press("Add an account")
	w.write("E-mail", "sula@skerry.example")
	w.write("Name", "Sula Gannet")
	w.press("Add")
	w.do(
		"the password is asked for", chromedp.WaitVisible(chromedp.CSS("form#proof input")),
		chromedp.SendKeys(chromedp.CSS("form#proof input"), "not this one"), chromedp.KeyEvent("\r"),
	)
	w.shows("the password is wrong")
	w.do(
		"and given",
		chromedp.SendKeys(chromedp.CSS("form#proof input"), strings.Repeat("\b", 12)+
			line.Connection.Accounts[0].Password),
		chromedp.KeyEvent("\r"), chromedp.WaitVisible(chromedp.CSS("[data-link]")),
	)
	w.shows("sula@skerry.example") // what was entered is not lost
	w.do("to the own account", chromedp.Navigate(base+"/you"), chromedp.WaitVisible(chromedp.CSS("[data-session]")))
	w.shows("this one")
	nameless, err := chromedp.Run(w.b, chromedp.Evaluate[[]string](nameless))
	if err != nil || len(nameless) > 0 {
		t.Errorf("nobody can name %q, %v", nameless, err)
	}
}
