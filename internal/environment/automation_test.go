package environment_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/seal"
	"ubiquon/internal/environment"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/standin/mailbox"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/testkit"
)

// harbourWatch is a line of nodes with a mail server and somebody who is called.
type harbourWatch struct {
	*line
	box    *mailbox.Mailbox
	called *called
	web    string
	client *client.Client
}

// called keeps the calls that it gets, and answers as it is told.
type called struct {
	mu      sync.Mutex
	bodies  []string
	headers []http.Header
	answer  int
	after   string
}

func (c *called) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.bodies, c.headers = append(c.bodies, string(body)), append(c.headers, r.Header.Clone())
	if c.after != "" {
		w.Header().Set("Retry-After", c.after)
	}
	w.WriteHeader(c.answer)
}

func (c *called) count() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.bodies)
}

func (c *called) answers(status int, after string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.answer, c.after = status, after
}

func newWatch(t *testing.T, nodes int) *harbourWatch {
	t.Helper()
	w := &harbourWatch{line: &line{store: testkit.Store(t, testkit.Model(t, harbour))}, called: &called{answer: 200}}
	hs := httptest.NewServer(w.called)
	t.Cleanup(hs.Close)
	w.web = hs.URL
	w.box = mailbox.New(mailbox.Options{})
	smtp, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go w.box.ServeSMTP(smtp)
	t.Cleanup(w.box.Close)
	secret := access.NewSecret()
	for range nodes {
		w.nodes = append(w.nodes, start(t, environment.Options{
			Store: w.store, Outbound: outbound.Options{Private: true}, Address: "http://gateway.example",
			Settings: settings.Seed{
				Mail: &settings.Mail{Server: smtp.Addr().String(), From: "Line <line@skerry.example>", TLS: "none"},
				Sites: map[string]rebuild.Site{
					"web": {Address: hs.URL, Build: &rebuild.Call{Call: hs.URL + "/build", Secret: hookSecret}},
				},
			},
		}, secret))
	}
	w.client = w.nodes[0].client
	return w
}

// rule keeps a rule.
func (w *harbourWatch) rule(t *testing.T, name string, spec any) api.SavedSetting {
	t.Helper()
	src, err := json.Marshal(spec)
	if err != nil {
		t.Fatal(err)
	}
	saved, err := w.client.Settings().Put(t.Context(), "rule", name, src, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	return saved
}

// runs waits until a rule has as many runs of an outcome, and returns them.
func (w *harbourWatch) runs(t *testing.T, name, outcome string, n int) (out []api.RuleRun) {
	t.Helper()
	testkit.Eventually(t, fmt.Sprintf("%d runs of %s: %s", n, name, outcome), func() bool {
		var err error
		out, err = w.client.Settings().Runs(t.Context(), api.RuleRunFilter{Rule: name, Outcome: outcome})
		return err == nil && len(out) >= n
	})
	if len(out) != n {
		t.Fatalf("%d runs of %s that are %s, want %d", len(out), name, outcome, n)
	}
	return out
}

func publishNotice(id, title string) api.Edit {
	return api.Edit{ID: id, Type: "notice", Save: per{"title": per{"en": title}}, Do: "publish"}
}

func TestRulesFireOnConditionsOnEveryNode(t *testing.T) {
	w := newWatch(t, 2)
	w.rule(t, "Call on fog", per{
		"on": []string{"published"}, "when": "type = 'notice' AND entry.title LIKE 'Fog%'",
		"do": []any{
			per{"call": per{"address": w.web + "/pager", "body": `{"text": "{entry.title} ({event} by {by})"}`}},
		},
	})
	b := w.nodes[1]
	testkit.Eventually(t, "the other node has the rule", func() bool { return len(b.Settings.State().Rules) == 1 })
	done := b.must(t, publishNotice("fog", "Fog on the sound"))
	run := w.runs(t, "Call on fog", "done", 1)[0]
	if run.Sequence > done.Sequence || run.Sequence == 0 || run.Event != "published" || run.Entry != "fog" ||
		len(run.Steps) != 1 ||
		run.Steps[0].Kind != "call" ||
		run.Steps[0].Attempts != 1 ||
		run.Steps[0].Result != "answered 200" {
		t.Errorf("%+v", run)
	}
	w.called.mu.Lock()
	if got := w.called.bodies; len(got) != 1 || got[0] != `{"text":"Fog on the sound (published by test)"}` {
		t.Errorf("called with %q", got)
	}
	w.called.mu.Unlock()
	w.nodes[0].must(t, publishNotice("ice", "Ice"),
		api.Edit{ID: "fog", Type: "notice", Save: per{"title": per{"en": "Fog again"}}})
	var reasons []string
	for _, r := range w.runs(t, "Call on fog", "not-fired", 2) {
		reasons = append(reasons, r.Reason)
	}
	all := strings.Join(reasons, "\n")
	for _, want := range []string{
		`when: entry.title LIKE 'Fog%' is not true: entry.title is "Ice"`, "event: it is on published, this was saved",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("%q lacks %q", all, want)
		}
	}
	if by, err := w.client.Settings().Runs(t.Context(), api.RuleRunFilter{Sequence: run.Sequence}); err != nil ||
		len(by) != 1 {
		t.Errorf("the runs of one change: %+v, %v", by, err)
	}
}

