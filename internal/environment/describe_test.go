package environment_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"ubiquon/internal/api"

	"github.com/andybalholm/brotli"
)

func TestSchemaDescribesContent(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice")
	for path, want := range map[string][]string{
		"published/schema": {
			`"$schema":"https://json-schema.org/draft/2020-12/schema"`, `"notice":{`,
			`"x-sort":true`, `"x-translated":true`, `"part.about":{`,
		},
		"published/openapi.json": {
			`"openapi":"3.1.0"`, `"/notices":{"get":{`, `"/notices/{slug}"`,
			`"operationId":"list-notice"`, `"part.problem"`, "/content/" + n.Replica.Environment() + "/published",
		},
	} {
		a := n.ask(t, notices, path)
		if a.Status != 200 || !json.Valid(a.Body) {
			t.Errorf("%s: %d %.200s", path, a.Status, a.Body)
		}
		for _, w := range want {
			if !strings.Contains(string(a.Body), w) {
				t.Errorf("%s lacks %s", path, w)
			}
		}
		if strings.Contains(string(a.Body), "list-route") || strings.Contains(string(a.Body), `"route":{`) {
			t.Errorf("%s tells of routes, which the key may not read", path)
		}
		if again := n.ask(t, notices, path, "If-None-Match", a.Header.Get("ETag")); again.Status != 304 {
			t.Errorf("%s, again: %d", path, again.Status)
		}
		if a := n.ask(t, "", path); a.Status != 401 {
			t.Errorf("%s, nothing open: %d", path, a.Status)
		}
		if a := n.ask(t, notices, path+"?x=1"); a.Status != 400 {
			t.Errorf("%s with a parameter: %d", path, a.Status)
		}
	}
}

func TestAnswersAreEncodedAsAskedFor(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	for i := range 20 {
		n.must(
			t,
			api.Edit{
				Type: "notice",
				Save: per{
					"title": per{"en": strings.Repeat("Fog on the sound ", 4)},
					"slug":  "fog-" + string(rune('a'+i)),
				},
				Do: "publish",
			},
		)
	}
	_, secret := l.key(t, "read published notice")
	ask := func(encoding, tag string) (*http.Response, []byte) {
		req, _ := http.NewRequestWithContext(
			t.Context(), http.MethodGet,
			n.client.Address+"/content/"+n.Replica.Environment()+"/published/notices?fields=title", nil,
		)
		req.Header.Set("Authorization", "Bearer "+secret)
		req.Header.Set("Accept-Encoding", encoding)
		req.Header.Set("If-None-Match", tag)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp, body
	}
	plain, want := ask("identity", "")
	if plain.Header.Get("Content-Encoding") != "" || len(want) < 1024 ||
		!strings.Contains(plain.Header.Get("Vary"), "Accept-Encoding") {
		t.Fatalf("%v %d", plain.Header, len(want))
	}
	encoded, body := ask("gzip;q=0.5, br", "")
	if encoded.Header.Get("Content-Encoding") != "br" || encoded.Header.Get("Etag") == plain.Header.Get("Etag") ||
		len(body) > len(want)/4 {
		t.Errorf("%v %d", encoded.Header, len(body))
	}
	if got, err := io.ReadAll(brotli.NewReader(bytes.NewReader(body))); err != nil || !bytes.Equal(got, want) {
		t.Errorf("it does not come back: %v", err)
	}
	if again, body := ask("br", encoded.Header.Get("Etag")); again.StatusCode != 304 || len(body) != 0 ||
		again.Header.Get("Etag") != encoded.Header.Get("Etag") {
		t.Errorf("conditional: %d %v", again.StatusCode, again.Header)
	}
	if other, _ := ask("gzip", encoded.Header.Get("Etag")); other.StatusCode != 200 ||
		other.Header.Get("Content-Encoding") != "gzip" {
		t.Errorf("another encoding's tag: %d %v", other.StatusCode, other.Header)
	}
}
