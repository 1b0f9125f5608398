// Package rebuild turns requests for the rebuild of a site into builds: requests that come close
// together become one.
package rebuild

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/strictyaml"
)

// Site is a front end that is kept fresh.
type Site struct {
	// Address is where visitors find it.
	Address string `yaml:"address" json:"address"`
	Build   *Call  `yaml:"build" json:"build,omitempty"`
	// Preview is the address at which the site shows an entry in preview, with
	// {path}, {token} and {locale} in it.
	Preview string `yaml:"preview" json:"preview,omitempty"`
}

// Call says how a site's rebuild is asked for.
type Call struct {
	Call   string `yaml:"call" json:"call"` // the address that is called with POST
	Secret string `yaml:"secret" json:"-"`  // signs the call (Standard Webhooks); env:NAME
	// Quiet is how long no further request may come before the build starts.
	Quiet strictyaml.Duration `yaml:"quiet" json:"quiet"`
	// AtMost bounds that wait, from the first request on.
	AtMost strictyaml.Duration `yaml:"atMost" json:"atMost"`
	// Timeout is how long a build may run without reporting its end.
	Timeout strictyaml.Duration `yaml:"timeout" json:"timeout"`
	// Reports says whether the builder reports how builds go: callback (the default), or
	// none. Of one that does not, a build counts as finished when it took the call.
	Reports string `yaml:"reports" json:"reports,omitempty"`
}

// Silent tells whether the builder never reports.
func (c *Call) Silent() bool { return c.Reports == ReportsNone }

// The values of Call.Reports.
const (
	ReportsCallback = "callback"
	ReportsNone     = "none"
)

// The waits of a site that does not say.
const (
	DefaultQuiet   = 2 * time.Second
	DefaultAtMost  = 30 * time.Second
	DefaultTimeout = 10 * time.Minute
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
	maxLog = 40
)

// File is the form of sites.yaml.
type File struct {
	Sites map[string]Site `yaml:"sites"`
}

// Check says everything that is wrong with the sites.
func Check(sites map[string]Site) error {
	var wrong []string
	for name, s := range sites {
		for what, address := range map[string]string{
			"address": s.Address, "build.call": s.callAddress(),
			"preview": s.Preview,
		} {
			if address == "" && what != "address" {
				continue
			}
			if u, err := url.Parse(address); err != nil || u.Host == "" ||
				(u.Scheme != "http" && u.Scheme != "https") {
				wrong = append(wrong, fmt.Sprintf("site %s: %s %q is no http address", name, what, address))
			}
		}
		if s.Build != nil && s.Build.Reports != "" && s.Build.Reports != ReportsCallback &&
			s.Build.Reports != ReportsNone {
			wrong = append(
				wrong,
				fmt.Sprintf(
					"site %s: build.reports %q is neither %s nor %s", name, s.Build.Reports, ReportsCallback,
					ReportsNone,
				),
			)
		}
		if s.Build != nil && s.Build.Quiet.Or(DefaultQuiet) > s.Build.AtMost.Or(DefaultAtMost) {
			wrong = append(wrong, fmt.Sprintf("site %s: quiet is longer than atMost", name))
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("sites: %s", strings.Join(wrong, "\nsites: "))
	}
	return nil
}

func (s Site) callAddress() string {
	if s.Build == nil {
		return ""
	}
	return s.Build.Call
}

// State is where a build stands.
type State string

// The states of a build.
const (
	Waiting  State = "waiting"
	Running  State = "running"
	Finished State = "finished"
	Failed   State = "failed"
)

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
	// Log says what was tried, and what comes next.
	Log []Step `json:"log,omitempty"`
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
	for _, c := range causes {
		counts[cmp.Or(c.What, AnyCause)]++
	}
	b.Counts = counts
	room := max(0, maxCauses-len(b.Causes))
	b.Causes = append(b.Causes[:len(b.Causes):len(b.Causes)], causes[:min(room, len(causes))]...)
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