func TestFailingStepsAreTriedAgainOrStopTheRest(t *testing.T) {
	w := newWatch(t, 1)
	w.called.answers(503, "1")
	call := per{"call": per{"address": w.web + "/pager"}}
	w.rule(t, "Tell", per{"on": []string{"published"}, "do": []any{call}})
	w.nodes[0].must(t, publishNotice("fog", "Fog"))
	testkit.Eventually(t, "the first try has failed", func() bool {
		r, err := w.client.Settings().Runs(t.Context(), api.RuleRunFilter{Rule: "Tell", Outcome: "running"})
		return err == nil && len(r) == 1 && strings.Contains(r[0].Steps[0].Error, "answered 503") &&
			r[0].Steps[0].Due != nil
	})
	w.called.answers(200, "")
	if got := w.runs(t, "Tell", "done", 1)[0].Steps[0]; got.Attempts != 2 {
		t.Errorf("tried %d times", got.Attempts)
	}
	w.called.mu.Lock()
	first, second := w.called.headers[0].Get("Idempotency-Key"), w.called.headers[1].Get("Idempotency-Key")
	w.called.mu.Unlock()
	if first == "" || first != second {
		t.Errorf("the tries have the ids %s and %s", first, second)
	}
	if err := w.client.Settings().Remove(t.Context(), "rule", "Tell"); err != nil {
		t.Fatal(err)
	}

	mail := per{"mail": per{"to": []string{"duty@skerry.example"}, "subject": "{entry.title}"}}
	refuse := func(text string) {
		req := httptest.NewRequest(http.MethodPut, "/refusing", strings.NewReader(text))
		w.box.ServeHTTP(httptest.NewRecorder(), req)
	}
	refuse("5.7.1 no mail from you")
	w.rule(t, "Stops", per{"on": []string{"published"}, "do": []any{mail, call}})
	on := per{"else": "continue"}
	for k, v := range mail {
		on[k] = v
	}
	w.rule(t, "Goes on", per{"on": []string{"published"}, "do": []any{on, call}})
	before := w.called.count()
	w.nodes[0].must(t, publishNotice("ice", "Ice"))
	stopped, gone := w.runs(t, "Stops", "failed", 1)[0], w.runs(t, "Goes on", "failed", 1)[0]
	if stopped.Steps[0].State != "failed" || stopped.Steps[0].Attempts != 1 || stopped.Steps[1].State != "skipped" {
		t.Errorf("stopped: %+v", stopped.Steps)
	}
	if gone.Steps[0].State != "failed" || gone.Steps[1].State != "done" || w.called.count() != before+1 {
		t.Errorf("went on: %+v, %d calls", gone.Steps, w.called.count()-before)
	}
	refuse("")
	if _, err := w.client.Settings().RunAgain(t.Context(), fmt.Sprint(stopped.ID)); err != nil {
		t.Fatal(err)
	}
	if r := w.runs(t, "Stops", "done", 1)[0]; r.Steps[0].State != "done" || r.Steps[1].State != "done" {
		t.Errorf("done again: %+v", r.Steps)
	}
	if got := w.box.Messages(); len(got) != 1 || got[0].Subject != "Ice" {
		t.Errorf("mail: %+v", got)
	}
	if _, err := w.client.Settings().RunAgain(t.Context(), fmt.Sprint(stopped.ID)); err == nil ||
		!strings.Contains(err.Error(), "no step of the run has failed") {
		t.Errorf("again without need: %v", err)
	}
}

