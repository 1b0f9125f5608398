package environment_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/golang-jwt/jwt/v5"
	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/server"
	"ubiquon/internal/settings"
	"ubiquon/internal/standin/mailbox"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/runs"
	"ubiquon/internal/testkit"
)

// Who may use which route. The letters are those who are let through:
//
//   - everyone            p key: read published *   v key: read preview *
//     w key: write preview notice                     d key: publish published *
//     n key: read preview * in nb                     b key: submit preview remark
//     s site's key: read published *, read preview *  l preview link to fog
//     t token: read preview notice                    a key: everything
//     R E A M accounts: reader, editor, approver, admin
//
// A route that is not here fails the test, and so does one that is gone.
var whoMay = map[string]string{
	"GET /":                        "-pvwdnbsltaREAM",
	"GET /console":                 "-pvwdnbsltaREAM",
	"GET /console/*":               "-pvwdnbsltaREAM",
	"GET /problems/{name}":         "-pvwdnbsltaREAM",
	"GET /kit/{name}":              "-pvwdnbsltaREAM", // the package for front ends
	"GET /health/live":             "-pvwdnbsltaREAM",
	"GET /health/ready":            "-pvwdnbsltaREAM",
	"GET /metrics":                 "-pvwdnbsltaREAM",
	"POST /hooks/{origin}":         "-pvwdnbsltaREAM", // proven by its signature
	"GET /hooks/{origin}":          "-pvwdnbsltaREAM", // a hub that verifies a subscription
	"POST /control/v1/session":     "",                // with a password
	"GET /control/v1/session":      "pvwdnbstaREAM",
	"GET /control/v1/openapi.json": "-pvwdnbstaREAM",
	"DELETE /control/v1/session":   "-pvwdnbstaREAM",
	"POST /control/v1/welcome":     "-pvwdnbstaREAM", // with a link

	"GET /control/v1/status":         "vaREAM",
	"GET /control/v1/news":           "vaREAM",
	"GET /control/v1/cache":          "vaREAM",
	"GET /control/v1/events":         "vaREAM",
	"GET /control/v1/writes/{write}": "wdaEAM",
	"GET /control/v1/events/{id}":    "vaREAM",
	"GET /control/v1/sites":          "vaREAM",
	"GET /control/v1/builds":         "vaREAM",
	"GET /control/v1/pages":          "vaREAM",
	"GET /control/v1/builds/{id}":    "vaREAM",
	"POST /control/v1/why":           "vaREAM",

	"POST /control/v1/reads":                  "vtaREAM",
	"GET /control/v1/reads/saved":             "vtaREAM",
	"POST /control/v1/reads/saved":            "wdaEAM",
	"DELETE /control/v1/reads/saved/{id}":     "wdaEAM",
	"GET /control/v1/records":                 "vtaREAM",
	"GET /control/v1/views":                   "vtaREAM",
	"POST /control/v1/prose":                  "vaREAM",
	"POST /control/v1/views":                  "wdaEAM",
	"DELETE /control/v1/views/{id}":           "wdaEAM",
	"GET /control/v1/documents":               "vtaREAM",
	"POST /control/v1/documents":              "aM",
	"DELETE /control/v1/documents/{document}": "aM",

	"GET /control/v1/model":         "pvtaREAM",
	"GET /control/v1/model.yaml":    "vtaREAM",
	"GET /control/v1/model.graphql": "vtaREAM",
	"POST /control/v1/model/plan":   "aM",
	"POST /control/v1/model/apply":  "aM",
	"POST /control/v1/locales":      "aM",
	"GET /control/v1/coverage":      "vaREAM",
	"GET /control/v1/linked-drafts": "vaREAM",

	"GET /control/v1/entries":                         "vtaREAM",
	"GET /control/v1/entries/{id}":                    "vtaREAM",
	"GET /control/v1/entries/{id}/revisions/{number}": "vtaREAM",
	"GET /control/v1/entries/{id}/differences":        "vtaREAM",
	"POST /control/v1/entries/{id}/preview":           "vtaREAM",
	"POST /control/v1/entries/{id}/open":              "vtaREAM",
	"POST /control/v1/edits":                          "waEAM",
	"PUT /control/v1/entries/{id}":                    "waEAM",
	"POST /control/v1/entries/{id}/duplicate":         "waEAM",
	"GET /control/v1/export":                          "vaREAM",
	"POST /control/v1/import":                         "aM",

	"GET /control/v1/files":                                      "vaREAM",
	"GET /control/v1/files/{id}":                                 "vaREAM",
	"POST /control/v1/files":                                     "aEAM",
	"POST /control/v1/files/fetch":                               "aEAM",
	"PUT /control/v1/files/{id}/bytes":                           "aEAM",
	"POST /control/v1/files/check":                               "aM",
	"POST /control/v1/environments/{environment}/uploads/":       "aEAM",
	"OPTIONS /control/v1/environments/{environment}/uploads/":    "aEAM",
	"HEAD /control/v1/environments/{environment}/uploads/{id}":   "aEAM",
	"PATCH /control/v1/environments/{environment}/uploads/{id}":  "aEAM",
	"DELETE /control/v1/environments/{environment}/uploads/{id}": "aEAM",

	"GET /control/v1/previews":              "vtaREAM",
	"DELETE /control/v1/previews/{preview}": "aM", // and who has made it
	"GET /control/v1/sessions":              "REAM",
	"DELETE /control/v1/sessions/{session}": "REAM",
	"POST /control/v1/session/proof":        "REAM",
	"POST /control/v1/session/password":     "", // with the present one
	"GET /control/v1/audit/verify":          "aM",
	"GET /control/v1/schedules":             "vaREAM",
	"POST /control/v1/schedules":            "daAM",
	"POST /control/v1/schedules/several":    "daAM",
	"PATCH /control/v1/schedules/{id}":      "daAM",
	"DELETE /control/v1/schedules/{id}":     "daAM",

	"GET /control/v1/origins":                                                      "vaREAM",
	"POST /control/v1/origins/{origin}/compare":                                    "aM",
	"POST /control/v1/origins/{origin}/reconcile":                                  "aM",
	"GET /control/v1/origins/{origin}/captured":                                    "aM",
	"POST /control/v1/origins/{origin}/capture":                                    "aM",
	"POST /control/v1/origins/{origin}/hook/try":                                   "aM",
	"POST /control/v1/origins/{origin}/try":                                        "aM",
	"POST /control/v1/events/{id}/replay":                                          "aM",
	"PUT /control/v1/environments/{environment}/origins/{origin}/entries/{key}":    "waEAM",
	"DELETE /control/v1/environments/{environment}/origins/{origin}/entries/{key}": "waEAM",
	"POST /control/v1/environments/{environment}/origins/{origin}/entries":         "waEAM",
	"POST /control/v1/origins/{origin}/swap":                                       "aM",
	"POST /control/v1/origins/{origin}/retire":                                     "aM",
	"POST /control/v1/origins/{origin}/adopt":                                      "aM",
	"GET /control/v1/origins/{origin}/untaken":                                     "vaREAM",
	"POST /control/v1/wake":                                                        "aM",
	"POST /control/v1/sites/{site}/rebuild":                                        "daAM",
	"POST /control/v1/builds/{id}/reports":                                         "aM", // and the site's own key
	"POST /control/v1/cache/purge":                                                 "aM",
	"POST /control/v1/cache/warm":                                                  "aM",
	"GET /control/v1/cache/history":                                                "vaREAM",
	"GET /control/v1/cache/answers":                                                "vaREAM",
	"GET /control/v1/cache/answers/{key}":                                          "vaREAM",
	"GET /control/v1/nodes":                                                        "vaREAM",
	"GET /control/v1/downstream":                                                   "vaREAM",
	"GET /control/v1/changes":                                                      "vaREAM",
	"GET /control/v1/changes/{sequence}":                                           "vaREAM",
	"POST /control/v1/changes/simulate":                                            "vaREAM",

	"GET /control/v1/rules/{name}":               "vaREAM",
	"PUT /control/v1/rules/{name}":               "aM",
	"DELETE /control/v1/rules/{name}":            "aM",
	"GET /control/v1/rules/{name}/versions":      "vaREAM",
	"GET /control/v1/sites/{name}":               "vaREAM",
	"PUT /control/v1/sites/{name}":               "aM",
	"DELETE /control/v1/sites/{name}":            "aM",
	"GET /control/v1/sites/{name}/versions":      "vaREAM",
	"GET /control/v1/origins/{name}":             "vaREAM",
	"PUT /control/v1/origins/{name}":             "aM",
	"DELETE /control/v1/origins/{name}":          "aM",
	"GET /control/v1/origins/{name}/versions":    "vaREAM",
	"GET /control/v1/downstream/{name}":          "vaREAM",
	"PUT /control/v1/downstream/{name}":          "aM",
	"DELETE /control/v1/downstream/{name}":       "aM",
	"GET /control/v1/downstream/{name}/versions": "vaREAM",
	"GET /control/v1/targets/{name}":             "vaREAM",
	"PUT /control/v1/targets/{name}":             "aM",
	"DELETE /control/v1/targets/{name}":          "aM",
	"GET /control/v1/targets/{name}/versions":    "vaREAM",
	"GET /control/v1/settings/{name}":            "vaREAM",
	"PUT /control/v1/settings/{name}":            "aM",
	"DELETE /control/v1/settings/{name}":         "aM",
	"GET /control/v1/settings/{name}/versions":   "vaREAM",
	"GET /control/v1/targets":                    "vaREAM",
	"GET /control/v1/settings":                   "vaREAM",
	"POST /control/v1/mail/test":                 "aM",
	"GET /control/v1/secrets":                    "aM",
	"PUT /control/v1/secrets/{name}":             "aM",
	"DELETE /control/v1/secrets/{name}":          "aM",
	"GET /control/v1/configuration":              "aM",
	"POST /control/v1/configuration":             "aM",
	"GET /control/v1/notifications":              "aM",
	"GET /control/v1/session/notifications":      "REAM",
	"PUT /control/v1/session/notifications":      "REAM",
	"GET /control/v1/rules":                      "vaREAM",
	"POST /control/v1/rules/{name}/try":          "vaREAM",
	"GET /control/v1/rule-runs":                  "vaREAM",
	"GET /control/v1/rule-runs/{run}":            "vaREAM",
	"POST /control/v1/rule-runs/{run}/again":     "aM",
	"GET /control/v1/vocabulary":                 "vaREAM",
	"POST /control/v1/sites/{site}/test":         "aM",
	"POST /control/v1/pages/check":               "aM",
	"POST /control/v1/origins/{origin}/test":     "aM",
	"POST /control/v1/builds/{id}/cancel":        "daAM",

	"GET /control/v1/keys":                     "aM",
	"POST /control/v1/keys":                    "aM",
	"GET /control/v1/keys/{key}":               "aM",
	"PATCH /control/v1/keys/{key}":             "aM",
	"POST /control/v1/keys/{key}/rotate":       "aM",
	"DELETE /control/v1/keys/{key}":            "aM",
	"POST /control/v1/keys/check":              "aM",
	"GET /control/v1/open":                     "vtaREAM",
	"PATCH /control/v1/open":                   "aM",
	"GET /control/v1/refusals":                 "aM",
	"GET /control/v1/accounts":                 "aM",
	"POST /control/v1/accounts":                "aM",
	"PATCH /control/v1/accounts/{account}":     "aM",
	"POST /control/v1/accounts/{account}/link": "aM",
	"GET /control/v1/audit":                    "aM",
	"GET /content/published/notices":           "psa",
	"GET /content/published/graphql":           "psta",
	"GET /content/published/graphql/schema":    "psta",
	"GET /content/published/changes":           "psta",
	"GET /content/preview/notices":             "vsta",
	"GET /content/preview/changes":             "vnsta",
	"GET /content/preview/schema":              "vnsta",
	"GET /content/preview/paths":               "vsta",
	"GET /content/preview/entries/fog":         "vslta",
	"POST /content/submissions/remarks":        "ba",
	"POST /content/published/pages":            "s",
}

