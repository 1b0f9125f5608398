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
	for n := 1; n <= 12; n++ {
		got := Backoff(n)
		if got < last || got > 2*time.Minute {
			t.Errorf("after %d failures: %v, before that %v", n, got, last)
		}
		last = got
	}
}

func TestCheck(t *testing.T) {
	err := Check(map[string]Site{"web": {Address: "nowhere", Build: &Call{Call: "ftp://x", Quiet: strictyaml.Duration(time.Minute)}}})
	if err == nil {
		t.Fatal("accepted")
	}
	for _, want := range []string{`address "nowhere"`, `build.call "ftp://x"`, "quiet is longer than atMost"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q lacks %q", err, want)
		}
	}
}