func TestRulesDoNotRunOnTheirOwnConsequences(t *testing.T) {
	w := newWatch(t, 1)
	w.rule(t, "Close", per{
		"on": []string{"published"}, "types": []string{"notice"}, "do": []any{per{"unpublish": "this"}},
	})
	saved := w.rule(t, "Open", per{
		"on": []string{"unpublished"}, "types": []string{"notice"}, "do": []any{per{"publish": "this"}},
	})
	if got := strings.Join(saved.Warnings, "\n"); !strings.Contains(got, "Open → Close → Open set off one another") {
		t.Errorf("warnings: %q", got)
	}
	w.nodes[0].must(t, publishNotice("fog", "Fog"))
	w.runs(t, "Close", "done", 1)
	open := w.runs(t, "Open", "done", 1)[0]
	refused := w.runs(t, "Close", "not-fired", 2)
	if got := refused[0].Reason; got != "chain: this is a consequence of the rule itself (Close → Open)" {
		t.Errorf("the end of the chain: %q", got)
	}
	full, err := w.client.Settings().Run(t.Context(), fmt.Sprint(open.ID))
	if err != nil || full.About == nil || strings.Join(full.About.Chain, " ") != "Close" {
		t.Errorf("the second rule follows from %+v, %v", full.About, err)
	}
	if status, _, body := w.nodes[0].read(t, "/notices?fields=title"); status != 200 || !strings.Contains(body, "Fog") {
		t.Errorf("in the end: %d %s", status, body)
	}
}

func TestTimesFireOnceAndFiltersMeanEntries(t *testing.T) {
	w := newWatch(t, 2)
	w.nodes[0].must(t, publishNotice("fog", "Fog"), publishNotice("ice", "Ice"))
	w.rule(t, "Close the season", per{
		"at": "0 6 1 10 *", "zone": "Europe/Oslo",
		"do": []any{per{"unpublish": per{"filter": "type = 'notice' AND title = 'Fog'"}}},
	})
	testkit.Eventually(t, "its time is known", func() bool {
		all, err := w.client.Settings().Rules(t.Context())
		return err == nil && len(all) == 1 && all[0].Next != nil &&
			all[0].Next.UTC().Format("01-02 15:04") == "10-01 04:00"
	})
	out, err := w.client.Settings().Try(t.Context(), api.RuleTrial{Name: "Close the season"})
	if err != nil || len(out.Trials) != 1 || !out.Trials[0].Fires || out.Trials[0].Steps[0].Text != "Fog" {
		t.Fatalf("tried: %+v, %v", out, err)
	}
	if _, err := w.store.DB.Pool.Exec(t.Context(), `update rule_clock set next = clock_timestamp() - interval '1 minute'
		where environment = $1`, w.store.Environment); err != nil {
		t.Fatal(err)
	}
	src := []byte(`{"mail": ["duty@skerry.example"]}`) // whatever is changed wakes the clock
	if _, err := w.client.Settings().Put(t.Context(), "target", "duty", src, 0, false); err != nil {
		t.Fatal(err)
	}
	if r := w.runs(t, "Close the season", "done", 1)[0]; r.Event != "clock" ||
		r.Steps[0].Result != "unpublished 1 of 1 entries" {
		t.Errorf("%+v", r)
	}
	if _, _, body := w.nodes[0].read(t, "/notices?fields=title"); strings.Contains(body, "Fog") ||
		!strings.Contains(body, "Ice") {
		t.Errorf("after it: %s", body)
	}
}

