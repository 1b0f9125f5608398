package environment_test

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/testkit"
)

// TestFilterOnPresentTimeExpiresInTime reads what is in force, and reads it again
// from the cache until its time has passed, and no longer.
func TestFilterOnPresentTimeExpiresInTime(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	n := open(t, s, access.NewSecret())
	end := time.Now().Add(1500 * time.Millisecond).UTC()
	route := func(id string, since time.Time) api.Edit {
		return api.Edit{
			ID:   id,
			Type: "route",
			Save: per{"name": per{"en": id}, "since": since.Format(time.RFC3339Nano)},
			Do:   "publish",
		}
	}
	n.must(t, route("ends", end), route("goes-on", end.Add(time.Hour)))
	read := func() (string, string) {
		_, how, body := n.read(t, "/routes?fields=name&sort=name&filter="+url.QueryEscape("since > now()"))
		return how, body
	}
	both, one := `"ends"`, `"goes-on"`
	if _, body := read(); !strings.Contains(body, both) || !strings.Contains(body, one) {
		t.Fatalf("at first: %s", body)
	}
	hits := 0
	for time.Now().Before(end.Add(-200 * time.Millisecond)) {
		how, body := read()
		if testkit.Hit(how) {
			hits++
		}
		if !strings.Contains(body, both) {
			t.Fatalf("gone before its moment: %s", body)
		}
	}
	if hits < 10 {
		t.Errorf("only %d answers came from the cache", hits)
	}
	testkit.Eventually(t, "its moment passes", func() bool { return time.Now().After(end) })
	if how, body := read(); strings.Contains(body, both) || !strings.Contains(body, one) {
		t.Errorf("after its moment: %s %s", how, body)
	}
	if how, _ := read(); !testkit.Hit(how) {
		t.Errorf("the next answer is not kept: %s", how)
	}
}

// TestFilterRespectsGrants holds that nobody learns by a filter what they
// may not read.
func TestFilterRespectsGrants(t *testing.T) {
	l := newLine(t, 1)
	n := l.nodes[0]
	_, notices := l.key(t, "read published notice")
	_, both := l.key(t, "read published notice", "read published route")
	across := "published/notices?fields=title&filter=" + url.QueryEscape("routes.slug = 'outer-ring'")
	if a := n.ask(t, notices, across); a.Status != 403 || !strings.Contains(string(a.Body), "read published route") {
		t.Errorf("across a reference: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, both, across); a.Status != 200 || !strings.Contains(string(a.Body), "Fog") {
		t.Errorf("with the grant: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, notices, "published/notices?fields=title&filter="+url.QueryEscape("A_CONTAINS(routes, "+
		"('ring'))")); a.Status != 403 ||
		!strings.Contains(string(a.Body), "read published route") {
		t.Errorf("the reference itself: %d %s", a.Status, a.Body)
	}
	if a := n.ask(t, notices, `published/graphql?query=`+
		url.QueryEscape(`{ notices(filter: {routes: {slug: {eq: "outer-ring"}}}) { totalCount } }`)); !strings.Contains(
		string(a.Body), `"notices":null`,
	) ||
		!strings.Contains(string(a.Body), "read published route") {
		t.Errorf("GraphQL: %s", a.Body)
	}
	out, err := n.client.Why(
		t.Context(),
		api.WhyQuestion{
			Entry:   "fog",
			Key:     both,
			Request: "/notices?filter=" + url.QueryEscape("title LIKE 'Ice%' AND routes.slug = 'outer-ring'"),
		},
	)
	if err != nil || out.Visible || len(out.Reasons) != 1 || out.Reasons[0].Code != "filtered-out" ||
		!strings.Contains(out.Reasons[0].Text, `title LIKE 'Ice%' is not true, for title is "Fog"`) {
		t.Errorf("why: %v %+v", err, out.Reasons)
	}
}
