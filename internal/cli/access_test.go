package cli

import (
	"context"
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/testkit"
)

// TestTenCausesOfOneComplaint prepares what makes people say "the new notice does
// not show on the site", and finds each cause with one command.
func TestTenCausesOfOneComplaint(t *testing.T) {
	s := &client.Client{Address: line.Connection.Gateway, Key: line.Connection.Keys.Admin}
	var made []string
	t.Cleanup(func() {
		for _, id := range made {
			_, _ = s.Entries().Edit(context.Background(), api.Edit{ID: id, Do: "delete", EvenIfReferred: true})
		}
	})
	edit := func(e api.Edit) string {
		t.Helper()
		done, err := s.Entries().Edit(t.Context(), e)
		if err != nil {
			t.Fatal(err)
		}
		return done.Entries[0].ID
	}
	type fields = map[string]any
	notice := func(title, do string, more fields) string {
		t.Helper()
		f := fields{"title": fields{"en": title}, "severity": "information"}
		for name, v := range more {
			f[name] = v
		}
		id := edit(api.Edit{Type: "notice", Save: f, Do: do})
		made = append(made, id)
		return id
	}
	key := func(k api.NewKey) string {
		t.Helper()
		made, _, err := s.Keys().Create(t.Context(), k)
		if err != nil {
			t.Fatal(err)
		}
		return made.ID
	}
	everything := []string{"read published *"}
	site := key(api.NewKey{Name: "the site", Grants: everything})

	notice("Quay closed", "", nil)
	notice("Quay in doubt", "submit", nil)
	later := notice("Quay opens", "", nil)
	if _, err := s.Entries().Schedule(t.Context(), later, "publish", "2031-05-01T08:00", "Europe/Oslo",
		nil); err != nil {
		t.Fatal(err)
	}
	edit(api.Edit{ID: notice("Quay was closed", "publish", nil), Do: "unpublish"})
	shown := notice("Quay painted", "publish", fields{"title": fields{"en": "Quay painted", "nb": "Kaia malt"}})
	edit(
		api.Edit{
			ID:   shown,
			Type: "notice",
			Save: fields{
				"title":    fields{"en": "Quay painted", "nb": "Kaia malt", "ja": "桟橋の塗装"},
				"slug":     "quay-painted",
				"severity": "information",
			},
		},
	)
	renamed := notice("Quay mended", "publish", nil)
	edit(
		api.Edit{
			ID:   renamed,
			Type: "notice",
			Save: fields{
				"title":    fields{"en": "Quay mended"},
				"slug":     "quay-mended-at-last",
				"severity": "information",
			},
			Do: "publish",
		},
	)
	draft := edit(api.Edit{Type: "route", Save: fields{"name": fields{"en": "Quay Shuttle"}, "number": 77}})
	made = append(made, draft)
	notice("Quay has a shuttle", "publish", fields{"routes": []any{draft}})
	soon := time.Now().Add(50 * time.Millisecond)
	old := key(api.NewKey{Name: "last year's", Grants: everything, Expires: &soon})
	testkit.Eventually(t, "a key expires", func() bool { return time.Now().After(soon) })
	// A forged announcement, and one that the office has made in good faith.
	resp, err := http.Post(
		line.Connection.Gateway+"/hooks/harbour-office", "application/json", strings.NewReader(`{"kind":"published"}`),
	)
	if err != nil || resp.StatusCode != 401 {
		t.Fatal(err, resp)
	}

	for name, c := range map[string]struct {
		args []string
		code string
		says string
		mend string // the first command that is offered
	}{
		"a draft": {[]string{"quay-closed", "--key", site}, "draft", "never published", "ubiquon entry publish "},
		"in review": {[]string{"quay-in-doubt", "--key", site}, "draft in-review", "submitted by demo " +
			"admin", "ubiquon entry publish "},
		"scheduled": {[]string{"quay-opens", "--key", site}, "draft scheduled", "2031-05-01 08:00:00 (in " +
			"Europe/Oslo)", "ubiquon entry publish "},
		"taken back": {[]string{"quay-was-closed", "--key", site}, "unpublished", "taken back by demo " +
			"admin", "ubiquon entry publish "},
		"a slip in the slug": {[]string{"quay-panted", "--key", site}, "no-entry not-sent", "the nearest is " +
			"quay-painted", "ubiquon why quay-painted"},
		"the slug changed": {[]string{"quay-mended", "--key", site}, "moved", "quay-mended-at-last by " +
			"now", "ubiquon why quay-mended-at-last"},
		"the type is not open": {[]string{"quay-painted"}, "not-open", "no key was sent", "ubiquon open notice"},
		"the key lacks the grant": {
			[]string{
				"quay-painted", "--key",
				key(api.NewKey{Name: "routes", Grants: []string{"read published route"}}),
			},
			"no-grant",
			"read published notice", "ubiquon key grant ",
		},
		"the key is for a locale": {
			[]string{
				"quay-painted", "--key",
				key(api.NewKey{Name: "norway", Grants: []string{"read published notice in nb"}}),
			},
			"locale-not-granted", "but not in en", "ubiquon key grant ",
		},
		"the key has expired": {
			[]string{"quay-painted", "--key", old},
			"key-expired", "last year's expired",
			"ubiquon key extend ",
		},
		"not translated": {
			[]string{"quay-mended-at-last", "--key", site, "--locale", "ja"},
			"not-translated", "falls back to nothing", "ubiquon entry edit ",
		},
		"published in others only": {
			[]string{"quay-painted", "--key", site, "--locale", "ja"},
			"other-locales",
			"published in en, nb only", "ubiquon entry publish " + shown + " --locale ja",
		},
		"the site's list, filtered": {[]string{
			"quay-mended-at-last", "--key", site, "--locale", "nb", "--in",
			"/notices?translated=only&locale=nb",
		}, "only-translated", "translated=only", "ubiquon entry edit "},
		"the list's own filter": {
			[]string{"quay-painted", "--key", site, "--in", "/notices?filter=severity = " +
				"'delay' AND title LIKE '%quay%'"},
			"filtered-out filtered-out", `severity is "information"`,
			"ubiquon entry edit ",
		},
		"the site's list, its end": {[]string{
			"quay-mended-at-last", "--key", site, "--in",
			"/notices?sort=firstPublished&limit=2",
		}, "on-another-page", "sorted by firstPublished", "ubiquon read "},
		"the origin": {
			[]string{"/dispatches/quay-report", "--key", site},
			"no-entry not-sent",
			"harbour-office, where dispatch, page, person is written, has not sent it", "",
		},
	} {
		code, out, errOut := run(t, append([]string{"why", "-o", "json"}, c.args...)...)
		var got api.WhyAnswer
		if err := json.Unmarshal([]byte(out), &got); err != nil || code != exitFine {
			t.Errorf("%s: %v %d %s%s", name, err, code, out, errOut)
			continue
		}
		var codes []string
		for _, r := range got.Reasons {
			codes = append(codes, r.Code)
		}
		if strings.Join(codes, " ") != c.code || got.Visible {
			t.Errorf("%s: found %v", name, codes)
			continue
		}
		if mends := got.Reasons[0].Mends; c.mend != "" &&
			(len(mends) == 0 || !strings.HasPrefix(mends[0].Command, c.mend)) {
			t.Errorf("%s is mended by %+v", name, mends)
		}
		_, out, _ = run(t, append([]string{"why"}, c.args...)...)
		if !strings.Contains(out, c.says) {
			t.Errorf("%s: %q is missing in\n%s", name, c.says, out)
		}
	}
	_, out, _ := run(t, "why", "quay-has-a-shuttle", "--key", site)
	for _, want := range []string{
		"is seen by the site, published, in en.", "since change ",
		"/notices/quay-has-a-shuttle", "Left out of it:", "“Quay Shuttle” (route) is left out: it is not published",
		"ubiquon entry publish " + draft,
	} {
		if !strings.Contains(out, want) {
			t.Errorf("a reference to a draft: %q is missing in\n%s", want, out)
		}
	}
	// What mends it is a command that works as it is printed.
	_, out, _ = run(t, "why", "quay-closed", "--key", site)
	command := regexp.MustCompile(`ubiquon (entry publish \S+)`).FindStringSubmatch(out)
	if command == nil {
		t.Fatalf("no command in\n%s", out)
	}
	if code, _, errOut := run(t, strings.Fields(command[1])...); code != exitFine {
		t.Errorf("%s: %s", command[0], errOut)
	}
	if _, out, _ = run(t, "why", "quay-closed", "--key", site); !strings.Contains(out, "is seen by the site") {
		t.Errorf("after the mend:\n%s", out)
	}
}