func TestReviewIsToldByMail(t *testing.T) {
	w := newWatch(t, 1)
	n := w.nodes[0]
	clients := map[access.Role]*client.Client{}
	for _, role := range []access.Role{access.RoleEditor, access.RoleApprover, access.RoleAdmin} {
		email := string(role) + "@skerry.example"
		if _, _, err := n.Accounts.CreateAccount(t.Context(), api.Account{Email: email, Role: role}, "a boat is no bath tub",
			"test"); err != nil {
			t.Fatal(err)
		}
		cookie, _, err := n.Accounts.SignIn(
			t.Context(),
			email,
			"a boat is no bath tub",
			audit.Actor{Address: "10.0.0.1"},
			"",
			"",
		)
		if err != nil {
			t.Fatal(err)
		}
		clients[role] = signedInAs(n, cookie)
	}
	a, err := clients[access.RoleAdmin].Do(t.Context(), http.MethodPut, "/control/v1/session/notifications", nil,
		api.NotificationSettings{Review: api.TellDaily, Trouble: api.TellNow})
	if err != nil || a.Status != 200 {
		t.Fatalf("%v %s", err, a.Body)
	}
	n.must(t, publishNotice("fog", "Fog"))
	editor, approver := clients[access.RoleEditor].Entries(), clients[access.RoleApprover].Entries()
	if _, err := editor.Edit(t.Context(), api.Edit{
		ID: "fog", Type: "notice", Save: per{"title": per{"en": "Thick fog"}}, Do: "submit", Remark: "before noon, please",
	}); err != nil {
		t.Fatal(err)
	}
	mail := func(n int) []mailbox.Message {
		t.Helper()
		testkit.Eventually(t, fmt.Sprint(n, " messages"), func() bool { return len(w.box.Messages()) >= n })
		return w.box.Messages()
	}
	first := mail(1)[0]
	for _, want := range []string{
		"editor@skerry.example asks for approval of the notice “Thick fog”", "before noon, please", "title: Fog → Thick fog",
		"http://gateway.example/console/" + w.store.Environment + "/entries/fog",
	} {
		if first.To != "approver@skerry.example" || !strings.Contains(first.Text, want) {
			t.Errorf("to %s: %q lacks %q", first.To, first.Text, want)
		}
	}
	if _, err := approver.Edit(t.Context(), api.Edit{ID: "fog", Do: "approve"}); err != nil {
		t.Fatal(err)
	}
	second := mail(2)[0]
	if second.To != "editor@skerry.example" || second.Subject != "Approved: Thick fog" ||
		!strings.Contains(second.Text, "approver@skerry.example has approved") {
		t.Errorf("%+v", second)
	}
	all, err := w.client.Settings().Notifications(t.Context(), api.NotificationFilter{State: "waiting"})
	if err != nil || len(all) != 1 || all[0].Email != "admin@skerry.example" || !all[0].Daily {
		t.Errorf("what waits for the daily mail: %+v, %v", all, err)
	}
	if _, err := w.store.DB.Pool.Exec(t.Context(), `update notification set due = clock_timestamp() where environment =
		$1 and state = 'waiting'`, w.store.Environment); err != nil {
		t.Fatal(err)
	}
	if third := mail(3)[0]; third.Subject != "Today: 1 matter" ||
		!strings.Contains(third.Text, "* Waiting for approval: Thick fog") {
		t.Errorf("the daily mail: %+v", third)
	}

	b, err := w.client.Builds().Rebuild(t.Context(), "web", true)
	if err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the build fails", func() bool {
		_, err := n.Automation.ReportBuild(t.Context(), b.ID, builds.Report{
			State: rebuild.Failed, Error: "out of paint", Link: "https://builder.example/1", Lines: []string{"npm: no paint"},
		})
		return err == nil
	})
	if fourth := mail(4)[0]; fourth.To != "admin@skerry.example" || fourth.Subject != "build failed: web" ||
		!strings.Contains(fourth.Text, "out of paint") {
		t.Errorf("trouble: %+v", fourth)
	}
	shown, err := w.client.Builds().Get(t.Context(), b.ID)
	if err != nil || shown.Link != "https://builder.example/1" ||
		!strings.Contains(fmt.Sprint(shown.Log), "npm: no paint") {
		t.Errorf("the build: %+v, %v", shown, err)
	}
	sites, err := w.client.Settings().Sites(t.Context())
	if err != nil || sites[0].Failing == nil || !strings.Contains(sites[0].Failing.Mend, "ubiquon build show") {
		t.Errorf("the failing site: %+v, %v", sites, err)
	}
}

// signedInAs returns a client that acts with the cookie of a session.
func signedInAs(n node, cookie string) *client.Client {
	c := *n.client
	c.Key = ""
	c.HTTP = &http.Client{Transport: withCookie{"ubiquon-session", cookie}}
	return &c
}

