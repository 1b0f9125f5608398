package strictyaml

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Duration is a span of time written as in "90s", "5m" or "1d". It reads and
// writes as text in YAML and JSON.
type Duration time.Duration

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Duration) UnmarshalText(text []byte) error {
	s := string(text)
	if days, ok := strings.CutSuffix(s, "d"); ok {
		const most = math.MaxInt64 / int(24*time.Hour)
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > most {
			return fmt.Errorf("%q is no span of time; write it as in 90s, 5m, 2h or 1d", s)
		}
		*d = Duration(time.Duration(n) * 24 * time.Hour)
		return nil
	}
	v, err := time.ParseDuration(s)
	if err != nil || v < 0 {
		return fmt.Errorf("%q is no span of time; write it as in 90s, 5m, 2h or 1d", s)
	}
	*d = Duration(v)
	return nil
}

// MarshalText implements encoding.TextMarshaler.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// Or returns d, or the given span when d is zero.
func (d Duration) Or(other time.Duration) time.Duration {
	if d == 0 {
		return other
	}
	return time.Duration(d)
}
