package access

import (
	"errors"
	"strings"
	"testing"
	"time"
)

func TestSecrets(t *testing.T) {
	a, b := NewSecret(), NewSecret()
	if a == b || len(a) != 42 || !strings.HasPrefix(a, "ubq_") || CheckSecret(a) != nil {
		t.Fatalf("secrets %q, %q", a, b)
	}
	flip := func(i int) string {
		c := byte('0')
		if a[i] == c {
			c = '1'
		}
		return a[:i] + string(c) + a[i+1:]
	}
	for name, bad := range map[string]string{
		"empty": "", "cut": a[:41], "longer": a + "x",
		"slip in the body": flip(20), "slip in the checksum": flip(41), "another prefix": "ubx_" + a[4:],
	} {
		if !errors.Is(CheckSecret(bad), ErrMalformed) {
			t.Errorf("a secret that is %s is accepted", name)
		}
	}
}

func TestGrantsOnlyAddUp(t *testing.T) {
	need := func(s string) Grant {
		g, err := ParseGrant(s)
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	r := Rights{Open: Grants{need("read published *")}, Own: Grants{need("read preview notice")}}
	as := func(g Grant) Need { return Need{Verb: g.Verb, Edition: g.Edition, Type: g.Type} }
	for text, want := range map[string]bool{
		"read published pier": true, "read preview notice": true,
		"read preview pier": false, "write published pier": false, "manage * *": false, "read published *": true,
		"read * notice": false,
	} {
		if got := r.Allows(as(need(text))); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
	if g, missing := r.Missing([]Need{as(need("read published pier")), as(need("read preview pier"))}); !missing ||
		g.String() != "read preview pier" {
		t.Errorf("missing %v", g)
	}
	if !r.AllowsAny(Read, "preview") || r.AllowsAny(Write, "published") || (Rights{}).AllowsAny(Read, "published") {
		t.Error("whether anything is allowed at all")
	}
	if _, missing := (Rights{}).Missing(nil); missing {
		t.Error("needing nothing is refused")
	}
}

func TestParseGrantSaysWhatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		"read":             "write verb, edition and type",
		"raed published *": "none of read", "read publshed *": "published, preview or *",
	} {
		if _, err := ParseGrant(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestKeysExpireOnTime(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	k := Key{Expires: &at}
	if k.Good(k.Hash, at.Add(-1)) != nil || k.Good(k.Hash, at) != ErrExpired || (&Key{}).Good([32]byte{}, at) != nil {
		t.Error("a key ends at another moment than it says")
	}
}

func TestLocalesLimitGrants(t *testing.T) {
	g, err := ParseGrants([]string{"read published notice in nb,de", "read published pier"})
	if err != nil || g[0].String() != "read published notice in nb,de" {
		t.Fatal(g, err)
	}
	r := Rights{Own: g}
	need := func(typ, locale string) Need {
		return Need{Verb: Read, Edition: "published", Type: typ, Locale: locale}
	}
	for n, want := range map[Need]string{
		need("notice", "nb"): "", need("pier", "ja"): "",
		need("notice", "en"): "read published notice in en", need("route", "nb"): "read published route",
		need("notice", ""): "read published notice",
	} {
		if missing, is := r.Missing([]Need{n}); is != (want != "") || is && missing.String() != want {
			t.Errorf("%s: %v, missing %q", n, is, missing)
		}
	}
	if any, locales := g.Reach(need("notice", "")); !any || len(locales) != 2 {
		t.Errorf("reach %v %v", any, locales)
	}
	if err := g.Check([]string{"notice", "pier"}, []string{"nb"}); err == nil ||
		!strings.Contains(err.Error(), `no locale "de"`) {
		t.Errorf("an unknown locale: %v", err)
	}
}

func TestRolesAreALadder(t *testing.T) {
	before := 0
	for _, role := range Roles {
		g := role.Grants()
		if len(g) <= before {
			t.Errorf("%s may no more than the one before", role)
		}
		before = len(g)
	}
	if !RoleAdmin.Grants().Allows(Administer) || RoleApprover.Grants().Allows(Administer) ||
		Role("boss").Grants() != nil {
		t.Error("who may administer")
	}
}

func TestMetersBoundAndCount(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	m := NewMeter(60)
	for i := range 60 {
		if left, _, ok := m.Admit(at); !ok || left != 59-i {
			t.Fatalf("request %d: %d %t", i, left, ok)
		}
	}
	if _, wait, ok := m.Admit(at); ok || wait != time.Second {
		t.Errorf("one too many: %v %t", wait, ok)
	}
	if _, _, ok := m.Admit(at.Add(time.Second)); !ok {
		t.Error("a second later")
	}
	if !m.Due(at) {
		t.Error("nobody was noted yet")
	}
	m.Note(at, "203.0.113.1", strings.Repeat("x", 500))
	if m.Due(at.Add(999*time.Millisecond)) || !m.Due(at.Add(time.Second)) {
		t.Error("noted once a second")
	}
	m.Hit()
	if u, used := m.Take(); !used || u.Requests != 62 || u.Hits != 1 || u.Address != "203.0.113.1" ||
		len(u.Agent) != 200 {
		t.Errorf("%+v", u)
	}
	if u, used := m.Take(); used {
		t.Errorf("taken twice: %+v", u)
	}
	var none *Meter
	none.Hit()
	if _, _, ok := none.Admit(at); !ok || none.Due(at) || none.Limit() != 0 {
		t.Error("no meter bounds something")
	}
	l := NewLimiter(60, 2)
	if first := l.Allow("a", at); !first || !l.Allow("a", at) || l.Allow("a", at) || !l.Allow("b", at) ||
		l.Wait("a", at) != time.Second {
		t.Error("a limiter counts each by itself")
	}
}

func TestClaimsBringGrants(t *testing.T) {
	i := Issuer{
		Issuer:   "i",
		Audience: "a",
		Keys:     "k",
		Grants:   []ClaimGrants{{Claim: "role", Is: "crew", Grants: []string{"read preview *"}}},
	}
	if err := i.Check(); err != nil {
		t.Fatal(err)
	}
	for want, claims := range map[int][]map[string]any{1: {
		{"role": "crew"},
		{"role": []any{"x", "crew"}},
		{"role": "x crew"},
	}, 0: {{"role": "crews"}, {"role": 7.0}, {}, {"rule": "crew"}}} {
		for _, c := range claims {
			if got := len(i.GrantsOf(c)); got != want {
				t.Errorf("%v brings %d grants", c, got)
			}
		}
	}
	for keys, want := range map[string]bool{
		"https://id.skerry.example/keys": true, "keys.json": true,
		"http://127.0.0.1:9/keys": true, "http://localhost/keys": true, "http://id.skerry.example/keys": false,
		"http://10.0.0.1/keys": false,
	} {
		i := Issuer{
			Issuer:   "i",
			Audience: "a",
			Keys:     keys,
			Grants:   []ClaimGrants{{Claim: "role", Is: "crew", Grants: []string{"read preview *"}}},
		}
		if got := i.Check() == nil; got != want {
			t.Errorf("keys from %s are taken: %t", keys, got)
		}
	}
	bad := Issuer{Algorithms: []string{"none"}, Grants: []ClaimGrants{{Grants: []string{"raed"}}}}
	for _, want := range []string{
		"issuer is missing", "audience is missing", "keys is missing",
		`"none" is none of`, "raed", "a claim and what it is",
	} {
		if err := bad.Check(); !strings.Contains(err.Error(), want) {
			t.Errorf("%q is not said in %v", want, err)
		}
	}
}

// TestPreviewLinksAreGoodBecauseTheyAreSigned tampers with links in every way.
func TestPreviewLinksAreGoodBecauseTheyAreSigned(t *testing.T) {
	secret, at := []byte("of the environment"), time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	link := PreviewLink{Entry: "d1", Expires: at.Add(time.Hour)}
	token := link.Token(secret)
	if got, err := ReadPreviewLink(token, secret, at); err != nil || got.Entry != "d1" ||
		!got.Expires.Equal(link.Expires) ||
		!IsPreviewLink(token) {
		t.Fatalf("%+v, %v", got, err)
	}
	if _, err := ReadPreviewLink(token, secret, link.Expires); !errors.Is(err, ErrPreviewOver) {
		t.Errorf("at its end: %v", err)
	}
	other := PreviewLink{Entry: "d2", Expires: link.Expires}.Token(secret)
	payload, signature, _ := strings.Cut(token, ".")
	for name, bad := range map[string]string{
		"another's signature": strings.SplitN(other, ".", 2)[0] + "." + signature, "no signature": payload,
		"an empty one": payload + ".", "one character": token[:len(token)-1] + string(token[len(token)-1]^1),
		"a longer one": token + "x", "nothing": "", "by another secret": link.Token([]byte("of somebody else")),
		"no payload": payload[:len(previewPrefix)] + "." + signature,
	} {
		if got, err := ReadPreviewLink(bad, secret, at); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	if IsPreviewLink(NewSecret()) || IsPreviewLink("") {
		t.Error("a key is taken for a link")
	}
}

// TestTextsThatHoldSecretsAreKnown finds secrets where they must not be.
func TestTextsThatHoldSecretsAreKnown(t *testing.T) {
	secret := NewSecret()
	link := PreviewLink{Entry: "d1"}.Token([]byte("x"))
	for text, want := range map[string]bool{
		"key=" + secret: true, secret: true, "a" + secret + "b": true,
		"token=" + link: true, "key=ubq_short": false, "": false, "limit=3&sort=name": false, secret[:20]: false,
	} {
		if HoldsSecret(text) != want {
			t.Errorf("%.12s…: %t", text, !want)
		}
	}
	if HashSecret(secret) == HashSecret(NewSecret()) || CheckSecret(secret) != nil ||
		CheckSecret(secret[:len(secret)-1]+"!") == nil {
		t.Error("secrets and their hashes")
	}
}

// TestLimitersFillUpAgain lets somebody do something twice, and then once a second.
func TestLimitersFillUpAgain(t *testing.T) {
	l, now := NewLimiter(60, 2), time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for i, want := range []bool{true, true, false, false} {
		if got := l.Allow("a", now); got != want {
			t.Errorf("time %d is allowed: %t", i+1, got)
		}
	}
	if wait := l.Wait("a", now); wait <= 0 || wait > time.Second {
		t.Errorf("it is to wait %v", wait)
	}
	if !l.Allow("b", now) || l.Wait("c", now) != 0 {
		t.Error("others have nothing to do with it")
	}
	for text, want := range map[string]string{
		"203.0.113.7":        "203.0.113.7",
		"2001:4860:1:2:3::4": "2001:4860:1:2::/64", "2001:4860:1:2:ffff::1": "2001:4860:1:2::/64",
		"::ffff:203.0.113.7": "::ffff:203.0.113.7", "fe80::1%eth0": "fe80::/64", "no:address": "no:address",
	} {
		if got := Network(text); got != want {
			t.Errorf("%s counts as %s", text, got)
		}
	}
	if now = now.Add(time.Second); !l.Allow("a", now) || l.Allow("a", now) {
		t.Error("a second later it is allowed once")
	}
	if now = now.Add(time.Hour); !l.Allow("a", now) || !l.Allow("a", now) || l.Allow("a", now) {
		t.Error("however long it was quiet, only two at once")
	}
}