// unwritten are the writes that change nothing, or nothing that is worth a line
// in the audit log.
var unwritten = []string{
	"POST /control/v1/model/plan", "POST /control/v1/why", "POST /control/v1/prose", "POST /control/v1/changes/simulate",
	"POST /control/v1/reads", "POST /control/v1/keys/check", "POST /control/v1/entries/{id}/open",
	"DELETE /control/v1/session", "POST /control/v1/session", "POST /control/v1/welcome",
	"POST /control/v1/pages/check",
	"POST /control/v1/session/proof", "POST /control/v1/builds/{id}/reports", "POST /hooks/{origin}",
	"POST /control/v1/rules/{name}/try", "POST /control/v1/files/check", "POST /control/v1/origins/{origin}/hook/try",
	// The origin here maps nothing, and has announced nothing; what origins write is in the log of changes.
	"POST /control/v1/origins/{origin}/try", "POST /control/v1/events/{id}/replay",
	"POST /control/v1/origins/{origin}/swap",
	"PUT /control/v1/environments/{environment}/origins/{origin}/entries/{key}",
	"DELETE /control/v1/environments/{environment}/origins/{origin}/entries/{key}",
	"POST /control/v1/environments/{environment}/origins/{origin}/entries",
	// What an upload begins and goes on with; its end is tested by itself, and fetching, too.
	"POST /control/v1/environments/{environment}/uploads/", "OPTIONS /control/v1/environments/{environment}/uploads/",
	"HEAD /control/v1/environments/{environment}/uploads/{id}",
	"PATCH /control/v1/environments/{environment}/uploads/{id}",
	"DELETE /control/v1/environments/{environment}/uploads/{id}", "POST /control/v1/files/fetch",
}

