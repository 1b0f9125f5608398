package demo_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/console"
	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/demo"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// TestConnectingAnOriginInTheConsole connects a system that sends its own JSON with an HMAC, by the
// console alone: its calls are looked at, a configuration is tried on them and on an item, and saved.
func TestConnectingAnOriginInTheConsole(t *testing.T) {
	master := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/berths":
			_, _ = w.Write([]byte(`{"berths": [{"no": 7, "words": "Berth 7 closed"}, {"no": 8}]}`))
		case "/berths/7":
			_, _ = w.Write([]byte(`{"no": 7, "words": "Berth 7 closed"}`))
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(master.Close)
	announce := func() int {
		body := `{"did": "changed", "berth": {"no": 7}}`
		mac := hmac.New(sha256.New, []byte("ebb and flood"))
		mac.Write([]byte(body))
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost,
			line.Connection.Gateway+"/hooks/harbour-master", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("X-Berth-Signature", hex.EncodeToString(mac.Sum(nil)))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if err := admin().Settings().SetSecret(t.Context(), "berths", "ebb and flood"); err != nil {
		t.Fatal(err)
	}
	w := inBrowser(t, 0)
	w.follow("Origins")
	w.do("the origins", chromedp.WaitVisible(chromedp.CSS("[data-origin=tide-tables]")))
	w.write("Name of the new origin", "harbour-master")
	w.press("See what it sends")
	w.press("Keep the next calls for ten minutes")
	w.shows("are kept until")
	if status := announce(); status != http.StatusAccepted {
		t.Fatalf("a call that is kept: %d", status)
	}
	w.do("the call", chromedp.WaitVisible(chromedp.CSS("[data-call]")))
	w.shows(`"did": "changed"`)
	spec := `{pull: {http: "` + master.URL + `"}, prove: {hmac: {header: X-Berth-Signature, secret: "secret:berths"}}, ` +
		`decode: {json: {event: $.did, values: {changed: published}, key: $.berth.no}}, types: {notice: {kind: berths, ` +
		`from: "$.berths[*]", id: $.no, fields: {title: $.words, severity: {value: information}}}}}`
	// The editor closes brackets by itself, so the text is put in as it would be pasted.
	w.do("the editor", chromedp.Click(chromedp.CSS("[aria-label='The configuration on trial']")),
		chromedp.Evaluate[chromedp.Void](`document.execCommand("selectAll")`),
		chromedp.Evaluate[chromedp.Void](`document.execCommand("insertText", false, `+"`"+spec+"`"+`)`))
	w.shows("– not saved")
	w.press("Try it")
	w.shows("● published: berths 7 becomes notice")
	w.press("Fetch it")
	w.shows("✓ it would be taken over")
	w.do("another page and back", chromedp.Reload(), chromedp.WaitVisible(chromedp.CSS("[data-call]")))
	w.shows("– not saved") // what was typed is still there
	w.press("Configure…")
	w.press("Save")
	w.when("it is configured", `document.querySelector("main h1")?.innerText === "harbour-master" &&
		document.querySelector("[data-untaken='8']") !== null`)
	w.shows("title")
	w.press("Act on calls again")
	w.when("calls are acted on", `!document.querySelector("main").innerText.includes("are kept until")`)
	if status := announce(); status != http.StatusAccepted {
		t.Fatalf("a call: %d", status)
	}
	testkit.Eventually(t, "the announcement is carried out", func() bool {
		all, err := admin().Origins().Events(t.Context(), api.EventFilter{Filter: "origin = 'harbour-master'"})
		return err == nil && len(all) == 1 && all[0].State == "done" && all[0].Title == "Berth 7 closed"
	})
	w.press("Compare")
	w.do("compared", chromedp.WaitVisible(chromedp.CSS("[data-comparison]")))
	w.shows("2 items: 1 are the same")
	if err := admin().Settings().Remove(t.Context(), "origin", "harbour-master"); err != nil {
		t.Fatal(err)
	}
	if _, err := admin().Origins().Retire(t.Context(), "harbour-master", "delete", true, nil); err != nil {
		t.Error(err)
	}
}

// TestTideTablesAreReadCommitByCommit changes a file in the repository, and pushes.
func TestTideTablesAreReadCommitByCommit(t *testing.T) {
	file := filepath.Join(line.Connection.Tides, "tables", "ostra-week-49.md")
	src, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(src), "stays dry", "is under water", 1)
	if err := os.WriteFile(file, []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("git", "commit", "-qam", "Østra: the quay floods")
	c.Dir = line.Connection.Tides
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	testkit.Eventually(t, "the commit is delivered", func() bool {
		a, err := reader().Do(t.Context(), http.MethodGet,
			"/content/main/published/tides/ostra-week-49?fields=text(plain)", nil, nil)
		return err == nil && strings.Contains(string(a.Body), "is under water")
	})
	testkit.Eventually(t, "an event names it", func() bool {
		all, err := admin().Origins().Events(t.Context(), api.EventFilter{Filter: "origin = 'tide-tables'"})
		return err == nil && len(all) > 0 && strings.Contains(all[0].Detail, "Østra: the quay floods (Jon Askvoll)")
	})
}

// TestAWeblogClientPings has a client from npm announce a change, as weblogs do.
func TestAWeblogClientPings(t *testing.T) {
	var asked atomic.Int32
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		_, _ = w.Write([]byte(`{"posts": []}`))
	}))
	t.Cleanup(web.Close)
	spec := `{pull: {http: "` + web.URL + `"}, prove: {none: true}, decode: xmlrpc, ` +
		`types: {notice: {from: "$.posts[*]", id: $.id, fields: {title: $.title}}}}`
	if _, err := admin().Settings().Put(t.Context(), "origin", "weblog", []byte(spec), 0, false); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = admin().Settings().Remove(t.Context(), "origin", "weblog") })
	run := exec.CommandContext(t.Context(), "node", "--input-type=module", "-e", `
		import xmlrpc from "xmlrpc";
		const client = xmlrpc.createClient(process.env.HOOK);
		const call = (name, parameters) => new Promise((done) => client.methodCall(name, parameters, (error, value) => done(error ? String(error) : value)));
		process.stdout.write(JSON.stringify([
			await call("weblogUpdates.ping", ["Østra & Mella", "https://log.skerry.example/"]),
			await call("weblogUpdates.extendedPing", ["Skerry log", "https://log.skerry.example/", "https://log.skerry.example/fog", "https://log.skerry.example/feed"]),
			await call("weblogUpdates.none", []),
		]));`)
	run.Dir = "../../console" // where the packages are
	run.Env = append(os.Environ(), "HOOK="+line.Connection.Gateway+"/hooks/weblog")
	out, err := run.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, want := range []string{`[{"flerror":false,`, `},{"flerror":false,`, `},{"flerror":true,`, "weblogUpdates.none"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("lacks %s: %s", want, out)
		}
	}
	testkit.Eventually(t, "the weblog is read after the ping", func() bool { return asked.Load() > 1 })
}

