package health

import (
	"errors"
	"testing"
	"time"
)

func TestCallsBackOffAfterFailures(t *testing.T) {
	var target Target
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	away := errors.New("connection refused")
	for i := range openAfter {
		if err := target.Allow(now); err != nil {
			t.Fatalf("call %d is held back: %v", i, err)
		}
		target.Done(now, away)
	}
	var held *HeldBackError
	if err := target.Allow(now); !errors.As(err, &held) || held.Until.Sub(now) != firstWait ||
		held.Reason != away.Error() {
		t.Fatalf("%v", err)
	}
	last := time.Duration(0)
	for range 30 {
		s := target.State()
		wait := s.NextTry.Sub(now)
		if wait < last || wait > longestWait {
			t.Fatalf("the wait goes from %v to %v", last, wait)
		}
		last, now = wait, *s.NextTry
		if err := target.Allow(now); err != nil {
			t.Fatalf("nobody is let through at %v: %v", now, err)
		}
		if target.Allow(now) == nil {
			t.Fatal("two are let through")
		}
		target.Done(now, away)
	}
	s := target.State()
	if s.Error != away.Error() || s.Failures != openAfter+30 || s.Since.After(*s.LastError) || s.LastSuccess != nil {
		t.Errorf("%+v", s)
	}
	now = *s.NextTry
	// Who was let through and does not come back does not close the way for good.
	if target.Allow(now) != nil || target.Allow(now.Add(longestProbe)) != nil {
		t.Error("nobody is let through after a probe that never ends")
	}
	target.Done(now, nil)
	if s := target.State(); target.Allow(now) != nil || target.Allow(now) != nil || s.Error != "" ||
		s.NextTry != nil ||
		s.LastSuccess == nil {
		t.Errorf("after a success: %+v", s)
	}
}