type matrix struct {
	n       node
	secrets map[byte]string // keys
	cookies map[byte]string // accounts
	made    int
}

func (l *line) matrix(t *testing.T) *matrix {
	site := rebuild.Site{Address: "http://127.0.0.1:1", Build: &rebuild.Call{Call: "http://127.0.0.1:1/build"}}
	id, o := newIssuer(t)
	o.Store, o.Settings.Sites = l.store, map[string]rebuild.Site{"web": site}
	quay := httptest.NewServer(&outside{items: map[string]map[string]any{}})
	t.Cleanup(quay.Close)
	o.Settings.Origins, o.Reconcile, o.Outbound = map[string]origin.Config{
		"quay": {
			Pull:  origin.Pull{HTTP: quay.URL + "/api"},
			Prove: proof.Proof{StandardWebhooks: []string{hookSecret}},
		},
	}, time.Hour, outbound.Options{
		Private: true,
	}
	box := mailbox.New(mailbox.Options{})
	smtp, failed := net.Listen("tcp", "127.0.0.1:0")
	if failed != nil {
		t.Fatal(failed)
	}
	go box.ServeSMTP(smtp)
	t.Cleanup(box.Close)
	o.Settings.Mail = &settings.Mail{Server: smtp.Addr().String(), From: "line@skerry.example", TLS: "none"}
	m := &matrix{n: start(t, o, access.NewSecret()), secrets: map[byte]string{'-': ""}, cookies: map[byte]string{}}
	l.nodes = append(l.nodes, m.n)
	for letter, grants := range map[byte][]string{
		'p': {"read published *"}, 'v': {"read preview *"},
		'w': {"write preview notice"}, 'd': {"publish published *"}, 'n': {"read preview * in nb"},
		'b': {"submit preview remark"},
	} {
		_, m.secrets[letter] = l.key(t, grants...)
	}
	m.secrets['t'] = signed(t, jwt.SigningMethodES256, id.keys["one"], "one", nil)
	both, _ := access.ParseGrants([]string{"read published *", "read preview *"})
	var err error
	if _, m.secrets['s'], err = m.n.Keys.CreateKey(t.Context(), access.Key{
		Name: "the site's", Site: "web",
		Grants: both,
	}, "test"); err != nil {
		t.Fatal(err)
	}
	link, err := m.n.client.Keys().Preview(t.Context(), "fog", api.PreviewOptions{Minutes: new(30)})
	if err != nil {
		t.Fatal(err)
	}
	m.secrets['l'] = link.Token
	m.secrets['a'] = m.n.client.Key
	for letter, role := range map[byte]access.Role{
		'R': access.RoleReader, 'E': access.RoleEditor,
		'A': access.RoleApprover, 'M': access.RoleAdmin,
	} {
		email := string(role) + "@skerry.example"
		if _, _, err := m.n.Accounts.CreateAccount(t.Context(), api.Account{Email: email, Role: role},
			"a boat is no bath tub", "test"); err != nil {
			t.Fatal(err)
		}
		cookie, _, err := m.n.Accounts.SignIn(
			t.Context(), email, "a boat is no bath tub", audit.Actor{Address: "10.0.0." + string(letter)}, "", "",
		)
		if err != nil {
			t.Fatal(err)
		}
		m.cookies[letter] = cookie
	}
	return m
}

