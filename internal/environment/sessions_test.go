package environment_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/environment"
	"ubiquon/internal/identity"
	"ubiquon/internal/server"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/testkit"
)

const goodPassword = "a boat is no bath tub"

// browser is somebody's, with their cookies.
type browser struct {
	t       *testing.T
	address string
	cookies map[string]*http.Cookie
	header  http.Header
}

func (b *browser) do(method, path string, body any) (int, string, *http.Response) {
	b.t.Helper()
	src, _ := json.Marshal(body)
	req, _ := http.NewRequestWithContext(b.t.Context(), method, b.address+path, bytes.NewReader(src))
	req.Header.Set("Content-Type", "application/json")
	for name, values := range b.header {
		req.Header[name] = values
	}
	for _, c := range b.cookies {
		req.AddCookie(&http.Cookie{Name: c.Name, Value: c.Value})
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer resp.Body.Close()
	out, _ := io.ReadAll(resp.Body)
	for _, c := range resp.Cookies() {
		b.cookies[c.Name] = c
		if c.MaxAge < 0 {
			delete(b.cookies, c.Name)
		}
	}
	return resp.StatusCode, string(out), resp
}

func (b *browser) must(method, path string, body any, status int, text string) string {
	b.t.Helper()
	got, out, _ := b.do(method, path, body)
	if got != status || !strings.Contains(out, text) {
		b.t.Errorf("%s %s: %d %s, wanted %d %s", method, path, got, out, status, text)
	}
	return out
}

func newBrowser(t *testing.T, address string) *browser {
	return &browser{t: t, address: address, cookies: map[string]*http.Cookie{}}
}

// account makes an account and signs in.
func (n node) account(t *testing.T, address, email string, role access.Role) *browser {
	t.Helper()
	if _, _, err := n.Accounts.CreateAccount(t.Context(), api.Account{Email: email, Role: role}, goodPassword,
		"test"); err != nil {
		t.Fatal(err)
	}
	b := newBrowser(t, address)
	b.must("POST", "/control/v1/session", per{"email": email, "password": goodPassword}, 200, email)
	return b
}

// TestOwnSessions lists and ends sessions, and changes a password.
func TestOwnSessions(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	a := n.account(t, n.client.Address, "tilda@skerry.example", access.RoleEditor)
	b, c := newBrowser(t, n.client.Address), newBrowser(t, n.client.Address)
	for _, one := range []*browser{b, c} {
		one.must(
			"POST", "/control/v1/session", per{"email": "tilda@skerry.example", "password": goodPassword}, 200,
			"tilda",
		)
	}
	var list struct {
		Items []api.Session
		Here  string
	}
	if err := json.Unmarshal([]byte(a.must("GET", "/control/v1/sessions", nil, 200, `"address":"127.0.0.1"`)),
		&list); err != nil ||
		len(list.Items) != 3 ||
		list.Here == "" {
		t.Fatalf("%+v, %v", list, err)
	}
	var newest string
	for _, s := range list.Items {
		if s.ID != list.Here && newest == "" {
			newest = s.ID // c's, which was opened last
		}
	}
	other := n.account(t, n.client.Address, "odd@skerry.example", access.RoleAdmin)
	other.must("DELETE", "/control/v1/sessions/"+newest, nil, 404, "")
	a.must("DELETE", "/control/v1/sessions/"+newest, nil, 200, "ended")
	c.must("GET", "/control/v1/session", nil, 401, "")
	b.must("GET", "/control/v1/session", nil, 200, "tilda")
	a.must(
		"POST", "/control/v1/session/password",
		per{"password": "not this one at all", "new": "another boat entirely"}, 401, "wrong",
	)
	a.must("POST", "/control/v1/session/password", per{"password": goodPassword, "new": "short"}, 400, "password")
	a.must(
		"POST", "/control/v1/session/password", per{"password": goodPassword, "new": "another boat entirely"}, 200,
		"changed",
	)
	a.must("GET", "/control/v1/session", nil, 200, "tilda")
	b.must("GET", "/control/v1/session", nil, 401, "")
	b.must(
		"POST", "/control/v1/session", per{"email": "tilda@skerry.example", "password": "another boat entirely"}, 200,
		"tilda",
	)
	a.must("DELETE", "/control/v1/session", nil, 200, "signedOut")
	acts, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{Who: "tilda@skerry.example"})
	if err != nil {
		t.Fatal(err)
	}
	var what []string
	for _, act := range acts {
		what = append(what, act.What)
	}
	if got := strings.Join(what, ","); got != "sign out,sign in,account password,sign out,sign in,sign in,sign in" {
		t.Errorf("the audit log has %s", got)
	}
}

