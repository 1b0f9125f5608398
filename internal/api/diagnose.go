package api

import (
	"encoding/json"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/why"
)

// Backlog is what waits, is late, or has failed within a day.
type Backlog struct {
	WaitingEvents   int        `json:"waitingEvents"`
	WaitingSince    *time.Time `json:"waitingSince"` // the oldest of them
	FailedEvents    int        `json:"failedEvents"`
	RefusedEvents   int        `json:"refusedEvents"`
	LateSchedules   int        `json:"lateSchedules"`
	LateSince       *time.Time `json:"lateSince"`
	FailedSchedules int        `json:"failedSchedules"`
	WaitingBuilds   int        `json:"waitingBuilds"`
	FailingBuilds   int        `json:"failingBuilds"` // that wait because others before them have failed
	RulesBehind     int64      `json:"rulesBehind"`   // changes that no rule has looked at
}

// Problem is something that is wrong now, as an operator is told of it.
type ServiceProblem struct {
	What string `json:"what"`
	// Since when, if that is known.
	Since *time.Time `json:"since,omitempty"`
	// Mend is what to do: a command, or in words.
	Mend string `json:"mend,omitempty"`
}

// Simulation is a change that is supposed, and what it would do on this node.
type Simulation struct {
	What    string       `json:"what"`
	Changes int          `json:"changes"`
	Expires []CacheEntry `json:"expires"`
	Of      int          `json:"of"` // answers held
	// Rules says for each rule whether it would fire, or why not.
	Rules []RuleVerdict `json:"rules"`
	// Sites of which rules would ask for a build.
	Sites []string `json:"sites"`
	// Pages are those that may become stale, of each site that says what its pages read: what they
	// read is affected, whether they show other bytes is only known afterwards.
	Pages []AffectedPages `json:"pages"`
}

// RuleVerdict is what a rule makes of a change.
type RuleVerdict struct {
	Rule  string `json:"rule"`
	Fires bool   `json:"fires"`
	Why   string `json:"why,omitempty"`
}

// ChangeDetail is a change with what the rules made of it.
type ChangeDetail struct {
	content.Change
	Rules []RuleRun `json:"rules"`
}

// Status is how the service stands.
type Status struct {
	Environment string         `json:"environment"`
	Since       time.Time      `json:"since"`
	Sequence    int64          `json:"sequence"`
	Model       int64          `json:"modelVersion"`
	Cache       CacheStats     `json:"cache"`
	Requests    uint64         `json:"requests"`
	P50         float64        `json:"p50ms"` // of the last reads, in milliseconds
	P99         float64        `json:"p99ms"`
	Entries     map[string]int `json:"entries"`
	Origins     []OriginState  `json:"origins"`
	Sites       []SiteInfo     `json:"sites"`
	Events      []EventTrace   `json:"events"`
	Freshness   Freshness      `json:"freshness"`
	// Problems are what is wrong now.
	Problems []ServiceProblem `json:"problems"`
	Backlog  Backlog          `json:"backlog"`
}

// Freshness sums up how long the last publishes took, in milliseconds; nil
// without any.
type Freshness struct {
	Events   int      `json:"events"`
	Answer50 *float64 `json:"answerP50ms"` // published → expired
	Answer95 *float64 `json:"answerP95ms"`
	Built50  *float64 `json:"builtP50ms"` // published → built
	Built95  *float64 `json:"builtP95ms"`
}

// WhyAnswer is the answer to a Question.
type WhyAnswer struct {
	Reader  string `json:"reader"`
	Edition string `json:"edition"`
	Locale  string `json:"locale"`
	// Entry that it is about, nil if there is none.
	Entry *EntryInfo `json:"entry"`
	// Others have the same slug, in other types.
	Others []why.Near `json:"others,omitempty"`
	// Visible is true when there is no reason; the rest tells more then.
	Visible bool         `json:"visible"`
	Reasons []why.Reason `json:"reasons"`
	// Remarks say what of the entry is left out.
	Remarks []why.Reason `json:"remarks"`
	// Since is the change that brought what is seen.
	Since *VisibleSince `json:"since,omitempty"`
	// Cached are the answers in this node's cache that were made of it.
	Cached []CachedAnswer `json:"cached,omitempty"`
	// Pages show it, or what refers to it.
	Pages []ShowingPage `json:"pages,omitempty"`
}

// Since is when an entry became as it is seen.
type VisibleSince struct {
	Sequence int64     `json:"sequence"`
	At       time.Time `json:"at"`
	What     string    `json:"what"`
}

// CachedAnswer is an answer in the cache.
type CachedAnswer struct {
	// Asked is the request that it was first computed for.
	Asked    string `json:"asked"`
	Sequence int64  `json:"sequence"`
	Bytes    int    `json:"bytes"`
}

// ShowingPage is a page of a site that shows an entry: as the site has said what its pages read, or,
// where it has not, as the path of the entry has it.
type ShowingPage struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	Entry   string `json:"entry"`
	Title   string `json:"title"`
	// Read is when the page last read what it shows, if that is known; StaleSince is the change by
	// which it is stale, if it is.
	Read       *time.Time `json:"read,omitempty"`
	StaleSince *int64     `json:"staleSince,omitempty"`
}

// WhyQuestion asks why a reader cannot see an entry.
type WhyQuestion struct {
	// Entry is an id, slug or path.
	Entry string `json:"entry,omitempty"`
	Type  string `json:"type,omitempty"`
	// Key is an id, name or secret; empty: everyone.
	Key string `json:"key,omitempty"`
	// Edition is published (the default) or preview.
	Edition string `json:"edition,omitempty"`
	Locale  string `json:"locale,omitempty"`
	// Request is a read that was refused, or a list that the entry should be in: an address
	// below /content/, or from the plural on.
	Request string `json:"request,omitempty"`
}

// WriteRef names a write that goes on in the background.
type WriteRef struct {
	Write string `path:"write" json:"-"`
}

// writeState is what is said of a write in the background.
type WriteState struct {
	Write string `json:"write"`
	// State is running, done, failed, or lost: its node has ended, and with it what was
	// known of the write.
	State string `json:"state"`
	Since string `json:"since"`
	// Status and Answer are those of the answer to the request. An answer that is long, or
	// holds a secret, is left out.
	Status int             `json:"status,omitempty"`
	Answer json.RawMessage `json:"answer,omitempty"`
	Detail string          `json:"detail,omitempty"`
}
