package background

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

func TestGroupStartsWhatWaitsForWake(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := New()
		var ran, woken bool
		g.Go(func(ctx context.Context) { ran = true; <-ctx.Done() })
		g.GoAwake(func(context.Context) { woken = true })
		synctest.Wait()
		if !ran || woken || !g.Quiet() {
			t.Fatalf("before Wake: ran %v, woken %v, quiet %v", ran, woken, g.Quiet())
		}
		g.Wake()
		g.Wake() // twice is once
		synctest.Wait()
		if !woken || g.Quiet() {
			t.Fatalf("after Wake: woken %v, quiet %v", woken, g.Quiet())
		}
		g.Stop()
	})
}

func TestSleepEndsEarly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		wake := make(chan struct{}, 1)
		Nudge(wake)
		Nudge(wake)
		begin := time.Now()
		if !Sleep(t.Context(), time.Minute, wake) || time.Since(begin) != 0 {
			t.Errorf("a nudge ends a sleep at once, not after %s", time.Since(begin))
		}
		if !Sleep(t.Context(), time.Minute, wake) || time.Since(begin) != time.Minute {
			t.Errorf("two nudges are one: it woke after %s", time.Since(begin))
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if Sleep(ctx, time.Minute, wake) {
			t.Error("a context that has ended is not reported")
		}
	})
}
