package access

import (
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"golang.org/x/time/rate"
)

// Meter counts what one key is used for on this node, and bounds it. A nil Meter
// counts nothing and has no bound. It may be used by many at once.
type Meter struct {
	limit          *rate.Limiter
	requests, hits atomic.Int64
	last           atomic.Pointer[seen]
}

type seen struct {
	at             time.Time
	address, agent string
}

// Use is what a key was used for.
type Use struct {
	Requests, Hits int64
	At             time.Time
	Address, Agent string
}

// NewMeter returns a meter that lets so many requests through in a minute, and
// as many at once; 0 means any number.
func NewMeter(perMinute int) *Meter {
	m := &Meter{}
	if perMinute > 0 {
		m.limit = rate.NewLimiter(rate.Limit(float64(perMinute)/60), perMinute)
	}
	return m
}

// Limit is how many requests a minute are let through; 0 means any number.
func (m *Meter) Limit() int {
	if m == nil || m.limit == nil {
		return 0
	}
	return m.limit.Burst()
}

// Admit counts a request. It tells how many more would be let through now, and,
// when this one is not, after how long the next one will be.
func (m *Meter) Admit(now time.Time) (left int, wait time.Duration, ok bool) {
	if m == nil {
		return 0, 0, true
	}
	m.requests.Add(1)
	if m.limit == nil {
		return 0, 0, true
	}
	if m.limit.AllowN(now, 1) {
		return max(0, int(m.limit.TokensAt(now))), 0, true
	}
	missing := 1 - m.limit.TokensAt(now)
	return 0, time.Duration(missing / float64(m.limit.Limit()) * float64(time.Second)), false
}

// Due tells whether it is time to Note who uses the key: once a second is often
// enough.
func (m *Meter) Due(now time.Time) bool {
	if m == nil {
		return false
	}
	l := m.last.Load()
	return l == nil || now.Sub(l.at) >= time.Second
}

// Note remembers who has used the key last: the address, and what the program
// calls itself.
func (m *Meter) Note(now time.Time, address, agent string) {
	m.last.Store(&seen{at: now, address: Printable(address), agent: Printable(agent)})
}

// longestPrintable bounds what Printable returns, in bytes.
const longestPrintable = 200

// Printable is a stranger's text as it can be kept and shown: not long, valid UTF-8 and
// without control characters.
func Printable(s string) string {
	cut := s[:min(len(s), longestPrintable)]
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return unicode.ReplacementChar
		}
		return r
	}, strings.ToValidUTF8(cut, string(unicode.ReplacementChar)))
}

// Hit counts an answer that the cache had.
func (m *Meter) Hit() {
	if m != nil {
		m.hits.Add(1)
	}
}

// Take returns what was counted since it was last called, and whether that is
// anything. Only one may call it at a time.
func (m *Meter) Take() (Use, bool) {
	last := m.last.Load()
	requests, hits := m.requests.Swap(0), m.hits.Swap(0)
	if last == nil || requests == 0 && hits == 0 {
		return Use{}, false
	}
	return Use{Requests: requests, Hits: hits, At: last.at, Address: last.address, Agent: last.agent}, true
}
