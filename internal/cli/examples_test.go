package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
	"ubiquon/kit"
)

// example is one of the example sites, installed elsewhere as a front end is, connected to the demo and
// running.
type example struct {
	t       *testing.T
	name    string
	address string
	c       *client.Client
	tab     context.Context // of a browser
}

// runExample installs an example site, connects it by the command line, has npm run prepare it, and starts
// it.
func runExample(t *testing.T, which, call string, steps ...string) *example {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join("../../kit/examples", which))); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	e := &example{
		t: t, name: "example-" + which, address: fmt.Sprintf("http://127.0.0.1:%d", port),
		c: &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin},
	}
	made := must(t, "site", "connect", e.name, "--site-address", e.address, call, e.address+"/"+strings.Trim(call, "-"),
		"--wait", "0", "-o", "json")
	var connected struct{ Environment map[string]string }
	if err := json.NewDecoder(strings.NewReader(made[strings.Index(made, "{\n"):])).Decode(&connected); err != nil {
		t.Fatal(err, made)
	}
	env := append(os.Environ(), fmt.Sprintf("PORT=%d", port))
	for name, value := range connected.Environment {
		env = append(env, name+"="+value)
	}
	npm := func(args ...string) *exec.Cmd {
		c := exec.CommandContext(t.Context(), "npm", args...)
		c.Dir, c.Env = dir, env
		return c
	}
	for _, args := range append([][]string{
		{"install", "--no-audit", "--no-fund"},
		{"install", "--no-audit", "--no-fund", line.Connection.Gateway + "/kit/" + kit.Name},
	}, slices.Collect(func(yield func([]string) bool) {
		for _, s := range steps {
			if !yield([]string{"run", s}) {
				return
			}
		}
	})...) {
		if out, err := npm(args...).CombinedOutput(); err != nil {
			t.Fatalf("npm %v: %v\n%s", args, err, out)
		}
	}
	site := npm("start")
	site.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // npm starts others
	site.Cancel = func() error { return syscall.Kill(-site.Process.Pid, syscall.SIGKILL) }
	var said strings.Builder
	site.Stdout, site.Stderr = &said, &said
	if err := site.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = site.Wait()
		if t.Failed() {
			t.Log(said.String())
		}
		must(t, "rule", "remove", "Keep "+e.name+" fresh")
		must(t, "site", "remove", e.name)
	})
	testkit.Eventually(t, "the site is there", func() bool {
		resp, err := http.Get(e.address)
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	})
	return e
}

// get reads a page of the site.
func (e *example) get(path string) string {
	resp, err := http.Get(e.address + path)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	return string(body)
}

// visit opens a page in a browser, and returns what is read there.
func (e *example) visit(path string, steps ...chromedp.Action[chromedp.Void]) string {
	e.t.Helper()
	if e.tab == nil {
		tab, stop, err := browser.Tab()
		if err != nil {
			e.t.Fatal(err)
		}
		e.t.Cleanup(stop)
		e.tab = tab
	}
	within, cancel := context.WithTimeout(e.tab, time.Minute)
	defer cancel()
	if err := chromedp.Do(within, append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(e.address + path)},
		steps...)...); err != nil {
		e.t.Fatalf("%s in a browser: %v", path, err)
	}
	text, err := chromedp.Run(within, chromedp.Text(chromedp.CSS("body")))
	if err != nil {
		e.t.Fatal(err)
	}
	return text
}

// shows waits until a page has a text.
func (e *example) shows(path, text string) {
	e.t.Helper()
	last := ""
	defer func() {
		if e.t.Failed() {
			e.t.Log(last)
		}
	}()
	testkit.Eventually(e.t, path+" shows "+text, func() bool {
		last = e.get(path)
		return strings.Contains(last, text)
	})
}

// publish makes and publishes a notice, or changes it.
func (e *example) publish(slug, title string) string {
	e.t.Helper()
	id := content.MakeID(content.Local, "notice", slug)
	if _, err := e.c.Entries().Edit(e.t.Context(), api.Edit{
		ID: id, Type: "notice", Do: "publish", Save: content.Fields{
			"title": map[string]any{"en": title}, "slug": slug, "severity": "information",
			"text": map[string]any{"en": "It is **" + title + "**."},
		},
	}); err != nil {
		e.t.Fatal(err)
	}
	return id
}

// live waits until visitors were found to have a change.
func (e *example) live() {
	e.t.Helper()
	testkit.Eventually(e.t, "the change was seen on the site", func() bool {
		all, err := e.c.Settings().Sites(e.t.Context())
		i := slices.IndexFunc(all, func(s api.SiteInfo) bool { return s.Name == e.name })
		return err == nil && all[i].Liveness.Pages > 0 && all[i].Liveness.Waiting == 0
	})
}

// built waits until no build of the site is waiting or running, and returns those that have ended.
func (e *example) built() []rebuild.Build {
	e.t.Helper()
	var out []rebuild.Build
	testkit.Eventually(e.t, "all builds have ended", func() bool {
		all, err := e.c.Builds().List(e.t.Context(), e.name, 20)
		out = all
		return err == nil && len(all) > 0 &&
			!slices.ContainsFunc(all, func(b rebuild.Build) bool { return b.Finished == nil })
	})
	return out
}

