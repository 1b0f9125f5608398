package client

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"ubiquon/internal/api"
)

func TestRequestsAndProblems(t *testing.T) {
	var got *http.Request
	var body string
	status, answer := 200, `{"items": [{"id": "a", "title": "Mella"}], "total": 7}`
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		src, _ := io.ReadAll(r.Body)
		got, body = r, string(src)
		w.WriteHeader(status)
		io.WriteString(w, answer)
	}))
	defer web.Close()
	c := &Client{Address: web.URL + "/", Key: "ubq_x"}
	items, total, err := c.Entries().List(t.Context(), api.EntryFilter{Type: "pier", Search: "a & b", Limit: 5})
	if err != nil || total != 7 || items[0].Title != "Mella" {
		t.Fatalf("%v, %d, %v", items, total, err)
	}
	if got.Header.Get("Authorization") != "Bearer ubq_x" || got.URL.Path != "/control/v1/entries" ||
		got.URL.RawQuery != "limit=5&search=a+%26+b&type=pier" {
		t.Errorf("asked %s %s with %v", got.Method, got.URL, got.Header)
	}
	answer = `{"sequence": 9}`
	if done, err := c.Entries().Edit(t.Context(), api.Edit{ID: "a", Do: "publish"}); err != nil || done.Sequence != 9 ||
		body != `{"edits":[{"id":"a","do":"publish"}]}` ||
		got.Header.Get("Content-Type") != "application/json" {
		t.Errorf("%+v, %v, sent %s", done, err, body)
	}
	answer = `{}`
	if _, err := c.Entries().Get(t.Context(), "a/b c"); err != nil ||
		got.URL.EscapedPath() != "/control/v1/entries/a%2Fb%20c" {
		t.Errorf("%v, asked for %s", err, got.URL.EscapedPath())
	}
	var p *api.Problem
	status, answer = 400, `{"detail": "there is no such parameter", "parameter": "limt", "hint": "did you mean \"limit\"?"}`
	if _, err := c.Status(t.Context()); !errors.As(err, &p) || p.Status != 400 ||
		err.Error() != "limt: there is no such parameter\ndid you mean \"limit\"?" {
		t.Errorf("a problem document: %v", err)
	}
	status, answer = 502, "<html>bad gateway</html>"
	if _, err := c.Status(t.Context()); !errors.As(err, &p) || !strings.Contains(err.Error(), "502: <html>") {
		t.Errorf("an error of somebody between: %v", err)
	}
	web.Close()
	if _, err := c.Status(t.Context()); err == nil ||
		!strings.Contains(err.Error(), "no service answers at "+web.URL) {
		t.Errorf("nobody there: %v", err)
	}
}
