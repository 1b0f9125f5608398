// Package health keeps how calls to an outside system go, and holds back calls to one that fails
// (circuit breaker).
package health

import (
	"fmt"
	"sync"
	"time"
)

const (
	// openAfter is after how many failures in a row calls are held back.
	openAfter = 3
	// firstWait and longestWait bound for how long.
	firstWait   = 2 * time.Second
	longestWait = 5 * time.Minute
)

// Target is somebody who is called. The zero value is ready; it is safe for concurrent use.
type Target struct {
	mu                sync.Mutex
	succeeded, failed time.Time
	since             time.Time // of the first failure in a row
	reason            string
	failures          int
	until             time.Time // calls are held back
	probing           bool
	probed            time.Time
}

// State is how somebody who is called stands.
type State struct {
	LastSuccess *time.Time `json:"lastSuccess"`
	LastError   *time.Time `json:"lastError"`
	// Error, Since, Failures and NextTry are set while calls fail: why, since when, how
	// often in a row, and until when none is made.
	Error    string     `json:"error,omitempty"`
	Since    *time.Time `json:"since,omitempty"`
	Failures int        `json:"failures,omitempty"`
	NextTry  *time.Time `json:"nextTry,omitempty"`
}

// HeldBackError is the error of a call that is not made.
type HeldBackError struct {
	Until  time.Time
	Reason string
}

// Error implements error.
func (e *HeldBackError) Error() string {
	return fmt.Sprintf(
		"it has failed several times (%s) and is tried again at %s", e.Reason, e.Until.UTC().Format("15:04:05Z"),
	)
}

// longestProbe is how long the one call that is let through may take before another is.
const longestProbe = time.Minute

// Allow tells whether a call may be made now: its error is nil or a *HeldBackError. Who was
// let through calls Done.
func (t *Target) Allow(now time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.failures < openAfter {
		return nil
	}
	if now.Before(t.until) || t.probing && now.Sub(t.probed) < longestProbe {
		until := t.until
		if !now.Before(until) {
			until = now.Add(firstWait)
		}
		return &HeldBackError{Until: until, Reason: t.reason}
	}
	t.probing, t.probed = true, now
	return nil
}

// Done notes how a call went.
func (t *Target) Done(now time.Time, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.probing = false
	if err == nil {
		t.succeeded, t.failures, t.reason, t.until = now, 0, "", time.Time{}
		return
	}
	if t.failures++; t.failures == 1 {
		t.since = now
	}
	t.failed, t.reason = now, err.Error()
	if t.failures >= openAfter {
		t.until = now.Add(min(firstWait<<min(t.failures-openAfter, 20), longestWait))
	}
}

// State returns how it stands.
func (t *Target) State() State {
	t.mu.Lock()
	defer t.mu.Unlock()
	at := func(when time.Time) *time.Time {
		if when.IsZero() {
			return nil
		}
		return &when
	}
	s := State{LastSuccess: at(t.succeeded), LastError: at(t.failed)}
	if t.failures > 0 {
		s.Error, s.Since, s.Failures, s.NextTry = t.reason, at(t.since), t.failures, at(t.until)
	}
	return s
}
