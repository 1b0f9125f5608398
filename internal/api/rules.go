package api

import (
	"time"

	"ubiquon/internal/core/rule"
)

// RuleState is a rule with how it stands.
type RuleState struct {
	rule.Rule
	Version int64     `json:"version"`
	By      string    `json:"by"`
	Changed time.Time `json:"changed"`
	// Broken says why it does not fit the model; it does not fire then.
	Broken string `json:"broken,omitempty"`
	// LastRun is the last one in which it fired.
	LastRun *RuleRun `json:"lastRun"`
	// Fired counts how often it has, as far as runs are kept.
	Fired int64 `json:"fired"`
	// Next is when it fires by itself; null: it does not.
	Next     *time.Time `json:"next"`
	Warnings []string   `json:"warnings"`
}

// The states of a run.
const (
	RunNotFired = "not fired"
	RunRunning  = "running"
	RunDone     = "done"
	RunFailed   = "failed"
)

// The states of a step.
const (
	// StepPending steps come after others.
	StepPending = "pending"
	StepWaiting = "waiting"
	StepRunning = "running"
	StepDone    = "done"
	StepFailed  = "failed"
	// StepSkipped steps came after one that has failed.
	StepSkipped = "skipped"
)

// RuleRun is what one rule made of one event.
type RuleRun struct {
	ID int64 `json:"id"`
	// Sequence of the change; 0 for a run of the clock, or of an event of the service.
	Sequence int64  `json:"sequence"`
	Rule     string `json:"rule"`
	// Version of the rule at that time.
	Version int64     `json:"version"`
	Event   string    `json:"event"`
	Entry   string    `json:"entry,omitempty"`
	Type    string    `json:"type,omitempty"`
	At      time.Time `json:"at"`
	Fired   bool      `json:"fired"`
	// Reason says why it did not fire, and names the property that decided.
	Reason string `json:"reason"`
	// State is not fired, running, done or failed.
	State string `json:"state"`
	// Steps are what came of those of the rule; none if it did not fire.
	Steps []StepRun `json:"steps"`
	// About is what happened, of a run that fired.
	About *rule.Occurrence `json:"about,omitempty"`
}

// StepRun is what came of one step.
type StepRun struct {
	Step  int    `json:"step"` // from 0
	Kind  string `json:"kind"`
	State string `json:"state"`
	// Attempts counts how often it was tried.
	Attempts int `json:"attempts"`
	// Due is when it is tried next, while it waits.
	Due      *time.Time `json:"due,omitempty"`
	Started  *time.Time `json:"started"`
	Finished *time.Time `json:"finished"`
	// Took is from the first try to the end, in milliseconds.
	Took *float64 `json:"tookMs"`
	// Result says what it did, Error why it failed.
	Result string `json:"result,omitempty"`
	Error  string `json:"error,omitempty"`
}

// RuleRunFilter narrows a list of runs; empty parts do not.
type RuleRunFilter struct {
	Rule     string `query:"rule"     json:"-"`
	Sequence int64  `query:"sequence" json:"-"`
	Entry    string `query:"entry"    json:"-"`
	// Outcome is fired, not-fired, running, done or failed.
	Outcome string `query:"outcome"  json:"-" enum:"fired,not-fired,running,done,failed"`
	// Before has only runs with a smaller id.
	Before int64 `query:"before"   json:"-"`
	// Limit is 50 if it is not given or more than 500.
	Limit int `query:"limit"    json:"-"`
}

// RuleRunRef names a run.
type RuleRunRef struct {
	ID int64 `path:"run" json:"-"`
}

// RuleRunAgain asks for a step that has failed to be tried again.
type RuleRunAgain struct {
	RuleRunRef
	// Step counts from 0; -1, the default, means the one that has failed.
	Step *int `json:"step,omitempty"`
}

// RuleTrial asks what a rule would make of something, without any effect. One of Event, Sequence
// and Entry says of what; none: of the last changes of content.
type RuleTrial struct {
	Name string `path:"name" json:"-"`
	// Rule is what is tried in place of the one that is kept, in the form of rules.yaml.
	Rule *rule.Rule `            json:"rule,omitempty"`
	// Event is the id of an announcement of an origin.
	Event string `            json:"event,omitempty"`
	// Sequence is the number of a change.
	Sequence int64 `            json:"sequence,omitempty"`
	// Entry, as it stands, and On, the event that is supposed of it; published if it is not
	// given.
	Entry string `            json:"entry,omitempty"`
	On    string `            json:"on,omitempty"`
}

// RuleTrialOutcome is what a rule would make of something.
type RuleTrialOutcome struct {
	// Trials are one for each change.
	Trials []RuleVerdictOn `json:"trials"`
	// Warnings are those of the rule.
	Warnings []string `json:"warnings"`
	// Problems are what is wrong with the rule that was sent; nothing is tried then.
	Problems []rule.Mistake `json:"problems"`
}

// RuleVerdictOn is what a rule would make of one change, with its steps as they would be done.
type RuleVerdictOn struct {
	About rule.Occurrence `json:"about"`
	rule.Decision
	Steps []StepPreview `json:"steps"`
}

// StepPreview is a step as it would be done.
type StepPreview struct {
	Kind string `json:"kind"`
	// Says what would be done, in a line.
	Says string `json:"says"`
	// Text is the mail's text, or the body of the call.
	Text string `json:"text,omitempty"`
}

// Vocabulary is the words that rules are written in.
type Vocabulary struct {
	// ContentEvents are what happens to entries, ServiceEvents what happens to the service.
	ContentEvents []string `json:"contentEvents"`
	ServiceEvents []string `json:"serviceEvents"`
	// Steps are the kinds of step.
	Steps []string `json:"steps"`
	// Properties are what conditions may name of an event; Fields are, by type, those of the
	// entry, written entry.FIELD and before.FIELD.
	Properties []string            `json:"properties"`
	Fields     map[string][]string `json:"fields"`
	// Placeholders may stand in texts, besides entry.FIELD and before.FIELD.
	Placeholders []string `json:"placeholders"`
}