func TestKeyCommands(t *testing.T) {
	_, out, errOut := run(
		t, "key", "create", "front end", "--grant", "read preview notice", "--locale", "nb", "--days", "9",
		"--per-minute", "600", "--env",
	)
	secret := regexp.MustCompile(`UBIQUON_KEY=(ubq_\w{38})`).FindStringSubmatch(out)
	if a, err := (&client.Client{Address: line.Connection.Gateway}).Do(t.Context(), http.MethodGet,
		"/content/main/published/fares", nil, nil); err != nil ||
		a.Status != 401 {
		t.Fatal(err, a)
	}
	if secret == nil || !strings.Contains(out, "UBIQUON_ADDRESS="+line.Connection.Gateway+"/content/main/preview\n") {
		t.Fatalf("%s%s", out, errOut)
	}
	for _, c := range []struct {
		args []string
		want []string
	}{
		{[]string{"key", "show", "front end"}, []string{"read preview notice in nb", "600", "never", "demo admin"}},
		{[]string{"key", "check", "front end"}, []string{"front end sees:", "PREVIEW", "entries, by a grant, in nb"}},
		{[]string{"key", "check", secret[1]}, []string{"front end sees:"}},
		{[]string{"key", "check"}, []string{"everyone sees:"}},
		{
			[]string{"key", "grant", "front end", "read published pier", "--take", "read preview notice in nb"},
			[]string{"key front end may: read published pier"},
		},
		{[]string{"key", "extend", "front end", "--days", "0"}, []string{"is good for ever"}},
		{[]string{"key", "rotate", "front end", "--overlap", "1h"}, []string{"ubq_", "The one before is good until"}},
		{[]string{"key", "revoke", "front end"}, []string{"is revoked"}},
		{[]string{"key", "refused"}, []string{"REQUEST", "GET main/published/fares", "read published fare"}},
		{[]string{"key", "list", "--all"}, []string{"everyone", "front end", "revoked"}},
		{[]string{"open", "pier", "route"}, []string{"everyone may", "read published pier", "read published route"}},
		{[]string{"open", "remark", "--verb", "submit"}, []string{"submit preview remark"}},
		{[]string{"close", "pier", "route"}, []string{"submit preview remark"}},
		{[]string{"close", "remark", "--verb", "submit"}, []string{"Nothing is open to everyone."}},
		{
			[]string{"account", "create", "gull@skerry.example", "--role", "editor"},
			[]string{"/console/welcome#", "good once"},
		},
		{
			[]string{"account", "change", "gull@skerry.example", "--role", "reader", "--disable"},
			[]string{"is reader, and disabled"},
		},
		{[]string{"account", "link", "gull@skerry.example"}, []string{"/console/welcome#"}},
		{
			[]string{"account", "list"},
			[]string{"gull@skerry.example", "disabled", "harbour.master@skerry.example", "admin"},
		},
		{[]string{"audit", "--what", "key rotate"}, []string{"demo admin", "key rotate"}},
		{[]string{"audit", "--export", "--who", "demo admin"}, []string{`"what":"account link"`, `"what":"open"`}},
	} {
		code, out, errOut := run(t, c.args...)
		if code != exitFine {
			t.Errorf("%v: exit %d: %s", c.args, code, errOut)
		}
		for _, want := range c.want {
			if !strings.Contains(out, want) {
				t.Errorf("%v: %q is missing in\n%s", c.args, want, out)
			}
		}
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"key", "check", secret[1]}, exitFailed, "revoked"},
		{[]string{"key", "show", "nobody"}, exitNotFound, "not found"},
		{[]string{"key", "grant", "front end"}, exitMisuse, "name a grant"},
		{[]string{"key", "create", "x", "--grant", "read published notise"}, exitFailed, `did you mean "notice"?`},
		{[]string{"open", "pier", "--edition", "preview"}, exitFailed, "nothing was done"},
		{[]string{"open", "boat"}, exitFailed, `there is no type "boat"`},
		{[]string{"account", "create", "nobody"}, exitFailed, "no e-mail address"},
		{[]string{"account", "create", "a@skerry.example", "--role", "captain"}, exitFailed, "there are reader, " +
			"editor, approver, admin"},
		{[]string{"account", "change", "gull@skerry.example"}, exitMisuse, "say what to change"},
		{[]string{"audit", "--after", "yesterday"}, exitMisuse, "is no time"},
		{[]string{"why", "fog-week", "--key", "ubq_x"}, exitFine, ""},
		{[]string{"why", "fog-week", "--edition", "publishd"}, exitFailed, `did you mean "published"?`},
	} {
		if code, out, errOut := run(t, c.args...); code != c.code || !strings.Contains(errOut, c.want) {
			t.Errorf("%v: exit %d, want %d: %s%s", c.args, code, c.code, out, errOut)
		}
	}
}
