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
	// Calls is how many calls the event stands for: pings that came before it was begun.
	Calls int `json:"calls"`
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
	// Live is when the last page that was looked at showed it; null while one does not, or none is looked at.
	Live *time.Time `json:"live"`
}

// EventTrace is an event with its way.
type EventTrace struct {
	Event
	Trace FreshnessTrace `json:"trace"`
	// Builds are those that the event asked for.
	Builds []rebuild.Build `json:"builds"`
	// Pages are those on which it was looked for, as visitors get them; null: on none.
	Pages *LivePages `json:"pages"`
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

// HookCapture keeps the next calls of a hook without acting on them.
type HookCapture struct {
	OriginRef
	// Minutes is for how long, 1 to 120; 0 ends it.
	Minutes int `json:"minutes"`
}

// CapturedCalls are the calls that were kept without acting on them, the newest first.
type CapturedCalls struct {
	// Until is when calls are acted on again; nil where they are already.
	Until *time.Time     `json:"until"`
	Items []CapturedCall `json:"items"`
}

// CapturedCall is a call of a hook as it came. What may prove its sender is left out of the headers.
type CapturedCall struct {
	ID      string            `json:"id"`
	Origin  string            `json:"origin"`
	At      time.Time         `json:"at"`
	Method  string            `json:"method"`
	Address string            `json:"address"` // of who called
	Header  map[string]string `json:"header"`
	Body    string            `json:"body"`
}

// HookTry is a call that is held against an origin's proof and decoding; nothing is kept or done.
type HookTry struct {
	OriginRef
	Header map[string]string `json:"header"`
	Body   string            `json:"body"`
	// Captured takes header and body of a call that was kept.
	Captured string `json:"captured,omitempty"`
	// Spec tries another configuration of the origin, which is not saved.
	Spec any `json:"spec,omitempty"`
}

// HookTried is what would become of a call.
type HookTried struct {
	// Proof names what proves calls, and Refused says which proof fails and how; empty for none.
	Proof   string `json:"proof"`
	Refused string `json:"refused,omitempty"`
	// Unreadable says why the body cannot be read.
	Unreadable string `json:"unreadable,omitempty"`
	// Announced is what it announces.
	Announced []HookAnnounced `json:"announced"`
}

// HookAnnounced is one of the things that a call announces.
type HookAnnounced struct {
	event.Decoded
	MessageID string `json:"messageId,omitempty"`
	// Type is ours for the origin's kind; Unknown says why it is not understood.
	Type    string `json:"type,omitempty"`
	Unknown string `json:"unknown,omitempty"`
}
