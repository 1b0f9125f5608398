package store_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/testkit"
)

// TestBuilderIsRetriedWithoutLimit has a builder fail in every way, more often than anybody
// would wait for: there is always a next try, no later than a quarter of an hour, and the
// log says when.
func TestBuilderIsRetriedWithoutLimit(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	ctx := t.Context()
	call := &rebuild.Call{Quiet: strictyaml.Duration(time.Nanosecond), Timeout: strictyaml.Duration(time.Minute)}
	// later moves everything into the past by the span.
	later := func(span time.Duration) {
		t.Helper()
		if _, err := s.DB.Pool.Exec(ctx, `update build set not_before = not_before - $2::interval, called = called -
			$2::interval, started = started - $2::interval,
			first_request = first_request - $2::interval, last_request = last_request - $2::interval where
			environment = $1 and state in ('waiting', 'running')`, s.Environment, span); err != nil {
			t.Fatal(err)
		}
	}
	// next returns the build that the builder is called for next, and how long that took.
	next := func() (*rebuild.Build, time.Duration) {
		t.Helper()
		waited := time.Duration(0)
		for range 20 {
			due, wait, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call})
			if err != nil {
				t.Fatal(err)
			}
			if due != nil {
				return due, waited
			}
			later(wait)
			waited += wait
		}
		t.Fatal("there is no next call")
		return nil, 0
	}
	if _, err := s.Builds.Request(ctx, "web", []rebuild.Cause{{What: "published", Entry: "p1"}}, 7, true); err != nil {
		t.Fatal(err)
	}
	for i := range 40 {
		b, waited := next()
		if waited > rebuild.LongestBackoff+2*time.Minute || b.Sequence != 7 || b.Counts["published"] != 1 {
			t.Fatalf("try %d: after %v, %+v", i, waited, b)
		}
		switch i % 3 {
		case 0: // the builder is away
			if err := s.Builds.Called(ctx, b, false, "connection refused", 0); err != nil {
				t.Fatal(err)
			}
		case 1: // it takes the call and says nothing more
			if err := s.Builds.Called(ctx, b, false, "", 0); err != nil {
				t.Fatal(err)
			}
			later(2 * time.Minute)
		case 2:
			if err := s.Builds.Called(ctx, b, false, "", 0); err != nil {
				t.Fatal(err)
			}
			if _, err := s.Builds.Report(ctx, b.ID, builds.Report{State: rebuild.Failed, Error: "out of paint"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	all, err := s.Builds.List(ctx, api.BuildFilter{Site: "web", Limit: 500})
	if err != nil || !slices.ContainsFunc(all, func(b rebuild.Build) bool {
		return (b.State == rebuild.Waiting || b.State == rebuild.Running) && len(b.Log) > 0
	}) {
		t.Fatalf("at the end: %+v, %v", all, err)
	}
	// A builder that is heard of is tried at once.
	if err := s.Builds.HeardOf(ctx, "web"); err != nil {
		t.Fatal(err)
	}
	if due, wait, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil || due == nil && wait > 0 {
		t.Errorf("after word from the builder: %v %v %v", due, wait, err)
	}
}

// TestBuilderWithoutReport takes the call for the end of a build.
func TestBuilderWithoutReport(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	ctx := t.Context()
	call := &rebuild.Call{Reports: rebuild.ReportsNone}
	if _, err := s.Builds.Request(ctx, "web", []rebuild.Cause{{By: "ada"}}, 1, true); err != nil {
		t.Fatal(err)
	}
	b, _, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call})
	if err != nil || b == nil {
		t.Fatal(b, err)
	}
	if err := s.Builds.Called(ctx, b, call.Silent(), "busy", 0); err != nil {
		t.Fatal(err)
	}
	if held, err := s.Builds.Get(ctx, b.ID); err != nil || held.State != rebuild.Running {
		t.Errorf("after a call that was not taken: %+v, %v", held, err)
	}
	if err := s.Builds.Called(ctx, b, call.Silent(), "", 0); err != nil {
		t.Fatal(err)
	}
	if done, err := s.Builds.Get(ctx, b.ID); err != nil || done.State != rebuild.Finished || done.Finished == nil ||
		done.Error != "" {
		t.Errorf("%+v, %v", done, err)
	}
	if due, _, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil || due != nil {
		t.Errorf("it is called again: %+v, %v", due, err)
	}
}

// TestReportTimeoutStartsAtAcceptedCall has a builder take the third call,
// long after the first, which it had put off.
func TestReportTimeoutStartsAtAcceptedCall(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, testkit.Ferries))
	ctx := t.Context()
	call := &rebuild.Call{Timeout: strictyaml.Duration(time.Minute)}
	if _, err := s.Builds.Request(ctx, "web", []rebuild.Cause{{By: "ada"}}, 1, true); err != nil {
		t.Fatal(err)
	}
	b, _, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call})
	if err != nil || b == nil {
		t.Fatal(b, err)
	}
	if err := s.Builds.Called(ctx, b, false, "busy", 10*time.Minute); err != nil {
		t.Fatal(err)
	}
	due, wait, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call})
	if err != nil || due != nil || wait < 9*time.Minute || wait > 10*time.Minute {
		t.Errorf("what the builder says of when to call again: %v, %v, %v", due, wait, err)
	}
	if _, err := s.DB.Pool.Exec(ctx, `update build set not_before = clock_timestamp(), called = called - interval
		'10 minutes' where environment = $1`, s.Environment); err != nil {
		t.Fatal(err)
	}
	if b, _, err = s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil || b == nil || b.Attempts != 2 {
		t.Fatal(b, err)
	}
	if err := s.Builds.Called(ctx, b, false, "", 0); err != nil {
		t.Fatal(err)
	}
	if _, wait, err := s.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil || wait < 50*time.Second {
		t.Errorf("the time to report ends after %v, %v", wait, err)
	}
	b2, err := s.Builds.Get(ctx, b.ID)
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, l := range b2.Log {
		told = append(told, l.What)
	}
	if got := strings.Join(told, "; "); got != "called the builder, for the first time; the builder did not take "+
		"the call: busy; called the builder, for the second time; the builder took the call" ||
		b2.Log[1].Next == nil {
		t.Errorf("the log says %q", got)
	}
}
