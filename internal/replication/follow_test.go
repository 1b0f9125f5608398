package replication

import (
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"
)

// TestNodeStartsWhenItHasCaughtUp has the only poll of a node succeed after a while, between two
// attempts of the start, or never.
func TestNodeStartsWhenItHasCaughtUp(t *testing.T) {
	for after, want := range map[time.Duration]error{21 * time.Second: nil, time.Hour: ErrBehind} {
		synctest.Test(t, func(t *testing.T) {
			r := &Replica{log: slog.New(slog.DiscardHandler)}
			r.Position.init()
			poll := time.AfterFunc(after, func() {
				r.Position.verifiedAt.Store(time.Now().UnixNano())
				r.Position.notify()
			})
			defer poll.Stop()
			begin := time.Now()
			if err := r.AwaitCurrent(t.Context()); !errors.Is(err, want) {
				t.Errorf("caught up after %v: %v", after, err)
			}
			if took := time.Since(begin); took != min(after, startPatience) {
				t.Errorf("caught up after %v: it took %v", after, took)
			}
		})
	}
}
