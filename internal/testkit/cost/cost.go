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

// Bound runs f, and fails the test if it takes more time or memory than one input may. As the
// machine may be busy with others, f runs up to three times until one run stays within the bounds.
func Bound(t testing.TB, f func()) {
	t.Helper()
	var took time.Duration
	var allocated uint64
	for range 3 {
		if took, allocated = measure(f); took <= longest && allocated <= most {
			return
		}
	}
	t.Errorf("it took %v and allocated %d MiB, also when it was run again", took, allocated>>20)
}

// measure returns the time that f takes and the bytes that are allocated meanwhile.
func measure(f func()) (time.Duration, uint64) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begin := time.Now()
	f()
	took := time.Since(begin)
	runtime.ReadMemStats(&after)
	return took, after.TotalAlloc - before.TotalAlloc
}
