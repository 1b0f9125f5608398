// Package recurring logs failures that repeat: once at first, and from then on how often they
// came.
package recurring

import (
	"log/slog"
	"sync"
	"time"
)

const (
	// every is how often it is told that a failure goes on.
	every = time.Minute
	// overAfter is after how long without it a failure counts as a new one.
	overAfter = 5 * time.Minute
	// most bounds how many failures are told apart; beyond that they count as one.
	most = 100
)

// Log counts failures and tells of them. The zero value is ready; it is safe for
// concurrent use.
type Log struct {
	mu  sync.Mutex
	all map[string]*failure
}

type failure struct {
	count             int64 // since the process began
	untold            int64 // since it was last told
	told, since, last time.Time
}

// Failed tells the logger of a failure, unless it was told of the same within the last
// minute. What tells failures apart; args are logged beside it, as slog takes them.
func (l *Log) Failed(log *slog.Logger, what string, args ...any) {
	now := time.Now()
	l.mu.Lock()
	f := l.all[what]
	if f == nil {
		if len(l.all) >= most {
			what = "other failures"
			f = l.all[what]
		}
		if f == nil {
			f = &failure{since: now}
			if l.all == nil {
				l.all = map[string]*failure{}
			}
			l.all[what] = f
		}
	}
	if now.Sub(f.last) > overAfter {
		f.since, f.told, f.untold = now, time.Time{}, 0
	}
	f.last = now
	f.count++
	f.untold++
	tell, untold, since := now.Sub(f.told) >= every, f.untold, f.since
	if tell {
		f.told, f.untold = now, 0
	}
	l.mu.Unlock()
	if tell && untold > 1 {
		args = append(args, "times", untold, "since", since.Format(time.RFC3339))
	}
	if tell {
		log.Warn(what, args...)
	}
}

// Over says that what failed has been done since: it lasts no longer.
func (l *Log) Over(what string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if f := l.all[what]; f != nil {
		f.last = time.Time{}
	}
}

// Counts returns how often each failure has come since the process began.
func (l *Log) Counts() map[string]int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make(map[string]int64, len(l.all))
	for what, f := range l.all {
		out[what] = f.count
	}
	return out
}

// Lasting returns the failures that came within the span, and since when each goes on.
func (l *Log) Lasting(span time.Duration) map[string]time.Time {
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	out := map[string]time.Time{}
	for what, f := range l.all {
		if now.Sub(f.last) <= span {
			out[what] = f.since
		}
	}
	return out
}
