package access

import (
	"testing"
	"time"

	"ubiquon/internal/testkit/cost"
)

// FuzzSecrets reads what somebody sends as a key, a preview link or a grant.
func FuzzSecrets(f *testing.F) {
	secret := []byte("of the environment")
	for _, seed := range []string{
		"", "ubq_", NewSecret(),
		PreviewLink{ID: "l1", Entry: "fog", Expires: time.Unix(2e9, 0)}.Token(secret), "ubv_e30.x",
		"read published notice", "read preview * in nb,de", "ubv_" + string(make([]byte, 100)),
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		cost.Bound(t, func() {
			_ = CheckSecret(text)
			HoldsSecret(text)
			if l, err := ReadPreviewLink(text, secret, time.Unix(0, 0)); err == nil && l.Token(secret) != text {
				t.Errorf("%q is read as another link: %+v", text, l)
			}
			if g, err := ParseGrant(text); err == nil {
				if again, err := ParseGrant(g.String()); err != nil || again.String() != g.String() {
					t.Errorf("%q is read as %q, and that as %q", text, g, again)
				}
			}
		})
	})
}

// TestGrantsIntersect holds that what both allow is what each of them allows.
func TestGrantsIntersect(t *testing.T) {
	of := func(texts ...string) Grants {
		g, err := ParseGrants(texts)
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	a := of("read preview *", "read published notice in nb,de", "write preview pier")
	b := of("read * notice in nb", "read preview route", "publish published *")
	both := a.Intersect(b)
	for _, verb := range Verbs {
		for _, edition := range []string{"published", "preview"} {
			for _, typ := range []string{"notice", "route", "pier"} {
				for _, locale := range []string{"", "nb", "de"} {
					need := Need{verb, edition, typ, locale}
					if want := a.Allows(need) && b.Allows(need); both.Allows(need) != want {
						t.Errorf("%s: %t", need, !want)
					}
				}
			}
		}
	}
	if len(of("read preview notice in nb").Intersect(of("read preview notice in de"))) != 0 {
		t.Error("nothing in common")
	}
}
