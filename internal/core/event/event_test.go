package event

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/testkit/cost"
)

const goodEvent = `{"specversion":"1.0","id":"1","source":"/office","type":"example.office.published","subject":"reports/R-1","time":"2026-11-23T08:00:00Z"}`

func format(t *testing.T, text string) Format {
	t.Helper()
	var f struct {
		Decode Format `yaml:"decode"`
	}
	if err := strictyaml.Decode("o.yaml", []byte("decode: "+text), &f); err != nil {
		t.Fatal(err)
	}
	src, err := json.Marshal(f.Decode)
	if err != nil {
		t.Fatal(err)
	}
	var again struct {
		Decode Format `yaml:"decode"`
	}
	if err := strictyaml.Decode("o.yaml", []byte("decode: "+string(src)), &again); err != nil ||
		again.Decode.Name != f.Decode.Name {
		t.Fatalf("written and read again: %s, %v", src, err)
	}
	return again.Decode
}

func decode(f Format, media, body string) ([]Announcement, error) {
	return f.Decode(http.Header{"Content-Type": {media}}, []byte(body), []string{"reports", "staff"})
}

func TestDecodeCloudEvents(t *testing.T) {
	const structured = "application/cloudevents+json; charset=utf-8"
	var f Format
	all, err := decode(f, structured, goodEvent)
	if d := all[0]; err != nil || d.Kind != Published || d.OriginKind != "reports" || d.Key != "R-1" || d.At == nil ||
		d.ID != "/office 1" {
		t.Fatalf("%+v, %v", all, err)
	}
	if all, err := decode(f, structured, `{"specversion":"1.0","id":"1","source":"/o","type":"x.ping"}`); err != nil ||
		all[0].Kind != Ping {
		t.Errorf("a ping: %+v, %v", all, err)
	}
	var media *ContentTypeError
	if _, err := decode(f, "application/json", goodEvent); !errors.As(err, &media) {
		t.Errorf("another content type: %v", err)
	}
	batch := "[" + goodEvent + "," + strings.Replace(goodEvent, "R-1", "R-2", 1) + "]"
	if all, err := decode(f, "application/cloudevents-batch+json", batch); err != nil || len(all) != 2 ||
		all[1].Key != "R-2" || !strings.Contains(string(all[1].Body), "R-2") {
		t.Errorf("a batch: %+v, %v", all, err)
	}
	if _, err := decode(f, "application/cloudevents-batch+json", "["+strings.Repeat("{},", 600)+"{}]"); err == nil ||
		!strings.Contains(err.Error(), "1 to 500") {
		t.Errorf("a large batch: %v", err)
	}
	binary, err := f.Decode(http.Header{
		"Content-Type": {"application/json"}, "Ce-Specversion": {"1.0"}, "Ce-Id": {"7"}, "Ce-Source": {"/office"},
		"Ce-Type": {"office.deleted"}, "Ce-Subject": {"reports/R%201"},
	}, []byte("{}"), nil)
	if err != nil || binary[0].Kind != Deleted || binary[0].Key != "R 1" {
		t.Errorf("in binary mode: %+v, %v", binary, err)
	}
	for name, body := range map[string]string{
		"not JSON": "{", "no source": strings.Replace(goodEvent, `"source":"/office",`, "", 1),
		"another version":     strings.Replace(goodEvent, "1.0", "0.3", 1),
		"unknown type":        strings.Replace(goodEvent, "published", "sneezed", 1),
		"no key":              strings.Replace(goodEvent, "reports/R-1", "reports", 1),
		"a control character": strings.Replace(goodEvent, "R-1", "R\\u0000", 1),
		"no subject":          strings.Replace(goodEvent, `"subject":"reports/R-1",`, "", 1),
	} {
		if _, err := decode(f, structured, body); err == nil {
			t.Errorf("%s: accepted", name)
		}
	}
}

