package rebuild

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"time"

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
	// KnownUpTo is of how many pages it is known what each is made of, and of three times as many
	// requests. Of a site with more, a change of any type that the others read makes all of it stale.
	// 0 means 100,000.
	KnownUpTo int `yaml:"knownUpTo" json:"knownUpTo,omitempty"`
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
	DefaultKnownUpTo   = 100_000
	DefaultPagesACall  = 200
	DefaultCallsAtOnce = 4
)

const (
	mostKnown       = 1_000_000
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

// File is the form of sites.yaml.
type File struct {
	Sites map[string]Site `yaml:"sites"`
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

// AnyNumber of stale pages is refreshed.
const AnyNumber = -1

// RefreshedUpTo is how many stale pages of the site are refreshed; if there are more, or what all
// of it is made of has changed, it is built. AnyNumber is that of a site that is never built by itself,
// and 0 that of one that is not refreshed.
func (s *Site) RefreshedUpTo() int {
	switch {
	case s.Refresh == nil:
		return 0
	case s.Build == nil || s.Build.OnlyWhenAsked:
		return AnyNumber
	}
	return cmp.Or(s.RefreshUpTo, DefaultRefreshUpTo)
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
	if s.KnownUpTo < 0 || s.KnownUpTo > mostKnown {
		add("knownUpTo: up to %d pages are known one by one, not %d", mostKnown, s.KnownUpTo)
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
