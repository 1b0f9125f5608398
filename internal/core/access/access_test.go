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
	for name, bad := range map[string]string{"empty": "", "cut": a[:41], "longer": a + "x", "slip in the body": flip(20), "slip in the checksum": flip(41), "another prefix": "ubx_" + a[4:]} {
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
	for text, want := range map[string]bool{"read published pier": true, "read preview notice": true, "read preview pier": false, "write published pier": false, "manage * *": false, "read published *": true, "read * notice": false} {
		if got := r.Allows(as(need(text))); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
	if g, missing := r.Missing([]Need{as(need("read published pier")), as(need("read preview pier"))}); !missing || g.String() != "read preview pier" {
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
	for text, want := range map[string]string{"read": "write verb, edition and type", "raed published *": "none of read", "read publshed *": "published, preview or *"} {
		if _, err := ParseGrant(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestKeysExpireAtTheirMoment(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	k := Key{Expires: &at}
	if k.Good(k.Hash, at.Add(-1)) != nil || k.Good(k.Hash, at) != ErrExpired || (&Key{}).Good([32]byte{}, at) != nil {
		t.Error("a key ends at another moment than it says")
	}
}
