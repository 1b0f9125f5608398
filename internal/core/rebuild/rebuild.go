// Package rebuild turns requests for the rebuild of a site into builds: requests that come close
// together become one.
package rebuild

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"time"

	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/strictyaml"
)

// Site is a front end that is kept fresh.
type Site struct {
	// Address is where visitors find it.
	Address string `yaml:"address" json:"address"`
	// Off keeps it from being built and refreshed.
	Off     bool     `yaml:"off" json:"off,omitempty"`
	Build   *Call    `yaml:"build" json:"build,omitempty"`
	Refresh *Refresh `yaml:"refresh" json:"refresh,omitempty"`
	// RefreshUpTo is how many stale pages are refreshed of a site that has a build, too; if
	// there are more, all of it is built. 0 means 200.
	RefreshUpTo int `yaml:"refreshUpTo" json:"refreshUpTo,omitempty"`
	// Live has pages looked at, as visitors get them, until they show what has changed.
	Live *Live `yaml:"live" json:"live,omitempty"`
	// Preview is the address at which the site shows an entry in preview, with
	// {path}, {token} and {locale} in it.
	Preview string `yaml:"preview" json:"preview,omitempty"`
}

// Call says how a site's rebuild is asked for.
type Call struct {
	Call string `yaml:"call" json:"call"` // the address that is called with POST
	// Secret signs the call (Standard Webhooks): secret:NAME or env:NAME.
	Secret string `yaml:"secret" json:"secret,omitempty"`
	// Headers are sent with the call. Their values may be secret:NAME or env:NAME.
	Headers map[string]string `yaml:"headers" json:"headers,omitempty"`
	// Body is JSON that is sent instead of ours, with {build}, {number}, {site}, {sequence} and
	// {report} in its strings.
	Body string `yaml:"body" json:"body,omitempty"`
	// Quiet is how long no further request may come before the build starts.
	Quiet strictyaml.Duration `yaml:"quiet" json:"quiet,omitempty"`
	// AtMost bounds that wait, from the first request on.
	AtMost strictyaml.Duration `yaml:"atMost" json:"atMost,omitempty"`
	// Timeout is how long a build may run without reporting its end.
	Timeout strictyaml.Duration `yaml:"timeout" json:"timeout,omitempty"`
	// OnlyIfAffected has no build made when no page of the site is stale by what it is for, once
	// it is known what the pages are made of; the default is yes.
	OnlyIfAffected *bool `yaml:"onlyIfAffected" json:"onlyIfAffected,omitempty"`
	// OnlyWhenAsked leaves it to rules and people to ask for builds: a stale page alone does not.
	OnlyWhenAsked bool `yaml:"onlyWhenAsked" json:"onlyWhenAsked,omitempty"`
	// Reports says whether the builder reports how builds go: callback (the default), or
	// none. Of one that does not, a build counts as finished when it took the call.
	Reports string `yaml:"reports" json:"reports,omitempty" enum:"callback,none"`
}

// Refresh says how a site that renders on a server is told to render pages again.
type Refresh struct {
	Call   string `yaml:"call" json:"call"`
	Secret string `yaml:"secret" json:"secret,omitempty"`
	// AtMost is how many pages one call names; 0 means 200. AtOnce is how many calls are made at
	// the same time; 0 means 4.
	AtMost int `yaml:"atMost" json:"atMost,omitempty"`
	AtOnce int `yaml:"atOnce" json:"atOnce,omitempty"`
}

// Live says how it is found out when visitors get what has changed.
type Live struct {
	// Probe is pages: those that have become stale by a change are looked at, 20 of them at most.
	Probe string `yaml:"probe" json:"probe,omitempty" enum:"pages"`
	// Mark is the name of the meta element that says up to which sequence a page shows changes, unless the
	// header Ubiquon-Sequence does; empty for ubiquon-sequence.
	Mark string `yaml:"mark" json:"mark,omitempty"`
	// ExpectLive is after how long a change that is not seen is an event page-late; 0 means 5 minutes.
	ExpectLive strictyaml.Duration `yaml:"expectLive" json:"expectLive,omitempty"`
}