// TestSessionsEnd ends sessions that are idle or old.
func TestSessionsEnd(t *testing.T) {
	l := newLine(t, 1)
	for name, o := range map[string]environment.Options{
		"idle": {SessionIdle: 300 * time.Millisecond},
		"old":  {SessionLongest: 300 * time.Millisecond},
	} {
		o.Store = l.store
		n := start(t, o, access.NewSecret())
		b := n.account(t, n.client.Address, name+"@skerry.example", access.RoleReader)
		testkit.Eventually(t, "a session that is "+name+" ends", func() bool {
			status, _, _ := b.do("GET", "/control/v1/session", nil)
			return status == 401
		})
	}
}

// TestForgedCookiesCostNoLookup sends cookies that were never given out.
func TestForgedCookiesCostNoLookup(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.account(t, n.client.Address, "tilda@skerry.example", access.RoleEditor)
	b := newBrowser(t, n.client.Address)
	statuses := map[int]int{}
	for i := range 100 {
		b.cookies["ubiquon-session"] = &http.Cookie{
			Name:  "ubiquon-session",
			Value: fmt.Sprintf("FORGED%046d.abcdefghijklmnopqrst", i),
		}
		status, _, _ := b.do("GET", "/control/v1/session", nil)
		statuses[status]++
	}
	if statuses[401] == 0 || statuses[429] == 0 || statuses[401]+statuses[429] != 100 {
		t.Errorf("answered with %v", statuses)
	}
}

// TestSensitiveRoutesRequireRecentPassword changes who may do what long after signing in.
func TestSensitiveRoutesRequireRecentPassword(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	b := n.account(t, n.client.Address, "odd@skerry.example", access.RoleAdmin)
	b.must("POST", "/control/v1/keys", per{"name": "first", "grants": []string{"read published *"}}, 200, "secret")
	if _, err := l.store.DB.Pool.Exec(t.Context(), `update session set proved = proved - interval '11 minutes' where
		environment = $1`, l.store.Environment); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]string{
		{"POST", "/keys"},
		{"PATCH", "/keys/first"},
		{"POST", "/keys/first/rotate"},
		{"DELETE", "/keys/first"},
		{"PATCH", "/open"},
		{"POST", "/accounts"},
		{"PATCH", "/accounts/odd@skerry.example"},
		{"POST", "/accounts/odd@skerry.example/link"},
	} {
		b.must(c[0], "/control/v1"+c[1], per{}, 403, "/problems/proof")
	}
	b.must("GET", "/control/v1/keys", nil, 200, "first")
	b.must("POST", "/control/v1/session/proof", per{"password": "not this one at all"}, 401, "wrong")
	b.must("PATCH", "/control/v1/open", per{"add": []string{"read published route"}}, 403, "proof")
	b.must("POST", "/control/v1/session/proof", per{"password": goodPassword}, 200, "proved")
	b.must("PATCH", "/control/v1/open", per{"add": []string{"read published route"}}, 200, "route")
	if _, err := n.client.Keys().ChangePublicGrants(t.Context(), nil, []string{"read published route"}); err != nil {
		t.Errorf("a key proves itself: %v", err)
	}
}

// TestCookiesOfHTTPS signs in where the address is https.
func TestCookiesOfHTTPS(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	address := n.web(t, server.Options{Secure: true})
	n.account(t, n.client.Address, "tilda@skerry.example", access.RoleEditor)
	b := newBrowser(t, address)
	_, _, resp := b.do("POST", "/control/v1/session", per{"email": "tilda@skerry.example", "password": goodPassword})
	c := resp.Cookies()
	if len(c) != 1 || c[0].Name != "__Host-ubiquon-session" || !c[0].Secure || !c[0].HttpOnly || c[0].Path != "/" ||
		c[0].Domain != "" ||
		c[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("%+v", c)
	}
	b.must("GET", "/control/v1/session", nil, 200, "tilda")
	b.cookies["ubiquon-session"], b.cookies["__Host-ubiquon-session"] = &http.Cookie{
		Name:  "ubiquon-session",
		Value: c[0].Value,
	}, &http.Cookie{
		Name:  "x",
		Value: "y",
	}
	b.must("GET", "/control/v1/session", nil, 401, "")
}

