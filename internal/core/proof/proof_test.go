package proof

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/testkit/cost"
)

const (
	secret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="
	other  = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LXR3bw=="
)

func signed(t *testing.T, secret, id string, at time.Time, body string) http.Header {
	t.Helper()
	w, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	s, err := w.Sign(id, at, []byte(body))
	if err != nil {
		t.Fatal(err)
	}
	h := http.Header{}
	h.Set("webhook-id", id)
	h.Set("webhook-timestamp", strconv.FormatInt(at.Unix(), 10))
	h.Set("webhook-signature", s)
	return h
}

func TestProve(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	body := `{"a":1}`
	with := func(h http.Header, name, value string) http.Header { h.Set(name, value); return h }
	for name, c := range map[string]struct {
		header http.Header
		body   string
		want   string // "" for proven
	}{
		"good":            {signed(t, secret, "m1", now, body), body, ""},
		"an older secret": {signed(t, other, "m1", now, body), body, ""},
		"almost too old":  {signed(t, secret, "m1", now.Add(-4*time.Minute-59*time.Second), body), body, ""},
		"too old": {
			signed(t, secret, "m1", now.Add(-5*time.Minute-time.Second), body), body,
			"off our clock",
		},
		"from the future": {signed(t, secret, "m1", now.Add(6*time.Minute), body), body, "off our clock"},
		"another body":    {signed(t, secret, "m1", now, body), body + " ", "does not fit"},
		"another id":      {with(signed(t, secret, "m1", now, body), "webhook-id", "m2"), body, "does not fit"},
		"unknown secret":  {signed(t, "whsec_ZXZpbA==", "m1", now, body), body, "does not fit"},
		"no headers":      {http.Header{}, body, "are needed"},
		"nonsense timestamp": {
			with(signed(t, secret, "m1", now, body), "webhook-timestamp", "now"), body,
			"not a number",
		},
	} {
		err := Standard([]string{secret, other}, c.header, []byte(c.body), now)
		if c.want == "" {
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if !errors.Is(err, ErrNotProven) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
		if strings.Contains(err.Error(), "c2tlcnJ5") {
			t.Errorf("%s: the error tells the secret", name)
		}
	}
}

func read(t *testing.T, text string) Proof {
	t.Helper()
	var p struct {
		Prove Proof `yaml:"prove"`
	}
	if err := strictyaml.Decode("o.yaml", []byte("prove: "+text), &p); err != nil {
		t.Fatal(err)
	}
	return p.Prove
}

// TestProofs holds messages against each proof, and against several together.
func TestProofs(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	body := `{"quay":"mella"}`
	hex256 := func(key, text string) string {
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(text))
		return hex.EncodeToString(mac.Sum(nil))
	}
	mac512 := hmac.New(sha512.New, []byte("tide"))
	mac512.Write([]byte(body))
	stamp := strconv.FormatInt(now.Unix(), 10)
	const (
		plain  = `{hmac: {header: X-Signature, prefix: "sha256=", secret: [old, tide]}}`
		timed  = `{hmac: {header: X-Signature, timestampHeader: X-At, signs: "{timestamp}.{body}", secret: tide}}`
		base   = `{hmac: {header: X-Signature, algorithm: sha512, encoding: base64, secret: tide}}`
		basic  = `{basic: "office:ebb"}`
		token  = `{bearer: {token: [a, flood]}}`
		named  = `{bearer: {header: X-Token, token: flood}}`
		place  = `{addresses: [192.0.2.0/24, "2001:db8::1"]}`
		both   = `{basic: "office:ebb", addresses: [192.0.2.0/24]}`
		either = `{any: [{basic: "office:ebb"}, {addresses: [192.0.2.0/24]}]}`
	)
	for name, c := range map[string]struct {
		proof   string
		header  map[string]string
		address string
		want    string // "" for proven
	}{
		"hmac":                   {plain, map[string]string{"X-Signature": "sha256=" + hex256("tide", body)}, "", ""},
		"hmac, the older secret": {plain, map[string]string{"X-Signature": "sha256=" + hex256("old", body)}, "", ""},
		"hmac, another secret": {
			plain, map[string]string{"X-Signature": "sha256=" + hex256("x", body)}, "", "hmac: the signature does not fit",
		},
		"hmac without prefix": {plain, map[string]string{"X-Signature": hex256("tide", body)}, "", "does not begin with"},
		"hmac without header": {plain, nil, "", "the header X-Signature is needed"},
		"hmac no hex":         {plain, map[string]string{"X-Signature": "sha256=xyz"}, "", "is not hex"},
		"hmac with time": {
			timed, map[string]string{"X-At": stamp, "X-Signature": hex256("tide", stamp+"."+body)}, "", "",
		},
		"hmac with an old time": {
			timed,
			map[string]string{"X-At": "1700000000", "X-Signature": hex256("tide", "1700000000."+body)},
			"",
			"off our clock",
		},
		"hmac with another time": {
			timed, map[string]string{"X-At": stamp, "X-Signature": hex256("tide", body)}, "", "does not fit",
		},
		"hmac base64": {
			base, map[string]string{"X-Signature": base64.StdEncoding.EncodeToString(mac512.Sum(nil))}, "", "",
		},
		"basic": {
			basic,
			map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("office:ebb"))},
			"", "",
		},
		"basic, wrong": {
			basic,
			map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("office:x"))},
			"", "basic: user and password are not",
		},
		"basic, none":    {basic, nil, "", "Basic credentials is needed"},
		"bearer":         {token, map[string]string{"Authorization": "bearer flood"}, "", ""},
		"bearer, wrong":  {token, map[string]string{"Authorization": "Bearer ebb"}, "", "not the one that is configured"},
		"token":          {named, map[string]string{"X-Token": "flood"}, "", ""},
		"token, none":    {named, nil, "", "the header X-Token with a token is needed"},
		"address":        {place, nil, "192.0.2.7", ""},
		"mapped address": {place, nil, "::ffff:192.0.2.7", ""},
		"one address":    {place, nil, "2001:db8::1", ""},
		"other address":  {place, nil, "198.51.100.1", "in none of the networks"},
		"both, one of them": {
			both, nil, "192.0.2.7", "basic: the header",
		},
		"either":          {either, nil, "192.0.2.7", ""},
		"either, neither": {either, nil, "198.51.100.1", "with Basic credentials is needed; addresses"},
		"none":            {`{none: true}`, nil, "", ""},
	} {
		p := read(t, c.proof)
		if wrong := p.Check(); len(wrong) > 0 {
			t.Errorf("%s: %v", name, wrong)
		}
		m := Message{
			Method: "POST",
			URL:    "https://gateway.example/hooks/tides",
			Header: http.Header{},
			Body:   []byte(body),
		}
		m.Address, _ = netip.ParseAddr(c.address)
		for header, value := range c.header {
			m.Header.Set(header, value)
		}
		err := p.Prove(&m, now)
		switch {
		case c.want == "" && err != nil:
			t.Errorf("%s: %v", name, err)
		case c.want != "" && (!errors.Is(err, ErrNotProven) || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
		if err != nil && (strings.Contains(err.Error(), "tide") || strings.Contains(err.Error(), "office:")) {
			t.Errorf("%s: the error tells the secret: %v", name, err)
		}
		if c.want != "" {
			continue
		}
		if m.Body = append(m.Body, ' '); strings.Contains(c.proof, "hmac") && p.Prove(&m, now) == nil {
			t.Errorf("%s: another body is proven", name)
		}
	}
}

func TestCheckNamesWhatIsWrongWithAProof(t *testing.T) {
	for text, want := range map[string]string{
		`{}`:                         "nobody could announce anything",
		`{none: true, basic: "a:b"}`: "none stands alone",
		`{hmac: {secret: x}}`:        "prove.hmac: header is missing",
		`{hmac: {header: X}}`:        "secret is missing",
		`{hmac: {header: X, secret: x, algorithm: md5}}`:             `"md5" is none of`,
		`{hmac: {header: X, secret: x, encoding: octal}}`:            "neither hex nor base64",
		`{hmac: {header: X, secret: x, signs: "{timestamp}"}}`:       "no {body} in it",
		`{hmac: {header: X, secret: x, signs: "{timestamp}{body}"}}`: "needs timestampHeader",
		`{hmac: {header: X, secret: x, timestampHeader: Y}}`:         "the time is not signed",

		`{addresses: [here]}`:                              `prove.addresses[0]: "here" is no network`,
		`{any: [{}]}`:                                      "prove.any[0]: nothing is named",
		`{bearer: {header: X}}`:                            "token is missing",
		`{httpSignature: {keys: [{id: a}]}}`:               "has a secret, or a publicKey",
		`{httpSignature: {keys: [{id: a, publicKey: x}]}}`: "not read as a public key",
	} {
		p := read(t, text)
		if got := strings.Join(p.Check(), "; "); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// TestSignaturesOfTheStandard verifies the examples of RFC 9421, appendix B.2.
func TestSignaturesOfTheStandard(t *testing.T) {
	now := time.Unix(1618884473, 0)
	const body = `{"hello": "world"}`
	message := func(input, signature string) *Message {
		h := http.Header{}
		h.Set("Date", "Tue, 20 Apr 2021 02:07:55 GMT")
		h.Set("Content-Type", "application/json")
		h.Set(
			"Content-Digest",
			"sha-512=:WZDPaVn/7XgHaAy8pmojAkGWoRx2UFChF41A2svX+TaPm+AbwAgBWnrIiYllu7BNNyealdVLvRwEmTHWXvJwew==:",
		)
		h.Set("Content-Length", "18")
		h.Set("Signature-Input", input)
		h.Set("Signature", signature)
		return &Message{
			Method: "POST",
			URL:    "https://example.com/foo?param=Value&Pet=dog",
			Header: h,
			Body:   []byte(body),
		}
	}
	// B.2.5 and B.2.6 do not cover the digest: its absence is what must be refused, and the rest verify.
	shared, err := base64.StdEncoding.DecodeString(
		"uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==",
	)
	if err != nil {
		t.Fatal(err)
	}
	const edwards = "-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VwAyEAJrQLj5P/89iXES9+vFgrIy29clF9CC/oPPsw3c5D0bs=\n" +
		"-----END PUBLIC KEY-----\n"
	for name, c := range map[string]struct {
		key              SignatureKey
		input, signature string
	}{
		"hmac-sha256": {
			SignatureKey{ID: "test-shared-secret", Secret: string(shared)},
			`sig-b25=("date" "@authority" "content-type");created=1618884473;keyid="test-shared-secret"`,
			`sig-b25=:pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=:`,
		},
		"ed25519": {
			SignatureKey{ID: "test-key-ed25519", PublicKey: edwards},
			`sig-b26=("date" "@method" "@path" "@authority" "content-type" "content-length");created=1618884473;keyid="test-key-ed25519"`,
			`sig-b26=:wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==:`,
		},
	} {
		m := message(c.input, c.signature)
		inputs, signatures := m.Header.Get("Signature-Input"), m.Header.Get("Signature")
		p := Proof{HTTPSignature: &HTTPSignature{Keys: []SignatureKey{c.key}}}
		if err := p.Prove(m, now); err == nil || !strings.Contains(err.Error(), "does not cover content-digest") {
			t.Errorf("%s: %v", name, err)
		}
		covered, signature := parsed(t, inputs, signatures)
		base, _, err := signatureBase(m, covered)
		if err != nil {
			t.Fatal(err)
		}
		alg := map[string]string{"hmac-sha256": "", "ed25519": ""}[name]
		if !c.key.verify(alg, base, signature) {
			t.Errorf("%s does not verify over\n%s", name, base)
		}
		if c.key.verify(alg, append(base, ' '), signature) || c.key.verify("rsa-pss-sha512", base, signature) {
			t.Errorf("%s verifies something else", name)
		}
	}
}

// TestHTTPSignature signs messages with a shared secret.
func TestHTTPSignature(t *testing.T) {
	now := time.Unix(1795953600, 0)
	const body = `{"quay":"mella"}`
	sum := sha256.Sum256([]byte(body))
	sign := func(params, key string) *Message {
		m := &Message{
			Method: "POST", URL: "https://gateway.example/hooks/tides", Header: http.Header{}, Body: []byte(body),
		}
		m.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
		m.Header.Set("Signature-Input", "sig="+params)
		covered, _ := parsed(t, "sig="+params, "sig=:AA==:")
		base, _, err := signatureBase(m, covered)
		if err != nil {
			t.Fatal(err)
		}
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write(base)
		m.Header.Set("Signature", "sig=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
		return m
	}
	p := read(t, `{httpSignature: {keys: [{id: k1, secret: tide}], covers: ["@method", "@path"]}}`)
	at := fmt.Sprintf(`("@method" "@path" "content-digest");created=%d;keyid="k1"`, now.Unix())
	if err := p.Prove(sign(at, "tide"), now); err != nil {
		t.Fatal(err)
	}
	changed := sign(at, "tide")
	changed.Body = []byte("{}")
	elsewhere := sign(at, "tide")
	elsewhere.URL = "https://gateway.example/hooks/other"
	for name, c := range map[string]struct {
		m    *Message
		want string
	}{
		"another key":  {sign(at, "ebb"), "does not fit the message"},
		"another body": {changed, "Content-Digest (sha-256) does not fit"},
		"elsewhere":    {elsewhere, "does not fit the message"},
		"too little": {
			sign(fmt.Sprintf(`("content-digest");created=%d;keyid="k1"`, now.Unix()), "tide"), "does not cover @method",
		},
		"old":         {sign(strings.Replace(at, "created=1", "created=0", 1), "tide"), "off our clock"},
		"unknown key": {sign(strings.Replace(at, "k1", "k2", 1), "tide"), "keyid that is not configured"},
		"no created":  {sign(`("@method" "@path" "content-digest");keyid="k1"`, "tide"), "when it was created"},
		"nothing":     {&Message{Header: http.Header{}}, "Signature-Input is needed"},
	} {
		if err := p.Prove(c.m, now); !errors.Is(err, ErrNotProven) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func FuzzProve(f *testing.F) {
	f.Add("m1", "1795420800", "v1,AAAA", `sig=("@method");created=1`, "sig=:AA==:", []byte("{}"))
	f.Add("", "-1", "v1a,x v1,y", "((((", ";;;", []byte(strings.Repeat("[", 10_000)))
	f.Fuzz(func(t *testing.T, id, stamp, signature, input, sig string, body []byte) {
		m := Message{Method: "POST", URL: "https://gateway.example/hooks/tides", Body: body, Header: http.Header{
			"Webhook-Id": {id}, "Webhook-Timestamp": {stamp}, "Webhook-Signature": {signature},
			"Signature-Input": {input}, "Signature": {sig}, "Content-Digest": {input}, "X-Signature": {signature},
		}}
		p := Proof{Any: []Proof{
			{StandardWebhooks: Texts{secret}},
			{HTTPSignature: &HTTPSignature{Keys: []SignatureKey{{ID: "a", Secret: "tide"}}}},
			{HMAC: &HMAC{Header: "X-Signature", Secret: Texts{"tide"}}},
		}}
		cost.Bound(t, func() {
			if p.Prove(&m, time.Unix(1795420800, 0)) == nil {
				t.Errorf("%q %q %q proves something", id, stamp, signature)
			}
		})
	})
}
