package background

import (
	"context"
	"slices"
	"sync"
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

func TestKeyedLoopsFollowWhatIsWanted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := New()
		g.Wake()
		k := NewKeyed(g)
		var mu sync.Mutex
		running := map[string]int{}
		wanted := func(marks ...string) map[string]Loop {
			out := map[string]Loop{}
			for i := 0; i < len(marks); i += 2 {
				name := marks[i] + " " + marks[i+1]
				out[marks[i]] = Loop{marks[i+1], func(ctx context.Context) {
					count := func(by int) { mu.Lock(); defer mu.Unlock(); running[name] += by }
					count(1)
					<-ctx.Done()
					count(-1)
				}}
			}
			return out
		}
		check := func(want ...string) {
			t.Helper()
			synctest.Wait()
			mu.Lock()
			defer mu.Unlock()
			var are []string
			for name, n := range running {
				for range n {
					are = append(are, name)
				}
			}
			slices.Sort(are)
			if !slices.Equal(are, want) {
				t.Errorf("running: %q, want %q", are, want)
			}
		}
		k.Keep(wanted("web", "1", "board", "1"))
		check("board 1", "web 1")
		k.Keep(wanted("web", "2", "kiosk", "1"))
		check("kiosk 1", "web 2")
		k.Keep(nil)
		check()
		k.Keep(wanted("web", "1"))
		check("web 1")
		g.Stop()
		check()
	})
}