// TestDecodeOwnForms reads calls that other systems send as they please.
func TestDecodeOwnForms(t *testing.T) {
	const mapped = `{json: {event: $.action, values: {publish: published, remove: deleted}, id: $.delivery, kind: reports, key: "$.entries[*].id", at: $.when}}`
	f := format(t, mapped)
	all, err := decode(
		f,
		"text/plain",
		`{"action":"publish","delivery":"d-1","when":"2026-11-29T10:00:00+01:00","entries":[{"id":"R-1"},{"id":7}]}`,
	)
	if err != nil || len(all) != 2 || all[0].Key != "R-1" || all[1].Key != "7" || all[0].ID != "d-1" ||
		all[1].ID != "d-1/1" || all[0].Kind != Published || all[0].OriginKind != "reports" || all[0].At.Hour() != 9 {
		t.Errorf("%+v, %v", all, err)
	}
	for body, want := range map[string]string{
		`{"action":"archive","entries":[{"id":"R-1"}]}`: `$.action is "archive"`,
		`{"action":"publish"}`:                          "nothing is found at $.entries[*].id",
	} {
		if all, err := decode(f, "application/json", body); err != nil || len(all) != 1 ||
			!strings.Contains(all[0].Unknown, want) {
			t.Errorf("%s: %+v, %v", body, all, err)
		}
	}
	if _, err := decode(f, "application/json", "{"); err == nil {
		t.Error("half an object is read")
	}
	if _, err := decode(f, "application/json", strings.Repeat("[", 5000)+strings.Repeat("]", 5000)); err == nil {
		t.Error("what is nested very deep is read")
	}
	form := url.Values{"payload": {`{"what":"reports","ref":"R-9"}`}, "secret": {"x"}}.Encode()
	all, err = decode(
		format(t, `{form: {kind: $.payload.what, key: $.payload.ref}}`),
		"application/x-www-form-urlencoded",
		form,
	)
	if err != nil || all[0].OriginKind != "reports" || all[0].Key != "R-9" {
		t.Errorf("a form: %+v, %v", all, err)
	}
	var media *ContentTypeError
	if _, err := decode(format(t, "{form: {key: $.a}}"), "text/plain", form); !errors.As(err, &media) {
		t.Errorf("a form in another content type: %v", err)
	}
	for _, c := range []struct{ form, media, body, unknown string }{
		{"bare", "", "anything", ""},
		{"bare", "", "", ""},
		{"{push: {branch: main}}", "application/json", `{"ref":"refs/heads/main","commits":[]}`, ""},
		{"{push: {branch: main}}", "application/json", `{"ref":"refs/heads/draft"}`, "the branch main is read"},
		{"push", "application/x-www-form-urlencoded", url.Values{"payload": {`{"ref":"refs/heads/x"}`}}.Encode(), ""},
		{"xmlrpc", "text/xml", ping("weblogUpdates.ping", "Skerry Line", "https://skerry.example"), ""},
		{"xmlrpc", "text/xml", ping("weblogUpdates.extendedPing", "Skerry", "https://a.example", "b", "c"), ""},
	} {
		all, err := decode(format(t, c.form), c.media, c.body)
		if err != nil || len(all) != 1 || all[0].Kind != Ping || !strings.Contains(all[0].Unknown, c.unknown) ||
			(c.unknown == "") != (all[0].Unknown == "") {
			t.Errorf("%s %s: %+v, %v", c.form, c.body, all, err)
		}
	}
	for body, want := range map[string]string{
		ping("weblogUpdates.pong", "a", "b"): "there is no method",
		ping("weblogUpdates.ping", "a"):      "wants the name and the address",
		"<html>":                             "no call of XML-RPC",
	} {
		if _, err := decode(format(t, "xmlrpc"), "text/xml", body); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", body, err)
		}
	}
	if answer := string(PingAnswer("a < b")); !strings.Contains(answer, "<boolean>1</boolean>") ||
		!strings.Contains(answer, "a &lt; b") {
		t.Error(answer)
	}
}

func ping(method string, values ...string) string {
	var b strings.Builder
	b.WriteString(
		`<?xml version="1.0" encoding="ISO-8859-1"?><methodCall><methodName>` + method + `</methodName><params>`,
	)
	for i, v := range values {
		if i%2 == 0 {
			v = "<string>" + v + "</string>"
		}
		b.WriteString("<param><value>" + v + "</value></param>")
	}
	return b.String() + "</params></methodCall>"
}

func TestCheckNamesWhatIsWrongWithAForm(t *testing.T) {
	kinds := []string{"reports", "staff"}
	for text, want := range map[string]string{
		`{json: {key: id}}`:                       "it begins with $",
		`{json: {key: $.id}}`:                     "kind is missing",
		`{json: {key: $.id, kind: report}}`:       `did you mean "reports"?`,
		`{json: {event: $.e, values: {a: gone}}}`: `"a" means "gone"`,
	} {
		f := format(t, text)
		if got := strings.Join(f.Check(kinds), "; "); !strings.Contains(got, want) {
			t.Errorf("%s: %q", text, got)
		}
	}
	var f struct {
		Decode Format `yaml:"decode"`
	}
	for text, want := range map[string]string{
		"decode: cloudevent": `did you mean "cloudevents"?`, "decode: {}": "a word, as in bare",
		"decode: {json: {key: \"$[\"}}": "no JSONPath", "decode: {json: {kye: $.id}}": "kye",
	} {
		if err := strictyaml.Decode("o.yaml", []byte(text), &f); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// FuzzAnnouncements reads what somebody posts to a hook.
func FuzzAnnouncements(f *testing.F) {
	f.Add("application/cloudevents+json", []byte(goodEvent))
	f.Add("application/json", []byte(strings.Repeat("[", 10_000)))
	f.Add("text/xml", []byte(ping("weblogUpdates.ping", "a", "b")))
	f.Fuzz(func(t *testing.T, media string, body []byte) {
		for _, text := range []string{
			"cloudevents", "xmlrpc", "push", "bare", `{json: {event: $.a, values: {x: deleted}, key: "$..id", kind: reports}}`,
			`{form: {key: "$.*"}}`,
		} {
			f := format(t, text)
			cost.Bound(t, func() {
				all, err := f.Decode(http.Header{"Content-Type": {media}}, body, []string{"reports"})
				for _, d := range all {
					if err == nil && d.Unknown == "" && d.Kind != Ping && (d.OriginKind == "" || d.Key == "") {
						t.Errorf("%s: %s is about %+v", text, body, d)
					}
				}
			})
		}
	})
}