// specs are records that can be kept, by the path of their kind.
var specs = map[string]any{
	"rules": per{"at": "0 6 1 10 *", "do": []any{per{"wait": per{"for": "1m"}}}},
	"sites": per{"address": "http://127.0.0.1:1"},
	"origins": per{
		"pull":  per{"http": "http://127.0.0.1:1/api"},
		"prove": per{"standardWebhooks": []string{"secret:spare"}},
	},
	"downstream": per{"call": "http://127.0.0.1:1/told"},
	"targets":    per{"mail": []string{"duty@skerry.example"}},
	"settings":   per{"allow": []string{"https://skerry.example"}},
}

// setting makes a record of the kind of a path, and returns its name.
func (m *matrix) setting(t *testing.T, path string) string {
	if err := m.n.client.Settings().SetSecret(t.Context(), "spare", "whsec_c3BhcmU="); err != nil {
		t.Fatal(err)
	}
	kinds := map[string]string{
		"rules": "rule", "sites": "site", "origins": "origin", "downstream": "downstream", "targets": "target",
		"settings": "cors",
	}
	part := strings.Split(path, "/")[3]
	kind, name := kinds[part], "spare"
	if part == "secrets" {
		if err := m.n.client.Settings().SetSecret(t.Context(), "unused", "x"); err != nil {
			t.Fatal(err)
		}
		return "unused"
	}
	if kind == "cors" {
		name = kind
	}
	src, _ := json.Marshal(specs[part])
	if _, err := m.n.client.Settings().Put(t.Context(), kind, name, src, 0, false); err != nil {
		t.Fatal(err)
	}
	return name
}

