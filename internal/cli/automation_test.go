package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/skerry"
)

// file writes a file and returns its path.
func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "record.yaml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestRulesByCommandLine makes a rule, sees why a save did not set it off and that a publish did,
// switches it off, and brings back an earlier version.
func TestRulesByCommandLine(t *testing.T) {
	const name = "Rebuild on banners"
	good := file(t, "on: [published]\ntypes: [banner]\ndo:\n  - rebuild: {site: skerry-web}\n")
	refused(t, `do[0].rebuild.site: there is no site "skerry-wb"`, "rule", "create", name, "--file",
		file(t, "on: [published]\ntypes: [banner]\ndo:\n  - rebuild: {site: skerry-wb}\n"))
	if out := must(t, "rule", "create", name, "--file", good, "--check"); !strings.Contains(out, "Nothing is wrong") {
		t.Error(out)
	}
	if out := must(t, "rule", "create", name, "--file", good); !strings.Contains(out, "version 1") {
		t.Error(out)
	}
	t.Cleanup(func() { must(t, "rule", "remove", name) })
	id := savedID.FindStringSubmatch(must(t, "entry", "create", "banner", "--set", "title.en=Winter is coming"))[1]
	testkit.Eventually(t, "the save is in the log", func() bool {
		return strings.Contains(
			must(t, "rule", "runs", "--rule", name, "--outcome", "not-fired"),
			"event: it is on published",
		)
	})
	if out := must(t, "rule", "try", name, "--entry", id); !strings.Contains(out, "it would fire") ||
		!strings.Contains(out, "ask for a build of skerry-web") {
		t.Error(out)
	}
	must(t, "entry", "publish", id)
	testkit.Eventually(t, "the publish is in the log", func() bool {
		return strings.Contains(must(t, "rule", "runs", "--rule", name, "--outcome", "fired"), "asked for a build")
	})
	var runs struct{ Items []api.RuleRun }
	if err := json.Unmarshal([]byte(must(t, "rule", "runs", "--rule", name, "--outcome", "fired", "-o", "json")),
		&runs); err != nil || len(runs.Items) != 1 {
		t.Fatalf("%+v, %v", runs, err)
	}
	if out := must(t, "rule", "run", "show", fmt.Sprint(runs.Items[0].ID)); !strings.Contains(out, "rebuild") ||
		!strings.Contains(out, "done") {
		t.Error(out)
	}
	refused(t, "no step of the run has failed", "rule", "run", "again", fmt.Sprint(runs.Items[0].ID))
	must(t, "rule", "disable", name)
	if out := must(t, "rule", "list"); !strings.Contains(out, name) || !strings.Contains(out, "off") {
		t.Error(out)
	}
	must(t, "rule", "enable", name)
	if out := must(t, "rule", "history", name); strings.Count(out, "\n") != 4 {
		t.Error(out)
	}
	must(t, "rule", "edit", name, "--file",
		file(t, "at: \"0 6 1 10 *\"\nzone: Europe/Oslo\ndo:\n  - rebuild: {site: skerry-web}\n"))
	testkit.Eventually(t, "it fires by the clock", func() bool {
		return strings.Contains(must(t, "rule", "list", "-o", "json"), `-10-01T04:00:00Z"`)
	})
}

// TestReviewByCommandLine submits, and reads the mail.
func TestReviewByCommandLine(t *testing.T) {
	id := savedID.FindStringSubmatch(must(t, "entry", "create", "notice", "--set", "title.en=Gulls on the ramp", "--set",
		"severity=information"))[1]
	must(t, "entry", "submit", id)
	skerry.Mail(t, line, "duty@skerry.example", "Waiting for approval: Gulls on the ramp")
	must(t, "entry", "approve", id)
	testkit.Eventually(t, "it is listed", func() bool {
		return strings.Contains(must(t, "mail", "sent"), "Waiting for approval: Gulls on the ramp")
	})
	if out := must(t, "mail", "test", "duty@skerry.example"); !strings.Contains(out, "took the message") {
		t.Error(out)
	}
}

// TestFolderByCommandLine exports, changes a file and applies it; a mistake changes nothing.
func TestFolderByCommandLine(t *testing.T) {
	dir := t.TempDir()
	must(t, "export", dir)
	if out := must(t, "diff", dir, "--prune"); !strings.Contains(out, "Nothing differs") {
		t.Error(out)
	}
	path := filepath.Join(dir, "targets.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("targets:\n  crew: {mail: [crew]}\n")
	refused(t, "neither an e-mail address", "apply", dir)
	write("targets:\n  crew: {mail: [crew@skerry.example]}\n")
	if out := must(t, "diff", dir); !strings.Contains(out, "+ target crew") {
		t.Error(out)
	}
	if out := must(t, "apply", dir); !strings.Contains(out, "Applied") {
		t.Error(out)
	}
	if out := must(t, "target", "list"); !strings.Contains(out, "crew@skerry.example") {
		t.Error(out)
	}
	must(t, "target", "remove", "crew")
}

// TestSecretsByCommandLine keeps a secret that a site uses.
func TestSecretsByCommandLine(t *testing.T) {
	t.Setenv("UBIQUON_ADDRESS", line.Connection.Gateway)
	t.Setenv("UBIQUON_KEY", line.Connection.Keys.Admin)
	var out, errOut bytes.Buffer
	in := strings.NewReader("whsec_a2lvc2s=\n")
	if code := Run([]string{"secret", "set", "kiosk"}, in, &out, &errOut); code != exitFine {
		t.Fatalf("%d: %s", code, errOut.String())
	}
	must(t, "site", "create", "kiosk", "--file", file(t, "address: http://127.0.0.1:1\nrefresh: {call: '"+
		line.Connection.Board+"/refresh', secret: 'secret:kiosk'}\n"))
	if list := must(t, "secret", "list"); !strings.Contains(list, "site kiosk") || strings.Contains(list, "a2lvc2s") {
		t.Error(list)
	}
	refused(t, "in use by site kiosk", "secret", "remove", "kiosk")
	if answer := must(t, "site", "test", "kiosk"); !strings.Contains(answer, "401") {
		t.Error(answer)
	}
	must(t, "site", "remove", "kiosk")
	must(t, "secret", "remove", "kiosk")
}

// TestSiteConnectByCommandLine connects a site that reads at once, and one that does not.
func TestSiteConnectByCommandLine(t *testing.T) {
	c := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	done := make(chan string)
	go func() {
		var o, e bytes.Buffer
		Run([]string{
			"site", "connect", "quay", "--address", line.Connection.Gateway, "--key", line.Connection.Keys.Admin,
			"--site-address", "http://127.0.0.1:1", "--refresh", line.Connection.Board + "/refresh", "--wait", "8s",
			"-o", "json",
		}, strings.NewReader(""), &o, &e)
		done <- o.String() + e.String()
	}()
	testkit.Eventually(t, "the site and its rule are there", func() bool {
		_, err := c.Settings().Get(t.Context(), "rule", "Keep quay fresh")
		return err == nil
	})
	if _, _, err := c.Entries().List(t.Context(), api.EntryFilter{Limit: 1}); err != nil {
		t.Fatal(err)
	}
	select {
	case out := <-done:
		if !strings.Contains(out, "UBIQUON_KEY") || !strings.Contains(out, "stalePages(await verifyCall(request))") || !strings.Contains(out, `"read": false`) {
			t.Error(out)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("it does not end")
	}
	must(t, "rule", "remove", "Keep quay fresh")
	must(t, "site", "remove", "quay")
}
