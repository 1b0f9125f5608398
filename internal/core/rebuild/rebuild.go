// Package rebuild turns requests for the rebuild of a site into builds: requests that come close
// together become one.
package rebuild

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"ubiquon/internal/core/pages"
)

const (
	// MaxAttempts is how often a build's call is made before its causes go to another
	// build, with whatever has come to wait meanwhile.
	MaxAttempts = 5
	// LongestBackoff bounds the wait after failures. Nothing is ever given up.
	LongestBackoff = 15 * time.Minute
	// maxCauses bounds the causes that a build names; beyond that they are counted.
	maxCauses = 1000
	// maxLog bounds the log of a build: the first and the last lines of it stay.
	maxLog = 200
)

// State is where a build stands.
type State string

// The states of a build.
const (
	Waiting  State = "waiting"
	Running  State = "running"
	Finished State = "finished"
	Failed   State = "failed"
	// Cancelled builds were taken back before they ran.
	Cancelled State = "cancelled"
	// Skipped builds were not made, as no page was stale by what they were for.
	Skipped State = "skipped"
)

// FailingAfter is after how many failures in a row a site counts as failing.
const FailingAfter = 3

// Cause is one change, or one person, that asked for a build.
type Cause struct {
	Sequence int64  `json:"sequence,omitempty"`
	Rule     string `json:"rule,omitempty"`
	By       string `json:"by,omitempty"`
	Entry    string `json:"entry,omitempty"`
	Type     string `json:"type,omitempty"`
	What     string `json:"what,omitempty"`
	Event    string `json:"event,omitempty"`
	// Locales in which readers see a difference; Slugs and Paths are, by locale, those that
	// the entry has, or had until then.
	Locales []string          `json:"locales,omitempty"`
	Slugs   map[string]string `json:"slugs,omitempty"`
	Paths   map[string]string `json:"paths,omitempty"`
}

// Build is one run of a site's rebuild, from its first request to its end.
type Build struct {
	ID     string `json:"id"` // the call's idempotency key
	Site   string `json:"site"`
	Number int64  `json:"number"` // rises by one per site
	State  State  `json:"state"`
	// Sequence is the lowest state of content that the build may read.
	Sequence int64 `json:"sequence"`
	// Causes are the first thousand; Counts says how many there are in all, by what
	// happened.
	Causes []Cause        `json:"causes"`
	Counts map[string]int `json:"counts,omitempty"`
	Now    bool           `json:"now,omitempty"` // do not wait for further requests
	// Pages are the paths that it was asked to render, once it was called; "*" stands for all.
	Pages pages.Asked `json:"pages"`

	FirstRequest time.Time  `json:"firstRequest"`
	LastRequest  time.Time  `json:"lastRequest"`
	NotBefore    *time.Time `json:"notBefore,omitempty"` // after a failure
	Attempts     int        `json:"attempts"`
	Called       *time.Time `json:"called"`
	Started      *time.Time `json:"started"`
	Finished     *time.Time `json:"finished"`
	Error        string     `json:"error,omitempty"`
	// Failures counts the failed builds directly before this one.
	Failures int `json:"failures,omitempty"`
	// Log says what was tried, what the builder said, and what comes next.
	Log []Step `json:"log,omitempty"`
	// Link leads to the builder's own page of it.
	Link string `json:"link,omitempty"`
}

// Step is one line of a build's log.
type Step struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
	// Next is when something is tried again, if so.
	Next *time.Time `json:"next,omitempty"`
}

// Note adds a line to the log.
func (b *Build) Note(at time.Time, next *time.Time, format string, args ...any) {
	b.Log = append(b.Log, Step{At: at, What: fmt.Sprintf(format, args...), Next: next})
	if len(b.Log) > maxLog {
		b.Log = slices.Delete(b.Log, maxLog/4, maxLog/4+1)
	}
}

// AnyCause is the key in Counts of causes that name no change.
const AnyCause = "asked for"

// Request adds causes to the site's waiting build, which may be nil; the
// result is what waits now.
func Request(waiting *Build, causes []Cause, sequence int64, immediately bool, now time.Time) Build {
	b := Build{State: Waiting, FirstRequest: now}
	if waiting != nil {
		b = *waiting
	}
	b.LastRequest = now
	b.Sequence = max(b.Sequence, sequence)
	if b.Now = b.Now || immediately; immediately {
		b.NotBefore = nil
	}
	counts := maps.Clone(b.Counts)
	if counts == nil {
		counts = map[string]int{}
	}
	// A stale page and a rule may ask for the same change.
	b.Causes = slices.Clone(b.Causes)
	for _, c := range causes {
		same := slices.IndexFunc(b.Causes, func(o Cause) bool {
			return c.Sequence > 0 && o.Sequence == c.Sequence && o.Entry == c.Entry && (o.Rule == "" || c.Rule == "")
		})
		if same >= 0 {
			b.Causes[same].Rule = cmp.Or(b.Causes[same].Rule, c.Rule)
			continue
		}
		counts[cmp.Or(c.What, AnyCause)]++
		if len(b.Causes) < maxCauses {
			b.Causes = append(b.Causes, c)
		}
	}
	b.Counts = counts
	return b
}

// Again adds the causes of a build that has failed to the site's waiting build, which may
// be nil; the result is what waits now.
func Again(waiting *Build, failed *Build, now time.Time) Build {
	b := Request(waiting, failed.Causes, failed.Sequence, false, now)
	for what, n := range failed.Counts { // of which Request has counted those that are named
		b.Counts[what] += n
	}
	for _, c := range failed.Causes {
		b.Counts[cmp.Or(c.What, AnyCause)]--
	}
	return b
}

// Skips tells whether the build need not be made if no page is stale: nobody in particular has
// asked for it.
func (c *Call) Skips(b *Build) bool {
	return (c.OnlyIfAffected == nil || *c.OnlyIfAffected) && !b.AskedByPerson()
}

// AskedByPerson tells whether somebody has asked for the build, so that all of the site is rendered.
func (b *Build) AskedByPerson() bool {
	return slices.ContainsFunc(b.Causes, func(c Cause) bool { return c.By != "" })
}

// Due says when a waiting build may start, if none is running.
func (c *Call) Due(b *Build) time.Time {
	due := b.LastRequest.Add(c.Quiet.Or(DefaultQuiet))
	if latest := b.FirstRequest.Add(c.AtMost.Or(DefaultAtMost)); latest.Before(due) {
		due = latest
	}
	if b.Now {
		due = b.FirstRequest
	}
	if b.NotBefore != nil && b.NotBefore.After(due) {
		due = *b.NotBefore
	}
	return due
}

// Backoff says how long to wait after the n-th failure in a row, n from 1.
func Backoff(n int) time.Duration {
	return min(2*time.Second<<min(max(0, n-1), 20), LongestBackoff)
}
