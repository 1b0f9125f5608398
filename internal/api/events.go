package api

import (
	"time"

	"ubiquon/internal/core/event"
	"ubiquon/internal/core/rebuild"
)

// Event is one announcement as it arrived, with what became of it.
type Event struct {
	ID          string         `json:"id"`
	Origin      string         `json:"origin"`
	MessageID   string         `json:"messageId"`
	ContentType string         `json:"contentType"`
	Body        []byte         `json:"-"`
	Received    time.Time      `json:"received"`
	State       string         `json:"state"`
	Detail      string         `json:"detail"`
	Decoded     *event.Decoded `json:"decoded"`
	Entry       string         `json:"entry,omitempty"`
	Title       string         `json:"title,omitempty"`
	Type        string         `json:"type,omitempty"`
	// Sequence of the last change that the event made, nil when it made none.
	Sequence *int64     `json:"sequence"`
	Stored   *time.Time `json:"stored"`
	Expired  *time.Time `json:"expired"`
	Attempts int        `json:"attempts"`
}

// EventFilter narrows ListEvents; empty parts do not.
type EventFilter struct {
	State string `query:"state"  json:"-"`
	// Entry that the events are about.
	Entry string `query:"entry"  json:"-"`
	// Filter is in CQL2, on origin, state, kind, type, title, entry, detail, sequence and
	// received.
	Filter string `query:"filter" json:"-"`
	// Before lists what was accepted before the event of this id.
	Before string `query:"before" json:"-"`
	// Limit is 50 if it is not given or more than 500.
	Limit int `query:"limit"  json:"-"`
}

// Trace says when a publish reached each step on its way to visitors; nil for
// a step that it has not reached, or has no need of.
type FreshnessTrace struct {
	Published *time.Time `json:"published"` // by the origin's clock
	Accepted  *time.Time `json:"accepted"`
	Stored    *time.Time `json:"stored"`
	Expired   *time.Time `json:"expired"`
	Called    *time.Time `json:"called"` // the first build that has it
	Built     *time.Time `json:"built"`
}

// EventTrace is an event with its way.
type EventTrace struct {
	Event
	Trace FreshnessTrace `json:"trace"`
	// Builds are those that the event asked for.
	Builds []rebuild.Build `json:"builds"`
}

// EventDetail is an event with everything that came of it.
type EventDetail struct {
	EventTrace
	Body  string    `json:"body"`
	Rules []RuleRun `json:"rules"`
}

// EventRef names an event.
type EventRef struct {
	ID string `path:"id" json:"-"`
}
