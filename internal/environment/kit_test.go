package environment_test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/generate"
	"ubiquon/internal/outbound"
	"ubiquon/internal/server"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
	"ubiquon/kit"
)

// TestKit installs the package that the gateway serves, and does with it under Node what a front end does.
func TestKit(t *testing.T) {
	y := newBuiltSite(t)
	y.publish("mella=Mella", "hollow=Hollow Bay")
	route := content.MakeID(content.Local, "route", "loop")
	save := func(name string, live writing.Live) {
		t.Helper()
		if _, err := y.Authoring.Apply(t.Context(), []writing.Edit{{
			ID: route, Type: "route", Origin: content.Local, Live: live,
			Save: content.Fields{"name": map[string]any{"en": name}, "slug": "loop"},
		}}, "test", content.Cause{Kind: "user"}); err != nil {
			t.Fatal(err)
		}
	}
	save("Loop", writing.PublishNewest)
	save("Loop, a draft", 0)
	link, err := y.client.Keys().Preview(t.Context(), route, api.PreviewOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := y.Automation.Rebuild(t.Context(), "web", "ada", true); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	gateway := strings.TrimSuffix(y.client.Address, "/")
	install := exec.Command("npm", "install", "--no-audit", "--no-fund", "--no-package-lock", gateway+"/kit/"+kit.Name)
	install.Dir = dir
	if out, err := install.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	body := `{"type":"example.ubiquon.pages-stale","data":{"sequence":4,"pages":[{"path":"/piers/mella","causes":[]}],"reads":[],"all":false}}`
	signed := http.Header{}
	if err := outbound.Sign(signed, hookSecret, "call-1", time.Now(), []byte(body)); err != nil {
		t.Fatal(err)
	}
	headers := map[string]string{}
	for name := range signed {
		headers[strings.ToLower(name)] = signed.Get(name)
	}
	order := y.ordered(0)
	order.Report = gateway + "/control/v1/builds/" + order.Build + "/reports"
	told, err := json.Marshal(map[string]any{
		"call": map[string]any{"headers": headers, "body": body}, "token": link.Token,
		"order": order, "pier": content.MakeID(content.Local, "pier", "mella"),
	})
	if err != nil {
		t.Fatal(err)
	}
	script, err := os.ReadFile("testdata/kit.mjs")
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, "kit.mjs", string(script))
	node := exec.CommandContext(t.Context(), "node", "kit.mjs")
	node.Dir = dir
	node.Env = append(os.Environ(), "KIT="+string(told), "UBIQUON_KEY="+y.key, "UBIQUON_SECRET="+hookSecret,
		"UBIQUON_CONTENT="+gateway+"/content/"+y.Replica.Environment()+"/published")
	var complaints strings.Builder
	node.Stderr = &complaints
	pipe, err := node.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := node.Start(); err != nil {
		t.Fatal(err)
	}
	var last string
	for lines := bufio.NewScanner(pipe); lines.Scan(); {
		if last = lines.Text(); last != "following" {
			continue
		}
		testkit.Eventually(t, "the stream is open", func() bool {
			a := y.get(t, "/metrics", false)
			return strings.Contains(
				string(a.Body),
				"\nubiquon_streams{environment=\""+y.Replica.Environment()+"\"} 1\n",
			)
		})
		y.publish("mella=Mella") // nothing of the link's
		save("Loop, another draft", 0)
	}
	if err := node.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, complaints.String())
	}
	const want = `{"list":["Hollow Bay","Mella"],"all":["Hollow Bay","Mella"],"one":"Mella","none":null,"at":"ROUTE",` +
		`"paths":["/routes/loop"],"few":["path"],"graphql":2,"refused":"400 there is no field \"nmae\" in pier","mark":true,"retried":["Mella",3],` +
		`"aborted":"AbortError","told":["/piers/mella"],"secrets":true,"changed":401,"late":401,"unsigned":401,"garbage":401,` +
		`"tags":["/piers",256,false],"opened":[307,"/routes/loop",true],"draft":"Loop, a draft","elsewhere":null,` +
		`"forged":401,"missing":400,"exit":true,"changes":1}`
	if last != strings.ReplaceAll(want, "ROUTE", route) {
		t.Errorf("under Node:\n%s\nand wanted:\n%s", last, want)
	}
	testkit.Eventually(t, "the pages are known", func() bool {
		all, err := y.Pages.List(t.Context(), api.PageFilter{Site: "web", Limit: 100})
		known := map[string]bool{}
		for _, p := range all.Items {
			known[p.Page] = true
		}
		return err == nil && known["/piers/mella"] && known["/gr%C3%B6%C3%9Fe"]
	})
	types(t, y, dir)
}

// types compiles what a strict front end writes with the kit and the types of the model.
func types(t *testing.T, y *builtSite, dir string) {
	t.Helper()
	write(t, dir, "content.ts", string(generate.TypeScript(y.Replica.Model(), content.Published)))
	write(t, dir, "use.ts", `import { createReader, type Picked } from "ubiquon-kit";
import type { Model, Plurals } from "./content.ts";
const reader = createReader<Model>({ page: "/", tags: true });
const { items } = await reader.list("routes", { fields: ["name", { piers: ["name"] }], locale: "nb" });
export const names: (string | null | undefined)[] = items.flatMap((r) => [r.name, ...r.piers.map((p) => p.name)]);
export type Card = Picked<Plurals["piers"], ["name"]>;
// @ts-expect-error There is no such field.
await reader.list("piers", { fields: ["nmae"] });
const loose = createReader();
export const any: string = (await loose.list("anything", { fields: ["title"] })).items[0]?.["title"];
`)
	write(t, dir, "package.json", `{"type": "module"}`)
	write(t, dir, "build.ts", kit.BuildLines)
	write(t, dir, "refresh.ts", kit.RefreshLines+"\ndeclare function forget(tag: string): void;\n")
	tsc, err := filepath.Abs("../../console/node_modules/.bin/tsc")
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command(
		tsc,
		"--noEmit",
		"--strict",
		"--erasableSyntaxOnly",
		"--verbatimModuleSyntax",
		"--target",
		"es2023",
		"--module",
		"nodenext",
		"--allowImportingTsExtensions",
		"--lib",
		"es2023,dom,dom.iterable",
		"use.ts",
	)
	c.Dir = dir
	if out, err := c.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}

// TestKitIsServedToEveryone asks for the package without a key, and for another version.
func TestKitIsServedToEveryone(t *testing.T) {
	n := newBuiltSite(t)
	web := httptest.NewServer(server.New(server.Options{Environment: n.Environment}))
	t.Cleanup(web.Close)
	for path, status := range map[string]int{"/kit/" + kit.Name: 200, "/kit/ubiquon-kit-9.9.9.tgz": 404} {
		resp, err := http.Get(web.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != status {
			t.Errorf("%s: %s", path, resp.Status)
		}
	}
}
