package diagnose

import (
	"testing"
	"time"

	"ubiquon/internal/api"
)

// TestFreshnessOfAnOriginWhoseClockIsAhead counts from when the event was heard of, if
// the origin says that it published later than that.
func TestFreshnessOfAnOriginWhoseClockIsAhead(t *testing.T) {
	received := time.Date(2026, 5, 4, 8, 0, 0, 0, time.UTC)
	expired, built := received.Add(40*time.Millisecond), received.Add(2*time.Second)
	for name, c := range map[string]struct{ published, answer, built time.Duration }{
		"behind": {-time.Second, 1040 * time.Millisecond, 3 * time.Second},
		"ahead":  {27 * time.Minute, 40 * time.Millisecond, 2 * time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			published := received.Add(c.published)
			f := freshness(
				[]api.EventTrace{
					{
						Event: api.Event{Received: received},
						Trace: api.FreshnessTrace{Published: &published, Expired: &expired, Built: &built},
					},
				},
			)
			if f.Answer50 == nil || f.Built50 == nil || *f.Answer50 != c.answer.Seconds()*1000 ||
				*f.Built50 != c.built.Seconds()*1000 {
				t.Errorf("freshness is %+v", f)
			}
		})
	}
}
