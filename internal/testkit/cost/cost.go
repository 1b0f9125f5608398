// Package cost checks in tests that what an input takes stays within a bound.
package cost

import (
	"runtime"
	"testing"
	"time"
)

const (
	// longest bounds the time of one input, with room for slow machines.
	longest = 3 * time.Second
	// most bounds what one input allocates, in bytes.
	most = 128 << 20
)

// Bound runs f, and fails the test if it takes more time or memory than one input may.
func Bound(t testing.TB, f func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begin := time.Now()
	f()
	took := time.Since(begin)
	runtime.ReadMemStats(&after)
	if took > longest {
		t.Errorf("it took %v", took)
	}
	if n := after.TotalAlloc - before.TotalAlloc; n > most {
		t.Errorf("it allocated %d MiB", n>>20)
	}
}