// TestFailedSignInsLockNobodyOut guesses a password from one address, and signs in
// from another.
func TestFailedSignInsLockNobodyOut(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.account(t, n.client.Address, "odd@skerry.example", access.RoleAdmin)
	stopped := 0
	for range 40 {
		if _, _, err := n.Accounts.SignIn(t.Context(), "odd@skerry.example", "a guess at it",
			audit.Actor{Address: "203.0.113.66"}, "", ""); err != nil &&
			strings.Contains(err.Error(), "too many") {
			stopped++
		}
	}
	if stopped < 20 {
		t.Errorf("%d of 40 guesses are stopped", stopped)
	}
	if _, _, err := n.Accounts.SignIn(t.Context(), "odd@skerry.example", goodPassword,
		audit.Actor{Address: "203.0.113.7"}, "", ""); err != nil {
		t.Errorf("from elsewhere: %v", err)
	}
	for i := range 40 { // one customer's network
		_, _, _ = n.Accounts.SignIn(
			t.Context(), "odd@skerry.example", "a guess at it",
			audit.Actor{Address: fmt.Sprintf("2001:4860:1:2::%x", i+1)}, "", "",
		)
	}
	if _, _, err := n.Accounts.SignIn(t.Context(), "odd@skerry.example", goodPassword,
		audit.Actor{Address: "2001:4860:1:2::ffff"}, "", ""); err == nil {
		t.Error("each address of one network has guesses of its own")
	}
}

