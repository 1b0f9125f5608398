package delivery

import (
	"sort"
	"sync/atomic"
	"time"
)

// latencies remembers how long the last reads took.
type latencies struct {
	at    atomic.Uint64
	spans [4096]atomic.Int64
}

func (l *latencies) add(d time.Duration) { l.spans[l.at.Add(1)%uint64(len(l.spans))].Store(int64(d)) }

// Quantiles returns the median and the 99th percentile of the last reads, as
// far as there were any.
func (l *latencies) Quantiles() (p50, p99 time.Duration, n uint64) {
	var all []int64
	for i := range l.spans {
		if v := l.spans[i].Load(); v > 0 {
			all = append(all, v)
		}
	}
	if len(all) == 0 {
		return 0, 0, 0
	}
	sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
	return time.Duration(all[len(all)/2]), time.Duration(all[len(all)*99/100]), l.at.Load()
}
