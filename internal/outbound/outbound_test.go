package outbound

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
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
	if json.Unmarshal(body, &payload); payload.Number != 7 || got.Get("webhook-id") != "b1" || got.Get("Idempotency-Key") != `"b1"` {
		t.Errorf("%s with %v", body, got)
	}
	status = http.StatusServiceUnavailable
	if err := c.Post(t.Context(), web.URL, secret, "b1", 1); err == nil || !strings.Contains(err.Error(), "503") || !strings.Contains(err.Error(), "the crane is busy") {
		t.Errorf("a refusal: %v", err)
	}
	if err := c.Post(t.Context(), web.URL, "whsec_!", "b1", 1); err == nil || !strings.Contains(err.Error(), "whsec_ and base64") {
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
	for _, address := range []string{web.URL, strings.Replace(web.URL, "127.0.0.1", "localhost", 1), "http://10.0.0.1/", "http://[::1]:80/", "http://169.254.0.1/", "http://[::ffff:127.0.0.1]:80/"} {
		if err := New(Options{Timeout: time.Second}).Post(t.Context(), address, secret, "b1", 1); err == nil || reached {
			t.Errorf("%s was reached: %v", address, err)
		}
	}
	if err := New(Options{}).Post(t.Context(), web.URL, secret, "b1", 1); err == nil || !strings.Contains(err.Error(), "outbound.private") {
		t.Errorf("the refusal does not say the mend: %v", err)
	}
}

func TestSlowBuildersAreGivenUp(t *testing.T) {
	done := make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-done }))
	defer web.Close()
	defer close(done)
	if err := New(Options{Private: true, Timeout: 50 * time.Millisecond}).Post(t.Context(), web.URL, secret, "b1", 1); err == nil {
		t.Error("waited for ever")
	}
}