// failedRun makes a run of which a step has failed, and returns its id.
func (m *matrix) failedRun(t *testing.T) string {
	name := fmt.Sprint("fails ", m.made)
	c := &rule.Compiled{Rule: rule.Rule{Name: name, Do: []rule.Step{{Purge: &rule.Purge{}}}}}
	var id int64
	err := m.n.Replica.Store().Runs.Begin(t.Context(), func(tx pgx.Tx) error {
		if err := m.n.Replica.Store().Runs.Add(t.Context(), tx, []runs.Run{{
			Rule: c, Source: name, About: &rule.Occurrence{Event: rule.Clock}, Decision: rule.Decision{Fires: true},
		}}); err != nil {
			return err
		}
		if err := tx.QueryRow(t.Context(), `select id from run where rule = $1`, name).Scan(&id); err != nil {
			return err
		}
		_, err := tx.Exec(t.Context(), `update run_step set state = 'failed' where run = $1`, id)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(id)
}

// request makes what is sent to a route: its address with something that is
// there, and a body that it takes.
func (m *matrix) request(t *testing.T, route string) (method, path string, body []byte) {
	method, path, _ = strings.Cut(route, " ")
	fill := map[string]string{
		"{id}":      "fog",
		"{number}":  "1",
		"{site}":    "web",
		"{name}":    "grant",
		"{origin}":  "none",
		"/*":        "/",
		"{key}":     "spare",
		"{account}": "reader@skerry.example",
		"{session}": "none",
	}
	switch {
	case strings.Contains(path, "/schedules/"):
		s, err := m.n.client.Entries().Schedule(t.Context(), "fog", "unpublish", "2031-01-01T00:00", "UTC", nil)
		if err != nil {
			t.Fatal(err)
		}
		fill["{id}"] = s.ID
	case strings.HasSuffix(path, "/cancel"):
		b, err := m.n.client.Builds().Rebuild(t.Context(), "web", false)
		if err != nil {
			t.Fatal(err)
		}
		fill["{id}"] = b.ID
	case strings.HasSuffix(path, "/again"):
		fill["{run}"] = m.failedRun(t)
	case strings.Contains(path, "/rule-runs/"):
		fill["{run}"] = m.failedRun(t)
	case strings.Contains(path, "{name}") && strings.Contains(path, "/control/"):
		fill["{name}"] = m.setting(t, path)
	case strings.Contains(path, "/origins/"):
		fill["{origin}"], fill["{environment}"] = "quay", m.n.Replica.Environment()
	case strings.Contains(path, "/reads/saved/"):
		kept, err := m.n.client.Reads().SaveRead(t.Context(), "routes", json.RawMessage(`{"request": "/routes"}`))
		if err != nil {
			t.Fatal(err)
		}
		fill["{id}"] = kept.ID
	case strings.Contains(path, "/views/"):
		v, err := m.n.client.Reads().SaveView(t.Context(), api.NewSavedView{Page: "entries", Name: "spare"})
		if err != nil {
			t.Fatal(err)
		}
		fill["{id}"] = v.ID
	case strings.Contains(path, "/documents/"):
		d, err := m.n.client.Reads().AddDocument(t.Context(), "routes", "{ routes { totalCount } }")
		if err != nil {
			t.Fatal(err)
		}
		fill["{document}"] = d.ID
	case strings.Contains(path, "/files"):
		m.made++
		f := m.n.upload(t, "name=spare.txt", fmt.Append(nil, "spare ", m.made))
		fill["{id}"] = f.ID
	case strings.Contains(path, "/environments/"):
		fill["{environment}"], fill["{id}"] = m.n.Replica.Environment(), strings.Repeat("0", 32)
	case strings.Contains(path, "/previews/"):
		link, err := m.n.client.Keys().Preview(t.Context(), "ice", api.PreviewOptions{Minutes: new(5)})
		if err != nil {
			t.Fatal(err)
		}
		fill["{preview}"] = link.ID
	case strings.Contains(path, "/keys/"):
		m.made++
		k, _, err := m.n.Keys.CreateKey(
			t.Context(),
			access.Key{Name: "spare", Grants: access.Grants{{Verb: "read", Edition: "published", Type: "route"}}},
			"test",
		)
		if err != nil {
			t.Fatal(err)
		}
		fill["{key}"] = k.ID
	}
	if rest, is := strings.CutPrefix(path, "/content/"); is {
		path = "/content/" + m.n.Replica.Environment() + "/" + rest +
			map[string]string{
				"published/notices": "?fields=title", "preview/notices": "?fields=title",
				"preview/entries/fog": "?fields=id",
				"published/graphql":   "?query={notices{totalCount}}", "published/graphql/schema": ".graphql",
				"published/changes": "?after=0", "preview/changes": "?after=0",
			}[rest]
	}
	switch path {
	case "/control/v1/linked-drafts":
		path += "?ids=fog"
	case "/control/v1/files":
		if method == http.MethodPost {
			path += "?name=notes.txt"
		}
	}
	save := per{"id": "fog", "type": "notice", "save": per{"title": per{"en": "Fog"}}}
	m.made++
	var v any = map[string]any{
		"/control/v1/edits": per{"edits": []any{save}}, "/control/v1/entries/{id}": save,
		"/control/v1/entries/{id}/open": per{"session": "a session of mine"},
		"/control/v1/schedules": per{
			"entry": "fog", "action": "unpublish", "at": "2031-01-01T00:00",
			"zone": "UTC",
		},
		"/control/v1/schedules/several": per{
			"entries": []string{"fog"}, "action": "publish", "at": "2031-01-01T00:00", "zone": "UTC",
		},
		"/control/v1/rules/{name}": specs["rules"], "/control/v1/sites/{name}": specs["sites"],
		"/control/v1/origins/{name}": specs["origins"], "/control/v1/downstream/{name}": specs["downstream"],
		"/control/v1/targets/{name}": specs["targets"], "/control/v1/settings/{name}": specs["settings"],
		"/control/v1/rules/{name}/try":      per{"sequence": 1},
		"/control/v1/rule-runs/{run}/again": per{},
		"/control/v1/secrets/{name}":        per{"value": "x"},
		"/control/v1/mail/test":             per{"to": "duty@skerry.example"},
		"/control/v1/configuration": per{
			"apply": true, "files": per{"cors.yaml": fmt.Sprintf("cors: {allow: [\"https://s%d.example\"]}", m.made)},
		},
		"/control/v1/session/notifications":   per{"review": "daily"},
		"/control/v1/files/fetch":             per{"address": "http://127.0.0.1:1/harbour.png"},
		"/control/v1/files?name=notes.txt":    "notes",
		"/control/v1/files/{id}/bytes":        "other notes",
		"/control/v1/prose":                   per{"text": "*stairs*"},
		"/control/v1/views":                   per{"page": "entries", "name": "drafts", "query": "state=draft"},
		"/control/v1/schedules/{id}":          per{"at": "2032-01-01T00:00", "zone": "UTC"},
		"/control/v1/model/plan":              per{"files": per{"m.yaml": harbour}},
		"/control/v1/model/apply":             per{"files": per{"m.yaml": harbour}},
		"/control/v1/origins/{origin}/retire": per{"do": "local"},
		"/control/v1/origins/{origin}/adopt":  per{"from": "quay"},
		"/control/v1/locales":                 per{"do": "order", "order": []string{"en", "nb", "ja"}},
		"/control/v1/why":                     per{"entry": "fog"},
		"/control/v1/reads":                   per{"request": "/notices"},
		"/control/v1/reads/saved":             per{"name": "notices", "read": per{"request": "/notices"}},
		"/control/v1/documents":               per{"name": "notices", "text": "{ notices { totalCount } }"},
		"/control/v1/keys": per{"name": "made", "grants": []string{"read published " +
			"route"}}, "/control/v1/keys/check": per{},
		"/control/v1/keys/{key}":        per{"add": []string{"read published notice"}},
		"/control/v1/keys/{key}/rotate": per{}, "/control/v1/open": per{"take": []string{"read published route in ja"}},
		"/control/v1/pages/check":   per{"site": "web"},
		"/control/v1/session/proof": per{"password": "a boat is no bath tub"},
		"/control/v1/session/password": per{
			"password": "not this one at all",
			"new":      "another bath tub",
		},
		"/control/v1/accounts": per{
			"email": fmt.Sprintf("made%d@skerry.example", m.made), "role": "reader",
		},
		"/control/v1/accounts/{account}":                                 per{"name": "Another"},
		"/content/" + m.n.Replica.Environment() + "/submissions/remarks": per{"subject": "Hat"},
	}[path]
	for name, value := range fill {
		path = strings.ReplaceAll(path, name, value)
	}
	if v != nil && method != http.MethodGet {
		body, _ = json.Marshal(v)
	}
	return method, path, body
}

func (m *matrix) do(t *testing.T, letter byte, method, path string, body []byte) (int, string) {
	req, _ := http.NewRequestWithContext(t.Context(), method, m.n.client.Address+path, bytes.NewReader(body))
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if secret := m.secrets[letter]; secret != "" {
		req.Header.Set("Authorization", "Bearer "+secret)
	}
	if cookie := m.cookies[letter]; cookie != "" {
		req.AddCookie(&http.Cookie{Name: "ubiquon-session", Value: cookie})
	}
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.Header.Get("Content-Type") == "text/event-stream" {
		return resp.StatusCode, "" // it does not end
	}
	out, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(out)
}

func TestRoutePermissions(t *testing.T) {
	l := newLine(t, 1)
	m := l.matrix(t)
	var routes []string
	if err := chi.Walk(server.New(server.Options{Environment: m.n.Environment}).Routes(),
		func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			routes = append(routes, method+" "+route)
			return nil
		}); err != nil {
		t.Fatal(err)
	}
	for _, r := range routes {
		if _, known := whoMay[r]; !known {
			t.Errorf("nothing is said about who may use %s; add it to the matrix", r)
		}
	}
	soon := time.Now().Add(100 * time.Millisecond)
	_, expired, err := m.n.Keys.CreateKey(
		t.Context(), access.Key{Name: "expired", Grants: access.RoleAdmin.Grants(), Expires: &soon}, "test",
	)
	if err != nil {
		t.Fatal(err)
	}
	revoked, secret, _ := m.n.Keys.CreateKey(
		t.Context(), access.Key{Name: "revoked", Grants: access.RoleAdmin.Grants()}, "test",
	)
	if _, err := m.n.Keys.RevokeKey(t.Context(), revoked.ID, "test"); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "a key expires", func() bool { return time.Now().After(soon) })
	m.secrets['!'], m.secrets['?'] = expired, secret
	for route, may := range whoMay {
		contentRoute := strings.Contains(route, " /content/")
		if !contentRoute && !slices.Contains(routes, route) {
			t.Errorf("%s is not served", route)
			continue
		}
		for _, letter := range []byte("-pvwdnbsltaREAM!?") {
			if contentRoute && m.cookies[letter] != "" ||
				route == "DELETE /control/v1/session" && m.cookies[letter] != "" {
				continue // content is read with keys alone; and who signs out is gone
			}
			method, path, body := m.request(t, route)
			lines := m.acts(t)
			status, out := m.do(t, letter, method, path, body)
			through := status != http.StatusUnauthorized && status != http.StatusForbidden &&
				status != http.StatusTooManyRequests
			unseen := status == http.StatusNotFound &&
				strings.Contains(path, "/entries/fog") // that it is there is not told
			through = through && !unseen
			if route == "POST /control/v1/welcome" && !strings.ContainsRune("!?", rune(letter)) {
				through = status == http.StatusNotFound ||
					status == http.StatusTooManyRequests // no such link, asked too often
			}
			if strings.HasSuffix(route, " /hooks/{origin}") {
				through = status == http.StatusNotFound // past who asks, to which origin
			}
			want := strings.IndexByte(may, letter) >= 0
			if strings.ContainsRune("!?", rune(letter)) {
				if !strings.HasPrefix(path, "/content") && !strings.HasPrefix(path, "/control") {
					continue // nobody asks for a key there
				}
				want = false
			}
			if strings.Contains(route, "/session/") && status == http.StatusTooManyRequests {
				continue // passwords are tried from one address all the time
			}
			if through != want {
				t.Errorf("%s as %c: %d %s", route, letter, status, out)
			}
			if !through && !unseen && letter != '-' && status != http.StatusForbidden &&
				status != http.StatusTooManyRequests &&
				!strings.ContainsRune("!?", rune(letter)) &&
				!strings.HasPrefix(route, "POST /control/v1/session") {
				t.Errorf("%s as %c is refused with %d", route, letter, status)
			}
			if !through && letter == '-' && status != http.StatusUnauthorized && route != "POST /control/v1/session" {
				t.Errorf("%s as everyone is refused with %d", route, status)
			}
			if status >= 500 && status != 503 {
				t.Errorf("%s as %c: %d %s", route, letter, status, out)
			}
			if method != http.MethodGet && letter == 'a' && strings.Contains(may, "a") && !contentRoute &&
				!slices.Contains(unwritten, route) {
				if status != http.StatusOK && status != http.StatusCreated {
					t.Errorf("%s does not work: %d %s", route, status, out)
				} else if m.acts(t) == lines {
					t.Errorf("%s leaves no line in the audit log", route)
				}
			}
		}
	}
}

