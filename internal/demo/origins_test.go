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
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/testkit"
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
