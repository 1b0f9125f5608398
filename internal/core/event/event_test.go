package event

import (
	"errors"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

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
		err := Prove([]string{secret, other}, c.header, []byte(c.body), now)
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

const goodEvent = `{"specversion":"1.0","id":"1","source":"/office","type":"example.office.published","subject":"reports/R-1","time":"2026-11-23T08:00:00Z"}`

func TestDecodeCloudEvent(t *testing.T) {
	const structured = "application/cloudevents+json; charset=utf-8"
	d, err := DecodeCloudEvent(structured, []byte(goodEvent))
	if err != nil || d.Kind != Published || d.OriginKind != "reports" || d.Key != "R-1" || d.At == nil {
		t.Fatalf("%+v, %v", d, err)
	}
	if d, err := DecodeCloudEvent(structured,
		[]byte(`{"specversion":"1.0","id":"1","source":"/o","type":"x.ping"}`)); err != nil ||
		d.Kind != Ping {
		t.Errorf("a ping: %+v, %v", d, err)
	}
	if _, err := DecodeCloudEvent("application/json", []byte(goodEvent)); !errors.Is(err, ErrContentType) {
		t.Errorf("another content type: %v", err)
	}
	for name, body := range map[string]string{
		"not JSON": "{", "no source": strings.Replace(goodEvent, `"source":"/office",`, "", 1),
		"another version":     strings.Replace(goodEvent, "1.0", "0.3", 1),
		"unknown type":        strings.Replace(goodEvent, "published", "sneezed", 1),
		"no key":              strings.Replace(goodEvent, "reports/R-1", "reports", 1),
		"a control character": strings.Replace(goodEvent, "R-1", "R\\u0000", 1),
		"no subject":          strings.Replace(goodEvent, `"subject":"reports/R-1",`, "", 1),
	} {
		if _, err := DecodeCloudEvent(structured, []byte(body)); err == nil {
			t.Errorf("%s: accepted", name)
		}
	}
}

func FuzzDecodeCloudEvent(f *testing.F) {
	f.Add(goodEvent)
	f.Add(`{"specversion":"1.0"}`)
	f.Fuzz(func(t *testing.T, body string) {
		d, err := DecodeCloudEvent("application/cloudevents+json", []byte(body))
		if err == nil && d.Kind != Ping && d.Key == "" {
			t.Errorf("%q is decoded without a key", body)
		}
	})
}

// FuzzAnnouncements proves and reads what somebody posts to a hook.
func FuzzAnnouncements(f *testing.F) {
	f.Add(
		"m1", "1795420800", "v1,AAAA", "application/cloudevents+json",
		[]byte(`{"specversion":"1.0","type":"office.published","source":"/","id":"1","subject":"reports/R-1"}`),
	)
	f.Add("", "-1", "v1a,x v1,y", "application/json", []byte(strings.Repeat("[", 10_000)))
	f.Fuzz(func(t *testing.T, id, stamp, signature, mediaType string, body []byte) {
		h := http.Header{
			"Webhook-Id":        {id},
			"Webhook-Timestamp": {stamp},
			"Webhook-Signature": {signature},
			"Content-Type":      {mediaType},
		}
		cost.Bound(t, func() {
			if Prove([]string{secret, other}, h, body, time.Unix(1795420800, 0)) == nil {
				t.Errorf("%q %q %q proves something", id, stamp, signature)
			}
			if d, err := DecodeCloudEvent(mediaType, body); err == nil && d.Kind != Ping &&
				(d.OriginKind == "" || d.Key == "") {
				t.Errorf("%s is about %+v", body, d)
			}
		})
	})
}