// acts is how many lines the audit log has that requests have left.
// acts returns the newest line of the audit log that somebody at an address has made.
func (m *matrix) acts(t *testing.T) int64 {
	acts, err := m.n.Audit.Acts(t.Context(), api.AuditFilter{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range acts {
		if a.Address != "" {
			return a.ID
		}
	}
	return 0
}

func TestTheAuditLog(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	n.must(
		t,
		api.Edit{ID: "fog", Type: "notice", Save: per{"title": per{"en": "Fog lifts"}, "routes": []any{"ring"}}},
	)
	n.must(t, api.Edit{ID: "fog", Do: "publish"})
	n.must(t, api.Edit{ID: "ice", Do: "delete"})
	if _, err := n.client.Entries().Edit(t.Context(), api.Edit{ID: "ring", Do: "delete"}); err == nil {
		t.Fatal("what is referred to is deleted")
	}
	acts, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{Subject: "fog"})
	if err != nil || len(acts) != 3 || acts[0].What != "entry publish" || acts[1].What != "entry save" ||
		acts[0].Who != "test" ||
		acts[0].Kind != "key" ||
		acts[0].Address != "127.0.0.1" ||
		!strings.Contains(string(acts[0].Before), `"publishedRevision":1`) ||
		!strings.Contains(string(acts[0].After), `"publishedRevision":2`) {
		t.Fatalf("%v %+v", err, acts)
	}
	deleted, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{What: "entry delete"})
	if err != nil || len(deleted) != 1 || deleted[0].Subject != "ice" || deleted[0].After != nil {
		t.Errorf("%v %+v", err, deleted)
	}
	all, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{What: "entry"})
	if err != nil || len(all) != 7 {
		t.Errorf("%v: %d lines about entries", err, len(all))
	}
	if none, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{Until: all[len(all)-1].At}); err != nil ||
		len(none) > 1 {
		t.Errorf("before the first: %v %+v", err, none)
	}
	src, err := n.client.Accounts().ExportAudit(t.Context(), api.AuditFilter{})
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(src)), "\n")
	for _, line := range lines {
		if !json.Valid([]byte(line)) {
			t.Errorf("not JSON: %s", line)
		}
	}
	if len(lines) < len(all)+1 {
		t.Errorf("%d lines exported", len(lines))
	}
	// What a schedule does is told as its own doing.
	var s api.Schedule
	// The shortest that is not over before it is heard of.
	for ahead := 100 * time.Millisecond; ahead < time.Minute; ahead *= 3 {
		if s, err = n.client.Entries().Schedule(t.Context(), "fog", "unpublish",
			time.Now().Add(ahead).UTC().Format(time.RFC3339Nano), "UTC", nil); err == nil {
			break
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the schedule is in the audit log", func() bool {
		acts, err := n.client.Accounts().Audit(t.Context(), api.AuditFilter{What: "entry unpublish"})
		return err == nil && len(acts) == 1 && acts[0].Kind == "schedule" && s.ID != ""
	})
}