// What a site's Live means that does not say.
const (
	DefaultExpectLive = 5 * time.Minute
	DefaultMark       = "ubiquon-sequence"
	probePages        = "pages"
)

// The bounds of a site that does not say.
const (
	DefaultRefreshUpTo = 200
	DefaultPagesACall  = 200
	DefaultCallsAtOnce = 4
)

const (
	mostPagesACall  = 1000
	mostCallsAtOnce = 32
)

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
	maxLog = 200
)

// File is the form of sites.yaml.
type File struct {
	Sites map[string]Site `yaml:"sites"`
}

// Check returns everything that is wrong with a site, a line each.
func (s *Site) Check() (wrong []string) {
	add := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	for _, a := range s.addresses() {
		if a.address == "" && a.name != "address" {
			continue
		}
		if u, err := url.Parse(a.address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			add("%s: %q is no http address", a.name, a.address)
		}
	}
	if s.RefreshUpTo < 0 {
		add("refreshUpTo: it is less than 0")
	}
	if r := s.Refresh; r != nil && (r.AtMost < 0 || r.AtMost > mostPagesACall) {
		add("refresh.atMost: a call names up to %d pages, not %d", mostPagesACall, r.AtMost)
	}
	if r := s.Refresh; r != nil && (r.AtOnce < 0 || r.AtOnce > mostCallsAtOnce) {
		add("refresh.atOnce: up to %d calls are made at once, not %d", mostCallsAtOnce, r.AtOnce)
	}
	if l := s.Live; l != nil && l.Probe != "" && l.Probe != probePages {
		add("live.probe: %q is not known; it is %s", l.Probe, probePages)
	}
	if l := s.Live; l != nil && l.ExpectLive < 0 {
		add("live.expectLive: it is less than 0")
	}
	b := s.Build
	if b == nil {
		return wrong
	}
	if b.Reports != "" && b.Reports != ReportsCallback && b.Reports != ReportsNone {
		add("build.reports: %q is neither %s nor %s", b.Reports, ReportsCallback, ReportsNone)
	}
	if b.Quiet.Or(DefaultQuiet) > b.AtMost.Or(DefaultAtMost) {
		add("build.quiet: it is longer than build.atMost")
	}
	for name := range b.Headers {
		if canonical := http.CanonicalHeaderKey(name); slices.Contains(ownHeaders, canonical) ||
			!headerName.MatchString(name) {
			add("build.headers: %q cannot be set", name)
		}
	}
	if b.Body != "" {
		if !json.Valid([]byte(b.Body)) {
			add("build.body: it is no JSON")
		}
		for _, p := range placeholder.FindAllString(b.Body, -1) {
			if name := p[1 : len(p)-1]; !slices.Contains(bodyNames, name) {
				add("build.body: nothing is called %s%s", p, strictyaml.DidYouMean(name, bodyNames))
			}
		}
	}
	return wrong
}

// ownHeaders are those that a call sets itself.
var ownHeaders = []string{
	"Content-Type", "Content-Length", "Host", "Connection", "Transfer-Encoding", "Idempotency-Key", "Webhook-Id",
	"Webhook-Timestamp", "Webhook-Signature",
}

var (
	headerName  = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")
	placeholder = regexp.MustCompile(`\{[a-zA-Z.]+\}`)
	// bodyNames are the placeholders of Call.Body.
	bodyNames = []string{"build", "number", "report", "sequence", "site"}
)

// FillBody fills the placeholders of Call.Body.
func (c *Call) FillBody(values map[string]string) json.RawMessage {
	return json.RawMessage(placeholder.ReplaceAllStringFunc(c.Body, func(p string) string {
		quoted, _ := json.Marshal(values[p[1:len(p)-1]]) // text always can be
		return string(quoted[1 : len(quoted)-1])
	}))
}

type namedAddress struct{ name, address string }

func (s *Site) addresses() []namedAddress {
	out := []namedAddress{{"address", s.Address}, {"preview", s.Preview}}
	if s.Build != nil {
		out = append(out, namedAddress{"build.call", cmp.Or(s.Build.Call, "missing")})
	}
	if s.Refresh != nil {
		out = append(out, namedAddress{"refresh.call", cmp.Or(s.Refresh.Call, "missing")})
	}
	return out
}

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
