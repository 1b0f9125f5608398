package rebuild

import (
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/strictyaml"
)

func TestRequestsCoalesce(t *testing.T) {
	begin := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	at := func(s float64) time.Time { return begin.Add(time.Duration(s * float64(time.Second))) }
	call := &Call{Quiet: strictyaml.Duration(2 * time.Second), AtMost: strictyaml.Duration(5 * time.Second)}
	b := Request(nil, []Cause{{Sequence: 4}}, 4, false, at(0))
	if due := call.Due(&b); !due.Equal(at(2)) {
		t.Errorf("one request: due %v", due)
	}
	for i := 1; i <= 4; i++ {
		b = Request(&b, []Cause{{Sequence: int64(4 + i)}}, int64(4+i), false, at(float64(i)))
	}
	if due := call.Due(&b); !due.Equal(at(5)) {
		t.Errorf("requests without a pause: due %v, atMost is 5 s", due)
	}
	if len(b.Causes) != 5 || b.Sequence != 8 || !b.FirstRequest.Equal(at(0)) || !b.LastRequest.Equal(at(4)) {
		t.Errorf("united to %+v", b)
	}
	if older := Request(&b, nil, 3, false, at(4)); older.Sequence != 8 {
		t.Errorf("a late request for an older state lowers the sequence to %d", older.Sequence)
	}
	b = Request(&b, nil, 8, true, at(4.5))
	if due := call.Due(&b); due.After(at(4.5)) {
		t.Errorf("now: due %v", due)
	}
	later := at(60)
	b.NotBefore = &later
	if due := call.Due(&b); !due.Equal(later) {
		t.Errorf("after a failure: due %v", due)
	}
}

func TestBackoffGrowsAndEnds(t *testing.T) {
	last := time.Duration(0)
	for n := 1; n <= 70; n++ {
		got := Backoff(n)
		if got < last || got > LongestBackoff {
			t.Errorf("after %d failures: %v, before that %v", n, got, last)
		}
		last = got
	}
}

// TestCausesAreCounted asks for a build 30,000 times: it names the first thousand causes, and
// counts the others, and so does the build after it has failed.
func TestCausesAreCounted(t *testing.T) {
	now := time.Now()
	var b Build
	for i := range 300 {
		causes := make([]Cause, 100)
		for j := range causes {
			causes[j] = Cause{Sequence: int64(i*100 + j + 1), What: "published"}
		}
		b = Request(&b, causes, int64(i*100+100), false, now)
	}
	b = Request(&b, []Cause{{By: "ada"}}, 0, false, now)
	if len(b.Causes) != maxCauses || b.Counts["published"] != 30_000 || b.Counts[AnyCause] != 1 ||
		b.Sequence != 30_000 {
		t.Errorf("%d causes, %v, sequence %d", len(b.Causes), b.Counts, b.Sequence)
	}
	next := Again(&Build{Causes: []Cause{{What: "deleted"}}, Counts: map[string]int{"deleted": 1}}, &b, now)
	if len(next.Causes) != maxCauses || next.Counts["published"] != 30_000 || next.Counts["deleted"] != 1 ||
		next.Counts[AnyCause] != 1 {
		t.Errorf("again: %d causes, %v", len(next.Causes), next.Counts)
	}
	for i := range 500 {
		b.Note(now, nil, "%d", i)
	}
	if n := len(b.Log); n != maxLog || b.Log[0].What != "0" || b.Log[n-1].What != "499" {
		t.Errorf("the log has %d lines, from %q to %q", n, b.Log[0].What, b.Log[n-1].What)
	}
}

func TestCheck(t *testing.T) {
	site := Site{Address: "nowhere", Refresh: &Refresh{}, Build: &Call{
		Call: "ftp://x", Quiet: strictyaml.Duration(time.Minute), Reports: "sometimes", Body: `{"n": {nubmer}}`,
		Headers: map[string]string{"host": "x", "a b": "x", "X-Token": "env:TOKEN"},
	}}
	found := strings.Join(site.Check(), "\n")
	for _, want := range []string{
		`address: "nowhere"`, `build.call: "ftp://x"`, `refresh.call: "missing"`, "quiet: it is longer than build.atMost",
		`"sometimes" is neither`, `"host" cannot be set`, `"a b" cannot be set`, "it is no JSON", `did you mean "number"?`,
	} {
		if !strings.Contains(found, want) {
			t.Errorf("%q lacks %q", found, want)
		}
	}
	if strings.Contains(found, "X-Token") {
		t.Errorf("a header of one's own: %q", found)
	}
	call := Call{Body: `{"state": "{sequence}", "at": "{site}"}`}
	if got := string(call.FillBody(map[string]string{"site": `a "b"`, "sequence": "7"})); got != `{"state": "7", "at": "a \"b\""}` {
		t.Errorf("a body of one's own: %s", got)
	}
}