// TestTheStaticExample builds the example that is built: all of it once, then what changes show on.
func TestTheStaticExample(t *testing.T) {
	e := runExample(t, "static", "--build")
	e.publish("kiosk-opens", "The kiosk opens")
	must(t, "site", "rebuild", e.name, "--now")
	e.shows("/notices/kiosk-opens", "<strong>The kiosk opens</strong>")
	e.shows("/", "The kiosk opens")
	testkit.Eventually(t, "the pages are known", func() bool {
		return strings.Contains(must(t, "page", "list", e.name), "/notices/kiosk-opens")
	})
	e.built()
	const other = "/notices/ramp-at-mella-under-repair"
	before := e.get(other)
	e.publish("kiosk-opens", "The kiosk opens at nine")
	e.shows("/notices/kiosk-opens", "The kiosk opens at nine")
	e.shows("/", "The kiosk opens at nine")
	if !slices.ContainsFunc(e.built(), func(b rebuild.Build) bool {
		return slices.Equal([]string(b.Pages), []string{"/", "/notices/kiosk-opens"})
	}) {
		t.Errorf("no build was asked for the two pages: %+v", e.built())
	}
	for _, b := range e.built() {
		what := fmt.Sprintf("%d pages", len(b.Pages))
		if b.Pages.IsAll() {
			what = "all"
		}
		if b.State == rebuild.Finished {
			t.Logf("a build of %s took %v from its start", what, b.Finished.Sub(*b.Started).Round(time.Millisecond))
		}
	}
	if after := e.get(other); after != before || !strings.Contains(after, "Rendered by build") {
		t.Errorf("a page that nothing has changed of: %s", after)
	}
	e.live()
	if text := e.visit("/", chromedp.Click(chromedp.CSS(`a[href*="kiosk-opens"]`)),
		chromedp.WaitVisible(chromedp.CSS("strong"))); !strings.Contains(text, "The kiosk opens at nine") {
		t.Errorf("in a browser, from the list to the notice: %s", text)
	}
	id := e.publish("kiosk-closes", "The kiosk closes")
	e.shows("/notices/kiosk-closes", "The kiosk closes")
	if _, err := e.c.Entries().Edit(t.Context(), api.Edit{ID: id, Do: "delete"}); err != nil {
		t.Fatal(err)
	}
	e.shows("/notices/kiosk-closes", "There is no such page.")
}

var serverExample = flag.Bool("examples", false, "try the example site that is rendered on a server, too")

// TestTheServerExample has the example that renders on a server render what is stale, and show a draft.
func TestTheServerExample(t *testing.T) {
	if !*serverExample {
		t.Skip("make examples tries it: its framework takes 340 MB")
	}
	id := content.MakeID(content.Local, "notice", "net-mending")
	e := runExample(t, "server", "--refresh", "build")
	e.publish("net-mending", "Net mending")
	e.shows("/notices/net-mending", "<strong>Net mending</strong>")
	e.shows("/", "Net mending")
	before := e.get("/notices/ramp-at-mella-under-repair")
	if e.get("/notices/ramp-at-mella-under-repair") != before {
		t.Error("a page is not kept")
	}
	testkit.Eventually(t, "the pages are known", func() bool {
		known := must(t, "page", "list", e.name)
		return strings.Contains(known, "/notices/net-mending") && strings.Contains(known, "/notices/ramp-at-mella")
	})
	e.publish("net-mending", "Net mending on Friday")
	e.shows("/notices/net-mending", "Net mending on Friday")
	e.shows("/", "Net mending on Friday")
	e.live()
	if after := e.get("/notices/ramp-at-mella-under-repair"); after != before {
		t.Error("a page is rendered again that shows nothing of it")
	}
	if _, err := e.c.Entries().Edit(t.Context(), api.Edit{
		ID: id, Type: "notice", Save: content.Fields{
			"title": map[string]any{"en": "Net mending, a draft"}, "slug": "net-mending", "severity": "information",
		},
	}); err != nil {
		t.Fatal(err)
	}
	link, err := e.c.Keys().Preview(t.Context(), id, api.PreviewOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if text := e.visit("/", chromedp.Click(chromedp.CSS(`a[href*="net-mending"]`)),
		chromedp.WaitVisible(chromedp.CSS("strong"))); !strings.Contains(text, "Net mending on Friday") {
		t.Errorf("in a browser, from the list to the notice: %s", text)
	}
	if text := e.visit("/preview?path=/notices/net-mending&token=" + link.Token); !strings.Contains(
		text, "Net mending, a draft") {
		t.Errorf("the preview: %s", text)
	}
	if text := e.visit("/notices/net-mending"); !strings.Contains(text, "Net mending, a draft") {
		t.Errorf("another page of the preview: %s", text)
	}
	if text := e.visit("/exit?path=/notices/net-mending"); !strings.Contains(text, "Net mending on Friday") {
		t.Errorf("after the preview: %s", text)
	}
	e.shows("/notices/net-mending", "Net mending on Friday")
}