type withCookie struct{ name, value string }

// RoundTrip implements http.RoundTripper.
func (c withCookie) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.AddCookie(&http.Cookie{Name: c.name, Value: c.value})
	return http.DefaultTransport.RoundTrip(r)
}

func TestSettingsAreVersionedAndCheckedTogether(t *testing.T) {
	w := newWatch(t, 1)
	s := w.client.Settings()
	first := w.rule(
		t,
		"Keep web fresh",
		per{"on": []string{"published"}, "do": []any{per{"rebuild": per{"site": "web"}}}},
	)
	if first.Version != 1 || first.By != "test" ||
		!strings.Contains(fmt.Sprint(first.Warnings), "is for every change") {
		t.Errorf("%+v", first)
	}
	edit := []byte("on: [published]\ntypes: [notice]\ndo:\n  - rebuild: {site: web}\n")
	if again, err := s.Put(t.Context(), "rule", "Keep web fresh", edit, 1, false); err != nil || again.Version != 2 {
		t.Fatalf("%+v, %v", again, err)
	}
	if _, err := s.Put(t.Context(), "rule", "Keep web fresh", edit, 1, false); err == nil ||
		!strings.Contains(err.Error(), "changed meanwhile") {
		t.Errorf("on an older version: %v", err)
	}
	if err := s.Remove(t.Context(), "site", "web"); err == nil ||
		!strings.Contains(err.Error(), "rule Keep web fresh") {
		t.Errorf("a site that a rule rebuilds: %v", err)
	}
	if out, err := s.Put(t.Context(), "rule", "Keep web fresh", []byte("on: [publishd]\ndo: []\n"), 0, true); err != nil ||
		len(out.Problems) != 2 ||
		out.Version != 2 {
		t.Errorf("only checked: %+v, %v", out, err)
	}
	const calls = "on: [published]\ndo: [{call: {address: 'http://x.example', "
	for spec, want := range map[string]string{
		"on: [published]\ndoo: []\n":                                   `unknown key "doo"`,
		"name: Other\non: [published]\ndo: [{rebuild: {site: web}}]\n": `calls itself "Other"`,
		calls + "secret: plain}}]\n":                                   "a secret stands here in plain text",
		calls + "secret: 'env:PATH'}}]\n":                              "is not among those that the files",
		calls + "secret: 'secret:missing'}}]\n":                        "ubiquon secret set missing",
	} {
		if _, err := s.Put(t.Context(), "rule", "x", []byte(spec), 0, false); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", spec, err)
		}
	}
	versions, err := s.Versions(t.Context(), "rule", "Keep web fresh")
	if err != nil || len(versions) != 2 || versions[0].Version != 2 {
		t.Fatalf("%+v, %v", versions, err)
	}
	if err := s.Remove(t.Context(), "rule", "Keep web fresh"); err != nil {
		t.Fatal(err)
	}
	if back, err := s.Put(t.Context(), "rule", "Keep web fresh", versions[1].Spec, 0, false); err != nil ||
		back.Version != 4 {
		t.Errorf("restored: %+v, %v", back, err)
	}
	if err := s.Remove(t.Context(), "rule", "Keep web fresh"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		keep time.Duration
		want int
	}{{time.Hour, 5}, {0, 0}} {
		if err := w.store.Settings.Trim(t.Context(), c.keep); err != nil {
			t.Fatal(err)
		}
		if versions, err := s.Versions(t.Context(), "rule", "Keep web fresh"); len(versions) != c.want {
			t.Errorf("kept for %v after it was removed: %d versions, %v", c.keep, len(versions), err)
		}
		if versions, err := s.Versions(t.Context(), "site", "web"); err != nil || len(versions) == 0 {
			t.Errorf("a site that is there has %d versions, %v", len(versions), err)
		}
	}
}

