package api

import (
	"time"

	"ubiquon/internal/core/content"
)

// Referrer is an entry that refers to another one.
type Referrer struct {
	Entry string `json:"entry"`
	Type  string `json:"type"`
	Title string `json:"title"`
	Field string `json:"field"`
}

// Review is what somebody said of a revision before it was published.
type Review struct {
	Revision int       `json:"revision"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	What     string    `json:"what"` // submitted, approved, returned
	Remark   string    `json:"remark,omitempty"`
}

// EntryRecord is one entry with everything that is kept of it.
type EntryRecord struct {
	EntryInfo
	// Newest is the newest saved state, Shown what readers get.
	Newest content.Fields `json:"newest"`
	Shown  content.Fields `json:"shown"`
	// Revisions, the newest first, at most fifty, without their fields.
	Revisions []content.Revision `json:"revisions"`
	Reviews   []Review           `json:"reviews"`
	Schedules []Schedule         `json:"schedules"`
	// ReferredBy lists entries that refer to it, at most a hundred.
	ReferredBy []Referrer `json:"referredBy"`
	// FormerPaths are where it lived before.
	FormerPaths []string `json:"formerPaths"`
}

// Coverage is how much of one type is translated into one locale.
type Coverage struct {
	Type       string `json:"type"`
	Locale     string `json:"locale"`
	Translated int    `json:"translated"`
	Partly     int    `json:"partly"`
	FilledIn   int    `json:"filledIn"`
	Missing    int    `json:"missing"`
}

// EntryInfo is an entry as those who run the service see it.
type EntryInfo struct {
	content.Entry
	Title string        `json:"title"`
	State content.State `json:"state"`
	// Locales says, for each locale that the newest saved state can be read in,
	// whether it is translated, partly translated (the rest is filled in) or
	// wholly filled in from a fallback.
	Locales map[string]string `json:"locales"`
	// Live lists the locales that readers have it in, filled in ones not counted.
	Live []string `json:"live"`
	// Next is when the next schedule is due.
	Next *time.Time `json:"next"`
}

// EntryFilter narrows ListEntries; empty parts do not.
type EntryFilter struct {
	Type, Origin string
	// State; without one, retired entries are left out.
	State content.State
	// Search is looked for in title, slug and id, whatever the case.
	Search string
	// Missing is a locale in which something is not translated.
	Missing string
	// RefersTo is an entry that those listed refer to.
	RefersTo string
	IDs      []string
	// Types that it is narrowed to; nil means all.
	Types         []string
	Limit, Offset int
}

// Comparison is two states of an entry, and in what they differ.
type RevisionComparison struct {
	// From and To are revisions; 0 stands for what readers get.
	From        int                       `json:"from"`
	To          int                       `json:"to"`
	Differences []content.FieldDifference `json:"differences"`
}

// ImportProgress is how far an import has come.
type ImportProgress struct {
	// Line up to which everything is dealt with: go on behind it.
	Line int `json:"line"`
	// Written entries differ from what was held, Same do not.
	Written int `json:"written"`
	Same    int `json:"same"`
	Bad     int `json:"bad"`
	// BadLines are those since the last progress.
	BadLines []BadLine `json:"badLines,omitempty"`
	Done     bool      `json:"done,omitempty"`
}

// ImportOptions say how an import goes.
type ImportOptions struct {
	// Check reads everything and writes nothing.
	Check bool
	// After is the line that was dealt with last, by an earlier call.
	After int
	// StopAtBad ends the import at the first bad line.
	StopAtBad bool
}

// EntryDetail is everything to know about one entry.
type EntryDetail struct {
	EntryRecord
	// EditAt is where an entry of an outside origin is edited.
	EditAt  string           `json:"editAt,omitempty"`
	Changes []content.Change `json:"changes"`
	Events  []EventTrace     `json:"events"`
}
