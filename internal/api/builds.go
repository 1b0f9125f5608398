package api

import (
	"time"

	"ubiquon/internal/core/rebuild"
)

// BuildFilter narrows ListBuilds; empty parts do not.
type BuildFilter struct {
	Site string
	// Event must be among the causes, or else Sequence.
	Event    string
	Sequence *int64
	Since    time.Time // requested no earlier
	Limit    int
}

// SiteInfo is a site with how it stands.
type SiteInfo struct {
	Name string `json:"name"`
	rebuild.Site
	Builds []rebuild.Build `json:"builds"` // the last ones, the newest first
}