func TestFolderIsAppliedWithTheModelOrNotAtAll(t *testing.T) {
	w := newWatch(t, 1)
	s := w.client.Settings()
	files, err := s.Export(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	same := api.ConfigurationPlan{Configuration: api.Configuration{Files: files}, Prune: true}
	if out, err := s.Plan(t.Context(), same); err != nil ||
		len(out.Model) != 0 ||
		len(out.Changes) != 0 {
		t.Fatalf("what was exported differs: %+v, %v", out, err)
	}
	files["rules.yaml"] = "rules:\n  - name: Berths\n    on: [published]\n    types: [berth]\n" +
		"    when: entry.depht > 3\n" +
		"    do: [{rebuild: {site: web}}]\n"
	files["model/model.yaml"] = strings.Replace(
		files["model/model.yaml"],
		"types:\n",
		"types:\n  berth:\n    plural: berths\n    fields:\n      name: {kind: text}\n      depth: {kind: integer}\n",
		1,
	)
	apply := func() (api.ConfigurationOutcome, error) {
		return s.Plan(t.Context(), api.ConfigurationPlan{Configuration: api.Configuration{Files: files}, Apply: true})
	}
	if _, err := apply(); err == nil || !strings.Contains(err.Error(), `did you mean "depth"?`) {
		t.Fatalf("with a mistake: %v", err)
	}
	if w.nodes[0].Replica.Model().Type("berth") != nil || len(w.nodes[0].Settings.State().Rules) != 0 {
		t.Fatal("half of it was applied")
	}
	files["rules.yaml"] = strings.Replace(files["rules.yaml"], "depht", "depth", 1)
	if out, err := apply(); err != nil || !out.Applied || len(out.Changes) != 1 || out.Changes[0].Action != "add" ||
		len(out.Model) == 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	w.nodes[0].must(t, api.Edit{ID: "b1", Type: "berth", Save: per{"name": "Quay 1", "depth": 4}, Do: "publish"})
	w.runs(t, "Berths", "done", 1)
	files["rules.yaml"] = "rules: []\n"
	if out, err := s.Plan(t.Context(), api.ConfigurationPlan{
		Configuration: api.Configuration{Files: files}, Apply: true, Prune: true, Only: []string{"rule"},
	}); err != nil || len(out.Changes) != 1 || out.Changes[0].Action != "remove" {
		t.Errorf("%+v, %v", out, err)
	}
	files["bad.yaml"] = "sites:\n  web: {adress: x}\nrules: 3\n"
	_, err = apply()
	for _, want := range []string{"bad.yaml:2:", `did you mean "address"?`, "bad.yaml:3:"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v lacks %q", err, want)
		}
	}
}

func TestSecretsAreEncryptedAndCanBeRotated(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	old, current := seal.NewKey(), seal.NewKey()
	open := func(keys string) *environment.Environment {
		t.Helper()
		ring, err := seal.ReadRing(keys)
		if err != nil {
			t.Fatal(err)
		}
		e, err := environment.Open(t.Context(), environment.Options{Store: s, SecretKeys: ring, Log: testkit.Log(t)})
		if err != nil {
			t.Fatal(err)
		}
		if err := e.Start(t.Context()); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(e.Close)
		return e
	}
	e := open(old)
	if err := e.Settings.SetSecret(t.Context(), "pager", "whsec_c2Vzc2lvbg==", "test"); err != nil {
		t.Fatal(err)
	}
	var sealed []byte
	if err := s.DB.Pool.QueryRow(t.Context(), `select sealed from secret where environment = $1`, s.Environment).
		Scan(&sealed); err != nil || strings.Contains(string(sealed), "c2Vzc2lvbg") {
		t.Fatalf("kept as %q, %v", sealed, err)
	}
	open(current + "," + old)
	if got, err := open(current).Settings.Resolve("secret:pager"); err != nil || got != "whsec_c2Vzc2lvbg==" {
		t.Errorf("with the new key alone: %q, %v", got, err)
	}
	if got, err := open(old).Settings.Resolve("secret:pager"); err == nil {
		t.Errorf("with the old key alone: %q", got)
	}
}

