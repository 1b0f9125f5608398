package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Compiled is a rule that is ready to decide. It is safe for concurrent use.
type Compiled struct {
	Rule
	// Version of the rule's record.
	Version int64
	when    *condition
	timer   cron.Schedule
}

// Decision is whether a rule fires, and if not, why not.
type Decision struct {
	Fires bool `json:"fires"`
	// Reason names the property that decided, with the value that it had.
	Reason string `json:"reason,omitempty"`
}

// Compile prepares a rule for a model. Its error is that of Check.
func Compile(r Rule, version int64, v *Vocabulary) (*Compiled, error) {
	c := &Compiled{Rule: r, Version: version}
	var err error
	if r.When != "" {
		if c.when, err = v.compile(r.When, v.typesOf(&r)); err != nil {
			return nil, fmt.Errorf("when: %w", err)
		}
	}
	if r.At != "" {
		if c.timer, err = parseTimes(r.At, r.Zone); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// typesOf are the types that a rule is for.
func (v *Vocabulary) typesOf(r *Rule) []string {
	if len(r.Types) > 0 {
		return r.Types
	}
	return v.types
}

// UsesRole reports whether the condition asks for the role of who did it.
func (c *Compiled) UsesRole() bool { return c.when != nil && c.when.usesRole }

// Decide tells whether an occurrence sets off the rule at a time; if not, why not. What matters
// to all events is looked at first, the condition last.
func (c *Compiled) Decide(o *Occurrence, now time.Time) Decision {
	no := func(format string, args ...any) Decision { return Decision{Reason: fmt.Sprintf(format, args...)} }
	event := o.Event
	if event == Moved && !slices.Contains(c.On, Moved) {
		event = Published // it shows otherwise, as if it were published again
	}
	switch {
	case c.Off:
		return no("off: the rule is off")
	case o.Event == Clock:
	case !slices.Contains(c.On, event):
		if len(c.On) == 0 {
			return no("event: it fires by the clock (%s), not on %s", c.At, o.Event)
		}
		return no("event: it is on %s, this was %s", strings.Join(c.On, ", "), o.Event)
	case len(c.Types) > 0 && o.Type == "":
		return no("type: it is for %s, this is about no entry", strings.Join(c.Types, ", "))
	case len(c.Types) > 0 && !slices.Contains(c.Types, o.Type):
		return no("type: it is for %s, this is a %s", strings.Join(c.Types, ", "), o.Type)
	}
	if slices.Contains(o.Chain, c.Name) {
		return no("chain: this is a consequence of the rule itself (%s)", strings.Join(o.Chain, " → "))
	}
	if len(o.Chain) >= MaxChain {
		return no("chain: %d rules have followed from one another, and more may not (%s)", len(o.Chain),
			strings.Join(o.Chain, " → "))
	}
	if c.when == nil {
		return Decision{Fires: true}
	}
	f := c.when.byType[o.Type]
	if f == nil {
		return no("when: %s", c.when.whyUnfit(o, now))
	}
	parts := f.Untrue(&view{o: o}, now)
	if len(parts) == 0 {
		return Decision{Fires: true}
	}
	if len(parts[0].Values) == 0 {
		return no("when: %s is not true", parts[0].Text)
	}
	return no("when: %s is not true: %s", parts[0].Text, strings.Join(parts[0].Values, ", "))
}

// Next returns when the rule fires by itself after a time; the zero time for never.
func (c *Compiled) Next(after time.Time) time.Time {
	if c.timer == nil || c.Off {
		return time.Time{}
	}
	return c.timer.Next(after)
}

// furthest is how far ahead a cron line must fire at least once.
const furthest = 5 * 366 * 24 * time.Hour

// parseTimes reads a cron line in a zone.
func parseTimes(line, zone string) (cron.Schedule, error) {
	if zone == "" {
		zone = "UTC"
	}
	location, err := time.LoadLocation(zone)
	if err != nil || zone == "Local" {
		return nil, fmt.Errorf("zone: %q is no time zone; name one as in Europe/Oslo", zone)
	}
	form := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)
	if strings.HasPrefix(strings.TrimSpace(line), "TZ=") || strings.HasPrefix(strings.TrimSpace(line), "CRON_TZ=") {
		return nil, fmt.Errorf("at: name the time zone with zone:, not in the line")
	}
	s, err := form.Parse(line)
	if err != nil {
		return nil, fmt.Errorf(
			"at: %q is no cron line of five fields, as in \"0 6 1 10 *\": %s", line, strings.TrimSpace(err.Error()),
		)
	}
	if spec, ok := s.(*cron.SpecSchedule); ok {
		spec.Location = location
	}
	if now := time.Now(); s.Next(now).IsZero() || s.Next(now).Sub(now) > furthest {
		return nil, fmt.Errorf("at: %q never comes: no such day is in any of the months", line)
	}
	return s, nil
}
