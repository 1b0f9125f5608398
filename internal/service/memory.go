package service

import (
	"context"
	"log/slog"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"strings"
	"time"
)

// memoryShare is how much of the memory that the process may have the runtime aims for:
// the rest is for what is not in its heap.
const memoryShare = 0.9

// limitMemory has the runtime keep within the memory that the control group allows, unless
// GOMEMLIMIT says otherwise.
func limitMemory(log *slog.Logger) {
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	for _, file := range []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"} {
		src, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		if n, err := strconv.ParseInt(strings.TrimSpace(string(src)), 10, 64); err == nil && n > 0 && n < 1<<50 {
			debug.SetMemoryLimit(int64(float64(n) * memoryShare))
			log.Debug("memory is limited by the control group", "bytes", n)
		}
		return
	}
}

const (
	// giveBackEvery is how often a node looks whether it holds memory that it does not use.
	giveBackEvery = 30 * time.Second
	// giveBackOver is how much that must be.
	giveBackOver = 48 << 20
	// busyCycles is how many collections in that time say that the node is under load: then
	// the memory is used again at once.
	busyCycles = 4
)

// giveBack returns memory to the machine that a load before has left unused, until ctx
// ends. The runtime does so by itself only slowly.
func giveBack(ctx context.Context) {
	tick := time.NewTicker(giveBackEvery)
	defer tick.Stop()
	last := uint64(0)
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		bytes, cycles := spare()
		if bytes > giveBackOver && cycles-last <= busyCycles {
			debug.FreeOSMemory()
		}
		last = cycles
	}
}

// spare is how much memory the heap holds beyond what lives, and how many collections
// there were so far.
func spare() (bytes int64, cycles uint64) {
	samples := []metrics.Sample{
		{Name: "/memory/classes/heap/free:bytes"},
		{Name: "/memory/classes/heap/unused:bytes"},
		{Name: "/memory/classes/heap/objects:bytes"},
		{Name: "/gc/heap/live:bytes"},
		{Name: "/gc/cycles/total:gc-cycles"},
	}
	metrics.Read(samples)
	value := func(i int) int64 { return int64(samples[i].Value.Uint64()) }
	return value(0) + value(1) + value(2) - value(3), samples[4].Value.Uint64()
}
