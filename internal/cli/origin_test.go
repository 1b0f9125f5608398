package cli

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ubiquon/internal/client"
)

// TestOriginsByCommandLine tries items and calls, keeps calls, and compares; what is signed is signed by
// openssl.
func TestOriginsByCommandLine(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	has := func(out string, wants ...string) {
		t.Helper()
		for _, want := range wants {
			if !strings.Contains(out, want) {
				t.Errorf("lacks %q:\n%s", want, out)
			}
		}
	}
	has(must(t, "origin", "list"), "tide-tables", "git", "weather", "feed", "harbour-office", "http")
	has(must(t, "origin", "show", "tide-tables"), "read from", "proven by", "hmac")
	has(must(t, "origin", "compare", "tide-tables"), "5 items: 5 are the same, 0 differ")
	has(must(t, "origin", "try", "weather"), "entry", "forecast", "✓ it would be taken over")

	spec := write("origins.yaml", `
origins:
  crew:
    pull: {push: true}
    prove: {basic: "secret:crew"}
    decode: {json: {event: $.did, values: {moored: published}, key: $.boat}}
    types:
      notice: {fields: {title: $.says, severity: {path: $.level, values: {low: information}}}}
`)
	c := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	if err := c.Settings().SetSecret(t.Context(), "crew", "mate:ahoy"); err != nil {
		t.Fatal(err)
	}
	item := write("item.json", `{"key": "b1", "says": "Boat one is moored", "level": "low"}`)
	has(
		must(t, "origin", "try", "crew", "--item", item, "--spec", spec),
		"Boat one is moored",
		"✓ it would be taken over",
	)
	item = write("item.json", `{"key": "b1", "says": "Boat one is moored", "level": "high"}`)
	has(must(t, "origin", "try", "crew", "--item", item, "--spec", spec), `✗ notice/b1: field severity: "high" is none`)
	refused(t, "there is no origin", "origin", "try", "crew", "--item", item)

	call := write("call.json", `{"did": "moored", "boat": "b1"}`)
	out := must(
		t,
		"hook",
		"try",
		"crew",
		"--spec",
		spec,
		"--file",
		call,
		"--header",
		"Authorization: Basic bWF0ZTphaG95",
	)
	has(out, "✓ proven: basic", "✓ published: notice b1 (notice)")
	has(must(t, "hook", "try", "crew", "--spec", spec, "--file", call), "✗ not proven to come from the origin: basic")
	if code, _, errOut := run(t, "hook", "try", "crew", "--header", "nonsense"); code != exitMisuse {
		t.Errorf("%d %s", code, errOut)
	}

	push := write("push.json", `{"ref": "refs/heads/main"}`)
	signed, err := exec.Command("openssl", "dgst", "-sha256", "-hmac", line.Connection.TidesSecret, "-r", push).Output()
	if err != nil {
		t.Fatal(err)
	}
	signature, _, _ := strings.Cut(string(signed), " ")
	has(must(t, "hook", "try", "tide-tables", "--file", push, "--header", "X-Tide-Signature: sha256="+signature),
		"✓ proven: hmac", "✓ ping: what has changed is asked for")

	has(
		must(t, "hook", "capture", "night-watch", "--minutes", "5"),
		"are kept until",
		"ubiquon hook captured night-watch",
	)
	resp, err := http.Post(line.Connection.Gateway+"/hooks/night-watch", "text/plain", strings.NewReader("all quiet"))
	if err != nil || resp.StatusCode != http.StatusAccepted {
		t.Fatal(resp, err)
	}
	resp.Body.Close()
	has(must(t, "hook", "captured", "night-watch"), "all quiet", "content-type: text/plain")
	has(must(t, "hook", "capture", "night-watch", "--end"), "acted on again")
	refused(t, "minutes is 1 to 120", "hook", "capture", "night-watch", "--minutes", "999")

	has(must(t, "shape", "list"), "teaser", "dispatch, notice, tide")
	has(must(t, "shape", "show", "teaser"), "summary", "text(plain)", "shape=teaser")
	has(must(t, "shape", "check"), "shapes fit the model")
	refused(t, `did you mean "teaser"`, "shape", "show", "teasre")
	bad := t.TempDir()
	if err := os.WriteFile(filepath.Join(bad, "m.yaml"), []byte(
		"types: {a: {fields: {b: {kind: text}}}}\nshapes: {s: {of: [a], fields: {x: c}}}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	refused(t, `there is no field "c"`, "shape", "check", "--model", bad)
	must(t, "secret", "remove", "crew")
}