// TestSetupLinkCreatesFirstAccount makes an account otherwise, and then uses the link.
func TestSetupLinkCreatesFirstAccount(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	link, err := n.Accounts.FirstLink(t.Context())
	if err != nil || link == "" {
		t.Fatal(link, err)
	}
	var left time.Duration
	if err := l.store.DB.Pool.QueryRow(t.Context(), `select expires - clock_timestamp() from invitation where
		environment = $1`, l.store.Environment).Scan(&left); err != nil ||
		left > time.Hour {
		t.Errorf("it is good for %v, %v", left, err)
	}
	again, _ := n.Accounts.FirstLink(t.Context())
	by := audit.Actor{Address: "203.0.113.7"}
	if _, _, err := n.Accounts.ChoosePassword(t.Context(), link, "eve@skerry.example", "Eve", goodPassword, by,
		""); err == nil {
		t.Error("a link that another one has replaced is good")
	}
	if _, _, err := n.Accounts.CreateAccount(t.Context(), api.Account{
		Email: "odd@skerry.example",
		Role:  access.RoleAdmin,
	}, goodPassword, "test"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := n.Accounts.ChoosePassword(t.Context(), again, "eve@skerry.example", "Eve", goodPassword, by,
		""); err == nil {
		t.Error("the link makes another admin")
	}
	if _, err := l.store.DB.Pool.Exec(t.Context(), `insert into invitation (environment, hash, expires) values ($1,
		sha256('left over'), clock_timestamp() + interval '1 day')`, l.store.Environment); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Accounts.Welcome(t.Context(), "left over", by); err == nil {
		t.Error("a link that was left over is good")
	}
}

// TestPreviewLinksLoseGrantsWithTheirCreator takes rights away from those who made links.
func TestPreviewLinksLoseGrantsWithTheirCreator(t *testing.T) {
	l := newLine(t, 2)
	n, other := l.nodes[0], l.nodes[1]
	reads := func(n node, token, path string) int { return n.ask(t, token, path).Status }
	key, secret := l.key(t, "read preview notice", "read preview route")
	maker := &client.Client{Address: n.client.Address, Key: secret}
	link, err := maker.Keys().Preview(t.Context(), "ice", api.PreviewOptions{Minutes: new(5)})
	if err != nil {
		t.Fatal(err)
	}
	const own, shown = "preview/entries/ice?fields=title", "preview/entries/ice?fields=title,routes(name)"
	if reads(n, link.Token, own) != 200 {
		t.Fatal("the link reads what its maker may")
	}
	testkit.Eventually(t, "so it does on the other node", func() bool {
		return reads(other, link.Token, shown) == 200
	})
	ring, err := maker.Keys().Preview(t.Context(), "ring", api.PreviewOptions{Minutes: new(5)})
	if err != nil {
		t.Fatal(err)
	}
	back, _ := maker.Keys().Preview(t.Context(), "ring", api.PreviewOptions{Minutes: new(5), WaysBack: true})
	const backs = "preview/entries/ring?fields=name,notices(title)"
	if got := reads(n, ring.Token, backs); got != 403 {
		t.Errorf("a way back that nobody asked for: %d", got)
	}
	if a := n.ask(t, back.Token, "preview/routes/outer-ring?fields=name,notices(title)"); a.Status != 200 ||
		!strings.Contains(string(a.Body), "Fog") {
		t.Errorf("a way back that was asked for: %d %s", a.Status, a.Body)
	}
	_, few := l.key(t, "read preview route")
	narrow, _ := (&client.Client{Address: n.client.Address, Key: few}).Keys().Preview(
		t.Context(), "ring", api.PreviewOptions{Minutes: new(5), WaysBack: true},
	)
	if got := reads(n, narrow.Token, "preview/routes/outer-ring?fields=name,notices(title)"); got != 403 {
		t.Errorf("what its maker may not read: %d", got)
	}
	for _, path := range []string{
		"/export?type=notice", "/entries", "/events", "/changes", "/cache/answers",
		"/reads/saved", "/session", "/model", "/previews", "/audit",
	} {
		if a, err := (&client.Client{Address: n.client.Address, Key: link.Token}).Do(t.Context(), http.MethodGet,
			"/control/v1"+path, nil, nil); err != nil ||
			a.Status != 403 {
			t.Errorf("the link reaches %s: %v %d", path, err, a.Status)
		}
	}
	if _, err := (&client.Client{Address: n.client.Address, Key: link.Token}).Keys().Preview(t.Context(), "ice",
		api.PreviewOptions{Minutes: new(10_000)}); err == nil {
		t.Error("the link makes another link")
	}
	take, _ := access.ParseGrants([]string{"read preview route"})
	if _, err := n.Keys.GrantKey(t.Context(), key.ID, "test", nil, take); err != nil {
		t.Fatal(err)
	}
	if reads(n, link.Token, shown) != 403 || reads(n, link.Token, own) != 200 {
		t.Error("it does not lose what its maker has lost, and that alone")
	}
	add, _ := access.ParseGrants([]string{"read preview remark"})
	if _, err := n.Keys.GrantKey(t.Context(), key.ID, "test", add, nil); err != nil {
		t.Fatal(err)
	}
	items, err := n.client.Keys().Previews(t.Context(), "ice")
	if err != nil || len(items) != 1 || items[0].ID != link.ID || items[0].By != key.Name || items[0].Used == nil ||
		len(items[0].Grants) != 2 {
		t.Errorf("%+v, %v", items, err)
	}
	if err := (&client.Client{Address: n.client.Address, Key: few}).Keys().RevokePreview(t.Context(),
		link.ID); err == nil {
		t.Error("somebody else's link is revoked")
	}
	if err := maker.Keys().RevokePreview(t.Context(), link.ID); err != nil {
		t.Fatal(err)
	}
	for _, node := range l.nodes {
		if got := reads(node, link.Token, own); got != 401 {
			t.Errorf("a revoked link: %d", got)
		}
	}
	if _, err := n.Keys.RevokeKey(t.Context(), key.ID, "test"); err != nil {
		t.Fatal(err)
	}
	if got := reads(n, back.Token, "preview/routes/outer-ring?fields=name"); got != 401 {
		t.Errorf("the link of a revoked key: %d", got)
	}
	// An account's link goes with its role.
	b := n.account(t, n.client.Address, "tilda@skerry.example", access.RoleReader)
	var made api.IssuedPreviewLink
	if err := json.Unmarshal([]byte(b.must("POST", "/control/v1/entries/ice/preview", per{"minutes": 5}, 200,
		"ubv_")), &made); err != nil {
		t.Fatal(err)
	}
	if got := reads(n, made.Token, own); got != 200 {
		t.Errorf("an account's link: %d", got)
	}
	disabled := true
	if _, err := n.Accounts.ChangeAccount(t.Context(), "tilda@skerry.example",
		identity.AccountChange{Disabled: &disabled}, "test"); err != nil {
		t.Fatal(err)
	}
	if got := reads(n, made.Token, own); got != 401 {
		t.Errorf("the link of an account that is disabled: %d", got)
	}
	for what, n := range map[string]int{"preview create": 5, "preview use": 5, "preview revoke": 1} {
		acts, err := l.nodes[0].client.Accounts().Audit(t.Context(), api.AuditFilter{What: what})
		if err != nil || len(acts) != n {
			t.Errorf("%s: %d lines in the audit log, %v", what, len(acts), err)
		}
	}
}

// TestTheAuditLogIsAChain changes lines behind the service's back.
func TestTheAuditLogIsAChain(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	sql := func(sql string, args ...any) {
		t.Helper()
		if _, err := l.store.DB.Pool.Exec(t.Context(), sql,
			append([]any{l.store.Environment}, args...)...); err != nil {
			t.Fatal(err)
		}
	}
	n.must(t, api.Edit{ID: "fog", Do: "unpublish"})
	if _, err := n.client.Accounts().ExportAudit(t.Context(), api.AuditFilter{}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.client.Do(t.Context(), http.MethodGet, "/control/v1/export?type=notice", nil, nil); err != nil {
		t.Fatal(err)
	}
	_, _, _ = n.Accounts.SignIn(
		t.Context(), "nobody@skerry.example", "a guess at it", audit.Actor{Address: "203.0.113.7"}, "", "",
	)
	for _, what := range []string{"audit export", "export", "sign in refused"} {
		if acts, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{What: what}); err != nil || len(acts) != 1 {
			t.Errorf("%s is not in it: %v", what, err)
		}
	}
	whole, err := n.client.Accounts().VerifyAudit(t.Context(), "")
	if err != nil || whole.Broken != 0 || whole.Lines < 8 || len(whole.Hash) != 64 {
		t.Fatalf("%+v, %v", whole, err)
	}
	sql(`update audit set who = 'somebody else' where environment = $1 and id = 4`)
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), ""); err != nil || state.Broken != 4 {
		t.Errorf("a line is changed, and nobody notices: %+v, %v", state, err)
	}
	sql(`update audit set who = 'test' where environment = $1 and id = 4`)
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), whole.Hash); err != nil || state.Broken != 0 ||
		!*state.Contains {
		t.Fatalf("it is put right: %+v, %v", state, err)
	}
	sql(`delete from audit where environment = $1 and id = (select max(id) from audit where environment = $1)`)
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), whole.Hash); err != nil || state.Contains == nil ||
		*state.Contains {
		t.Errorf("the end is cut off: %+v, %v", state, err)
	}
	sql(`delete from audit where environment = $1 and id = 4`)
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), ""); err != nil || state.Broken != 5 {
		t.Errorf("a line is taken out, and nobody notices: %+v, %v", state, err)
	}
	short := start(t, environment.Options{Store: l.store, KeepAudit: time.Nanosecond}, access.NewSecret())
	testkit.Eventually(t, "old lines go", func() bool {
		if _, err := short.TrimAudit(t.Context()); err != nil {
			t.Fatal(err)
		}
		acts, err := short.Audit.Acts(t.Context(), api.AuditFilter{What: "audit trim"})
		return err == nil && len(acts) > 0
	})
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), ""); err != nil || state.Broken != 0 ||
		state.Lines > 10 {
		t.Errorf("after lines went: %+v, %v", state, err)
	}
	sql(`delete from audit where environment = $1 and what = 'audit trim'`)
	if state, err := n.client.Accounts().VerifyAudit(t.Context(), ""); err != nil ||
		state.Broken == 0 && state.Lines > 0 {
		t.Errorf("nobody vouches for what went: %+v, %v", state, err)
	}
}
