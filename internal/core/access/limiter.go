package access

import (
	"crypto/sha256"
	"net/netip"
	"strings"
	"time"

	"github.com/maypok86/otter/v2"
	"golang.org/x/time/rate"
)

// Limiter bounds how often each of many may do something: an address that
// guesses keys, a person who mistypes a password. Who was quiet for long is
// forgotten. It may be used by many at once.
type Limiter struct {
	perMinute float64
	burst     int
	held      *otter.Cache[string, *rate.Limiter]
}

// limiterRemembers bounds how many a Limiter knows at once.
const limiterRemembers = 50_000

// NewLimiter lets each do something so many times in a minute, and burst times at
// once.
func NewLimiter(perMinute float64, burst int) *Limiter {
	return &Limiter{perMinute: perMinute, burst: burst, held: otter.Must(&otter.Options[string, *rate.Limiter]{
		MaximumSize:      limiterRemembers,
		ExpiryCalculator: otter.ExpiryAccessing[string, *rate.Limiter](10 * time.Minute),
	})}
}

// longestName is how long a name may be that is kept as it is; of longer ones a digest
// is.
const longestName = 64

func (l *Limiter) of(who string) *rate.Limiter {
	if len(who) > longestName {
		sum := sha256.Sum256([]byte(who))
		who = string(sum[:])
	}
	if one, ok := l.held.GetIfPresent(who); ok {
		return one
	}
	one, _ := l.held.SetIfAbsent(who, rate.NewLimiter(rate.Limit(l.perMinute/60), l.burst))
	return one
}

// Network is an address as limiters count it: of IPv6 the network of which one customer
// usually has the whole (RFC 6177).
func Network(address string) string {
	if !strings.Contains(address, ":") {
		return address
	}
	at, err := netip.ParseAddr(address)
	if err != nil || at.Is4In6() {
		return address
	}
	return netip.PrefixFrom(at.WithZone(""), 64).Masked().String()
}

// Allow counts one more time, and tells whether it is allowed.
func (l *Limiter) Allow(who string, now time.Time) bool { return l.of(who).AllowN(now, 1) }

// Wait is after how long somebody who may not now may again.
func (l *Limiter) Wait(who string, now time.Time) time.Duration {
	missing := 1 - l.of(who).TokensAt(now)
	return time.Duration(max(0, missing) / (l.perMinute / 60) * float64(time.Second))
}