// TestAShapeInTheConsole changes what a member is in one type, sees it at once, and applies it.
func TestAShapeInTheConsole(t *testing.T) {
	w := inBrowser(t, 0)
	w.follow("Shapes")
	w.do("the shapes", chromedp.WaitVisible(chromedp.CSS("[data-shape=byline]")))
	w.press("New shape")
	w.write("Name", "row")
	w.press("Done")
	w.shows("Choose a type at least.")
	w.tick("Pier")
	w.tick("Service notice")
	w.press("Done")
	w.press("Member")
	w.replace("Member 1", "words")
	w.write("words of pier", "name")
	w.write("words of notice", "titel")
	w.choose("Entry", idOf(t, "notice", "Ramp at Mella"))
	w.shows(`there is no field "titel"`)
	w.replace("words of notice", "title")
	w.when(
		"the entry is in the shape",
		`document.querySelector("[data-result]")?.innerText.includes('"words": "Ramp at Mella')`,
	)
	w.shows("It depends on title of Ramp at Mella")
	w.press("Apply")
	w.when("it is applied", `!document.querySelector("[data-plan]")`)
	if a := get(t, reader(), "/piers?shape=row&limit=1"); a.Status != 200 ||
		!strings.Contains(string(a.Body), `"words":"`) {
		t.Errorf("read in the shape: %d %s", a.Status, a.Body)
	}
	w.press("Remove")
	w.press("Apply")
	w.when("it is gone", `!document.querySelector("[data-plan]")`)
}

// TestTheDemoSwapsItsDispatches moves them from the office to a folder, and finds the site the same. Then the
// console takes it back.
func TestTheDemoSwapsItsDispatches(t *testing.T) {
	var said strings.Builder
	d, err := demo.Start(t.Context(), demo.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", Office: "127.0.0.1:0", Slipway: "127.0.0.1:0", Scratch: true, Swap: true,
		Console: console.Files(), Say: &said,
	})
	if err != nil {
		t.Fatalf("%v\n%s", err, said.String())
	}
	defer d.Close()
	if !strings.Contains(said.String(), "files are the same, byte by byte") {
		t.Errorf("said: %s", said.String())
	}
	c := &client.Client{Address: d.Connection.Gateway, Key: d.Connection.Keys.Admin}
	all, err := c.Origins().List(t.Context())
	for _, o := range all {
		if want, is := map[string]int{"harbour-office": 8, "dispatch-folder": 11}[o.Name]; is && o.Entries != want {
			t.Errorf("%s has %d entries, want %d", o.Name, o.Entries, want)
		}
	}
	if err != nil || len(all) != 4 {
		t.Errorf("%d origins, %v", len(all), err)
	}
	b, stop, err := browser.Tab()
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	who := d.Connection.Accounts[0]
	if err := browser.SignIn(b, d.Connection.Gateway, who.Email, who.Password, false); err != nil {
		t.Fatal(err)
	}
	w := writer{t, b}
	w.follow("Origins")
	w.click("the office", `document.querySelector("[data-origin=harbour-office] a")`)
	w.choose("The other origin", "dispatch-folder")
	w.press("Rehearse")
	w.shows("harbour-office would take the place of dispatch-folder for dispatch: 11 entries change hands")
	w.shows("are the same, 0 differ")
	w.press("Swap")
	w.shows("harbour-office has taken the place of dispatch-folder")
	testkit.Eventually(t, "the office has its dispatches back", func() bool {
		all, err := c.Origins().List(t.Context())
		return err == nil && slices.ContainsFunc(all, func(o api.OriginState) bool {
			return o.Name == "harbour-office" && o.Entries == 19
		})
	})
}
