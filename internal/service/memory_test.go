package service

import (
	"runtime"
	"testing"
)

// TestSpareMemoryIsSeen leaves garbage behind, and collects it.
func TestSpareMemoryIsSeen(t *testing.T) {
	all := make([][]byte, 0, 100)
	for range 100 {
		all = append(all, make([]byte, 1<<20))
	}
	runtime.GC()
	held, before := spare()
	runtime.KeepAlive(all)
	runtime.GC()
	free, after := spare()
	if free-held < 80<<20 || after <= before {
		t.Errorf("of 100 MiB that are free %d are seen, after %d collections and %d before", free-held, after, before)
	}
}
