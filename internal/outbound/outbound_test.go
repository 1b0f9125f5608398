package outbound

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

const secret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="

func TestPostSignsAndReportsRefusals(t *testing.T) {
	status := http.StatusAccepted
	var got http.Header
	var body []byte
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r.Header
		body, _ = io.ReadAll(r.Body)
		w.WriteHeader(status)
		io.WriteString(w, " the crane is busy ")
	}))
	defer web.Close()
	c := New(Options{Private: true})
	if err := c.Post(t.Context(), web.URL, secret, "b1", map[string]int{"number": 7}); err != nil {
		t.Fatal(err)
	}
	proof, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	if err := proof.Verify(body, got); err != nil {
		t.Errorf("the signature does not hold: %v", err)
	}
	var payload struct{ Number int }
	if json.Unmarshal(body, &payload); payload.Number != 7 || got.Get("webhook-id") != "b1" ||
		got.Get("Idempotency-Key") != `"b1"` {
		t.Errorf("%s with %v", body, got)
	}
	status = http.StatusServiceUnavailable
	if err := c.Post(t.Context(), web.URL, secret, "b1", 1); err == nil || !strings.Contains(err.Error(), "503") ||
		!strings.Contains(err.Error(), "the crane is busy") {
		t.Errorf("a refusal: %v", err)
	}
	if err := c.Post(t.Context(), web.URL, "whsec_!", "b1", 1); err == nil ||
		!strings.Contains(err.Error(), "whsec_ and base64") {
		t.Errorf("a bad secret: %v", err)
	}
	if err := c.Post(t.Context(), web.URL, "", "b1", 1); got.Get("webhook-signature") != "" || err == nil {
		t.Errorf("without a secret: %v %v", got, err)
	}
}

func TestPrivateNetworksAreOutOfReach(t *testing.T) {
	reached := false
	web := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	defer web.Close()
	for _, address := range []string{
		web.URL, strings.Replace(web.URL, "127.0.0.1", "localhost", 1),
		"http://10.0.0.1/", "http://[::1]:80/", "http://169.254.0.1/", "http://[::ffff:127.0.0.1]:80/",
	} {
		if err := New(Options{Timeout: time.Second}).Post(t.Context(), address, secret, "b1", 1); err == nil ||
			reached {
			t.Errorf("%s was reached: %v", address, err)
		}
	}
	if err := New(Options{}).Post(t.Context(), web.URL, secret, "b1", 1); err == nil ||
		!strings.Contains(err.Error(), "outbound.allow") {
		t.Errorf("the refusal does not say the mend: %v", err)
	}
}

func TestSlowBuildersAreGivenUp(t *testing.T) {
	done := make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-done }))
	defer web.Close()
	defer close(done)
	if err := New(Options{Private: true, Timeout: 50 * time.Millisecond}).Post(t.Context(), web.URL, secret, "b1",
		1); err == nil {
		t.Error("waited for ever")
	}
}

// TestSpecialNetworks holds addresses against the registries of special purpose
// addresses.
func TestSpecialNetworks(t *testing.T) {
	allowed := Options{Allow: prefixes("10.1.0.0/16", "fd00:1::/32")}
	for text, want := range map[string]bool{
		"8.8.8.8": true, "100.63.255.255": true, "2606:4700::1": true, "198.17.255.255": true, "10.1.2.3": true,
		"fd00:1::5": true, "::ffff:8.8.8.8": true,
		"10.2.0.1": false, "0.0.0.0": false, "0.1.2.3": false, "100.64.0.1": false, "127.0.0.1": false,
		"127.255.0.1": false, "169.254.169.254": false, "172.31.0.1": false, "192.0.0.8": false,
		"192.168.1.1": false, "198.18.0.1": false, "203.0.113.9": false, "224.0.0.1": false, "240.0.0.1": false,
		"255.255.255.255": false, "::": false, "::1": false, "::ffff:127.0.0.1": false,
		"::ffff:10.2.0.1": false, "64:ff9b::7f00:1": false, "64:ff9b:1::1": false, "2002:7f00:1::": false,
		"2001::1": false, "2001:db8::1": false, "fe80::1": false, "fc00::1": false, "fd00:2::1": false,
		"ff02::1": false, "::127.0.0.1": false, "4000::1": false, "fe80::1%eth0": false,
	} {
		if got := allowed.check(netip.MustParseAddr(text)) == nil; got != want {
			t.Errorf("%s is allowed: %t", text, got)
		}
	}
}

// TestRetryAfter reads Retry-After in both of its forms.
func TestRetryAfter(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Duration{
		"": 0, "120": 2 * time.Minute, "-5": 0, "soon": 0,
		"Sat, 28 Nov 2026 12:00:30 GMT": 30 * time.Second, "Sat, 28 Nov 2026 11:00:00 GMT": 0,
	} {
		if got := retryAfter(text, now); got != want {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", "7")
		http.Error(w, "busy", http.StatusServiceUnavailable)
	}))
	defer web.Close()
	var answered *AnswerError
	if err := New(Options{Private: true}).Post(t.Context(), web.URL, secret, "b1", 1); !errors.As(err, &answered) ||
		answered.Status != 503 ||
		answered.RetryAfter != 7*time.Second {
		t.Errorf("%v", err)
	}
}

// TestRedirectsDoNotLeadElsewhere redirects calls to another host and method.
func TestRedirectsDoNotLeadElsewhere(t *testing.T) {
	var elsewhere atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	defer other.Close()
	status := http.StatusTemporaryRedirect
	to := other.URL
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/here" {
			io.WriteString(w, "here")
			return
		}
		http.Redirect(w, r, to, status)
	}))
	defer web.Close()
	c := New(Options{Private: true})
	for _, status = range []int{301, 302, 303, 307, 308} {
		for _, to = range []string{other.URL, "/here"} {
			if err := c.Post(t.Context(), web.URL, secret, "b1", 1); err == nil ||
				!strings.Contains(err.Error(), "redirect") {
				t.Errorf("a call that is redirected with %d to %s: %v", status, to, err)
			}
		}
		if _, err := c.Get(t.Context(), web.URL); status != 0 && to == other.URL && err == nil {
			t.Errorf("a redirect with %d to another host is followed", status)
		}
	}
	to, status = "/here", 302
	if body, err := c.Get(t.Context(), web.URL); err != nil || string(body) != "here" {
		t.Errorf("on the same host: %s, %v", body, err)
	}
	to = other.URL
	if _, err := c.Get(t.Context(), web.URL); err == nil || elsewhere.Load() > 0 {
		t.Errorf("to another host: %v, %d calls", err, elsewhere.Load())
	}
}