func TestRuleThatOmitsWhatItsSiteReadsIsWarnedAbout(t *testing.T) {
	t.Parallel() // it waits for the most part
	w := newWatch(t, 1)
	n := w.nodes[0]
	n.must(
		t,
		publishNotice("fog", "Fog"),
		api.Edit{ID: "ring", Type: "route", Save: per{"name": per{"en": "Ring"}}, Do: "publish"},
	)
	_, secret, err := n.Keys.CreateKey(t.Context(), access.Key{
		Name: "web", Site: "web", Grants: access.Grants{{Verb: "read", Edition: "published", Type: "*"}},
	}, "test")
	if err != nil {
		t.Fatal(err)
	}
	n.ask(t, secret, "published/notices?fields=title,routes(name)")
	testkit.Eventually(t, "what the site reads is known", func() bool {
		sites, err := w.client.Settings().Sites(t.Context())
		return err == nil && len(sites[0].Reads) == 2
	})
	saved := w.rule(t, "Notices", per{
		"on": []string{"published"}, "types": []string{"notice"}, "do": []any{per{"rebuild": per{"site": "web"}}},
	})
	if got := strings.Join(saved.Warnings, "\n"); !strings.Contains(got, "is not for route, which the site reads") {
		t.Errorf("warnings: %q", got)
	}
}

func TestBuildCallsAreMadeAsTheSiteSays(t *testing.T) {
	w := newWatch(t, 1)
	if err := w.client.Settings().SetSecret(t.Context(), "token", "let-me-in"); err != nil {
		t.Fatal(err)
	}
	site := fmt.Sprintf(`{"address": %q, "build": {"call": %q, "reports": "none", "quiet": "1ms",
		"headers": {"X-Token": "secret:token"}, "body": "{\"ref\": \"main\", \"number\": \"{number}\", \"site\": \"{site}\"}"}}`,
		w.web, w.web+"/dispatches")
	if _, err := w.client.Settings().Put(t.Context(), "site", "own", []byte(site), 0, false); err != nil {
		t.Fatal(err)
	}
	b, err := w.client.Builds().Rebuild(t.Context(), "own", true)
	if err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is finished, as far as is known", func() bool {
		got, err := w.client.Builds().Get(t.Context(), b.ID)
		return err == nil && got.State == rebuild.Finished
	})
	w.called.mu.Lock()
	body, token := w.called.bodies[0], w.called.headers[0].Get("X-Token")
	w.called.mu.Unlock()
	if body != `{"ref":"main","number":"1","site":"own"}` && body != `{"ref": "main", "number": "1", "site": "own"}` ||
		token != "let-me-in" {
		t.Errorf("called with %s and %q", body, token)
	}
	waiting, err := w.client.Builds().Rebuild(t.Context(), "web", false)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := w.client.Settings().CancelBuild(t.Context(), waiting.ID); err != nil ||
		got.State != rebuild.Cancelled {
		t.Errorf("cancelled: %+v, %v", got, err)
	}
	if _, err := w.client.Settings().CancelBuild(t.Context(), waiting.ID); err == nil {
		t.Error("cancelled twice")
	}
}

func TestRefreshNamesThePagesOfTheEntry(t *testing.T) {
	w := newWatch(t, 1)
	if err := w.client.Settings().SetSecret(t.Context(), "board", hookSecret); err != nil {
		t.Fatal(err)
	}
	site := fmt.Sprintf(`{"address": %q, "refresh": {"call": %q, "secret": "secret:board"}}`, w.web, w.web+"/refresh")
	if _, err := w.client.Settings().Put(t.Context(), "site", "board", []byte(site), 0, false); err != nil {
		t.Fatal(err)
	}
	w.rule(t, "Refresh", per{"on": []string{"published"}, "do": []any{per{"refresh": per{"site": "board"}}}})
	done := w.nodes[0].must(t, publishNotice("fog", "Fog"))
	w.runs(t, "Refresh", "done", 1)
	w.called.mu.Lock()
	defer w.called.mu.Unlock()
	signed, body := w.called.headers[0], []byte(w.called.bodies[0])
	if err := proof.Standard([]string{hookSecret}, signed, body, time.Now()); err != nil {
		t.Errorf("the call: %v", err)
	}
	var told struct {
		Type string
		Data struct {
			Site     string
			Sequence int64
			Pages    []struct{ Path string }
		}
	}
	if err := json.Unmarshal([]byte(w.called.bodies[0]), &told); err != nil || told.Type != "pages-stale" ||
		told.Data.Sequence == 0 || told.Data.Sequence > done.Sequence || len(told.Data.Pages) != 1 ||
		told.Data.Pages[0].Path != "/notices/fog" {
		t.Errorf("%s: %+v, %v", w.called.bodies[0], told, err)
	}
}
