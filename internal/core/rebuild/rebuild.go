// Package rebuild turns requests for a site's rebuild into builds: requests
// that come close together share one, one build runs while at most one waits,
// and a failed build is tried again. It holds no clock and no state; the store
// keeps builds, the gateway asks what is due.
package rebuild

import (
	"fmt"
	"net/url"
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
}

// The waits of a site that does not say.
const (
	DefaultQuiet   = 2 * time.Second
	DefaultAtMost  = 30 * time.Second
	DefaultTimeout = 10 * time.Minute
)

// MaxAttempts is how often a build's call is made, and how many builds may fail
// in a row before no further one is started by itself.
const MaxAttempts = 5

// File is the form of sites.yaml.
type File struct {
	Sites map[string]Site `yaml:"sites"`
}

// Check says everything that is wrong with the sites.
func Check(sites map[string]Site) error {
	var wrong []string
	for name, s := range sites {
		for what, address := range map[string]string{"address": s.Address, "build.call": s.callAddress(), "preview": s.Preview} {
			if address == "" && what != "address" {
				continue
			}
			if u, err := url.Parse(address); err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
				wrong = append(wrong, fmt.Sprintf("site %s: %s %q is no http address", name, what, address))
			}
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
}

// Build is one run of a site's rebuild, from its first request to its end.
type Build struct {
	ID     string `json:"id"` // the call's idempotency key
	Site   string `json:"site"`
	Number int64  `json:"number"` // rises by one per site
	State  State  `json:"state"`
	// Sequence is the lowest state of content that the build may read.
	Sequence int64   `json:"sequence"`
	Causes   []Cause `json:"causes"`
	Now      bool    `json:"now,omitempty"` // do not wait for further requests

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
}

// Request adds causes to the site's waiting build, which may be nil; the
// result is what waits now.
func Request(waiting *Build, causes []Cause, sequence int64, immediately bool, now time.Time) Build {
	b := Build{State: Waiting, FirstRequest: now}
	if waiting != nil {
		b = *waiting
	}
	b.LastRequest = now
	b.Sequence = max(b.Sequence, sequence)
	b.Now = b.Now || immediately
	b.Causes = append(b.Causes[:len(b.Causes):len(b.Causes)], causes...)
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
	return min(2*time.Second<<max(0, n-1), 2*time.Minute)
}
