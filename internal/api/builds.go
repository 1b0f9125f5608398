package api

import (
	"time"

	"ubiquon/internal/core/rebuild"
)

// BuildFilter narrows ListBuilds; empty parts do not.
type BuildFilter struct {
	Site string `query:"site"  json:"-"`
	// Event must be among the causes, or else Sequence.
	Event    string `              json:"-"`
	Sequence *int64 `              json:"-"`
	// Since: requested no earlier.
	Since time.Time `              json:"-"`
	// Limit is 50 if it is not given or more than 500.
	Limit int `query:"limit" json:"-"`
}

// SiteInfo is a site with how it stands.
type SiteInfo struct {
	Name string `json:"name"`
	rebuild.Site
	// Version, By and Changed are those of its record: see Setting.
	Version int64           `json:"version"`
	By      string          `json:"by"`
	Changed time.Time       `json:"changed"`
	Builds  []rebuild.Build `json:"builds"` // the last ones, the newest first
	// Failing says how its builds fail; null: they do not.
	Failing *SiteFailure `json:"failing"`
	// Reads are the types that it has read with its key, as far as that is known.
	Reads []string `json:"reads"`
	// Liveness says how long it takes until visitors get changes; null for a site that is not probed.
	Liveness *Liveness `json:"liveness"`
}

// LiveFigures are times from when changes were stored until visitors got them, in milliseconds.
type LiveFigures struct {
	// Pages counts the looks at pages that found a change.
	Pages int     `json:"pages"`
	P50   float64 `json:"p50ms"`
	P95   float64 `json:"p95ms"`
	Worst float64 `json:"worstms"`
	// Late counts those that took longer than the site is expected to.
	Late int `json:"late"`
}

// Liveness is how long it takes until visitors of a site get changes: in the last 24 hours, and by day.
type Liveness struct {
	LiveFigures
	// Waiting counts changes on pages that were not seen so far, and Trouble says what one of those pages had.
	Waiting int       `json:"waiting"`
	Trouble string    `json:"trouble,omitempty"`
	Days    []LiveDay `json:"days"`
}

// LiveDay is a day, in UTC.
type LiveDay struct {
	Day string `json:"day"`
	LiveFigures
}

// LivePages are the pages on which a change was looked for.
type LivePages struct {
	Seen    int `json:"seen"`
	Waiting int `json:"waiting"`
	// Last is when it was seen on the last of them so far.
	Last *time.Time `json:"last"`
}

// SiteFailure is how the builds of a site fail.
type SiteFailure struct {
	Since time.Time `json:"since"`
	// Failures counts the builds that have failed in a row.
	Failures int    `json:"failures"`
	Error    string `json:"error"`
	// Mend is what to do.
	Mend string `json:"mend"`
}

// CallAnswer is what somebody answered who was called as a test.
type CallAnswer struct {
	Address string `json:"address"`
	// Status of the answer; 0 if there was none.
	Status int     `json:"status"`
	Text   string  `json:"text"`
	Error  string  `json:"error,omitempty"`
	TookMs float64 `json:"tookMs"`
}

// SiteRebuild asks for a build of a site.
type SiteRebuild struct {
	Site string `path:"site" json:"-"`
	// Now does not wait for further requests.
	Now bool `            json:"now,omitempty"`
}

// SiteRef names a site.
type SiteRef struct {
	Site string `path:"site" json:"-"`
}

// BuildRef names a build.
type BuildRef struct {
	ID string `path:"id" json:"-"`
}

// BuildReport is what a builder says of a build.
type BuildReport struct {
	BuildRef
	// State is started, finished or failed.
	State string `json:"state"           enum:"started,finished,failed"`
	// Error is why it failed.
	Error string `json:"error,omitempty"`
	// Link leads to the builder's own page of the build.
	Link string `json:"link,omitempty"`
	// Log are lines that are added to the build's log, 100 at most.
	Log []string `json:"log,omitempty"`
}
