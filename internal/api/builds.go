package api

import (
	"time"

	"ubiquon/internal/core/rebuild"
)

// BuildFilter narrows ListBuilds; empty parts do not.
type BuildFilter struct {
	Site string `query:"site" json:"-"`
	// Event must be among the causes, or else Sequence.
	Event    string `json:"-"`
	Sequence *int64 `json:"-"`
	// Since: requested no earlier.
	Since time.Time `json:"-"`
	// Limit is 50 if it is not given or more than 500.
	Limit int `query:"limit" json:"-"`
}

// SiteInfo is a site with how it stands.
type SiteInfo struct {
	Name string `json:"name"`
	rebuild.Site
	Builds []rebuild.Build `json:"builds"` // the last ones, the newest first
}

// SiteRebuild asks for a build of a site.
type SiteRebuild struct {
	Site string `path:"site" json:"-"`
	// Now does not wait for further requests.
	Now bool `json:"now,omitempty"`
}

// BuildRef names a build.
type BuildRef struct {
	ID string `path:"id" json:"-"`
}

// BuildReport is what a builder says of a build.
type BuildReport struct {
	BuildRef
	// State is started, finished or failed.
	State string `json:"state" enum:"started,finished,failed"`
	// Error is why it failed.
	Error string `json:"error,omitempty"`
}
