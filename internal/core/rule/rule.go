// Package rule is the language of rules: on these events, when this condition holds, do these
// steps. It checks rules, decides whether one fires, and says what decided when it does not. It
// reads and writes nothing.
package rule

import (
	"encoding/json"
	"fmt"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
)

// Rule is: on these events, when the condition holds, do these steps in order. Or, with At, at
// these times.
type Rule struct {
	// Name is unique among the rules of an environment.
	Name        string `yaml:"name"        json:"name,omitempty"`
	Description string `yaml:"description" json:"description,omitempty"`
	// Off keeps the rule from firing.
	Off bool `yaml:"off"         json:"off,omitempty"`
	// On names the events that the rule is for: see ContentEvents and ServiceEvents.
	On []string `yaml:"on"          json:"on,omitempty"`
	// At is when the rule fires by itself: a cron line of five fields (minute, hour, day of the
	// month, month, day of the week) in the time zone Zone, an IANA name, default UTC.
	At   string `yaml:"at"          json:"at,omitempty"`
	Zone string `yaml:"zone"        json:"zone,omitempty"`
	// Types that the rule is for; none means every type.
	Types []string `yaml:"types"       json:"types,omitempty"`
	// When is the condition, in the filter language (CQL2 text), over the properties of an
	// Occurrence: type, locales, changed, by, role, origin, event, subject, entry.FIELD and
	// before.FIELD. entry is what it is now or, where it is gone, what it was.
	When string `yaml:"when"        json:"when,omitempty"`
	Do   []Step `yaml:"do"          json:"do"`
}

// Step is one thing that a rule does; exactly one of the pointers is set.
type Step struct {
	Rebuild   *Rebuild  `yaml:"rebuild"   json:"rebuild,omitempty"`
	Refresh   *Refresh  `yaml:"refresh"   json:"refresh,omitempty"`
	Purge     *Purge    `yaml:"purge"     json:"purge,omitempty"`
	Warm      *Warm     `yaml:"warm"      json:"warm,omitempty"`
	Mail      *Mail     `yaml:"mail"      json:"mail,omitempty"`
	Call      *Call     `yaml:"call"      json:"call,omitempty"`
	Publish   *Which    `yaml:"publish"   json:"publish,omitempty"`
	Unpublish *Which    `yaml:"unpublish" json:"unpublish,omitempty"`
	Schedule  *Schedule `yaml:"schedule"  json:"schedule,omitempty"`
	Wait      *Wait     `yaml:"wait"      json:"wait,omitempty"`
	// Else says what happens after the step has failed for good: stop (the default), or
	// continue with the next one.
	Else string `yaml:"else"      json:"else,omitempty"      enum:"stop,continue"`
}

// The values of Step.Else.
const (
	Stop     = "stop"
	Continue = "continue"
)

// The kinds of step.
const (
	KindRebuild   = "rebuild"
	KindRefresh   = "refresh"
	KindPurge     = "purge"
	KindWarm      = "warm"
	KindMail      = "mail"
	KindCall      = "call"
	KindPublish   = "publish"
	KindUnpublish = "unpublish"
	KindSchedule  = "schedule"
	KindWait      = "wait"
)

// StepKinds lists the kinds of step, as they are written.
var StepKinds = []string{
	KindRebuild, KindRefresh, KindPurge, KindWarm, KindMail, KindCall, KindPublish, KindUnpublish, KindSchedule,
	KindWait,
}

// Kinds returns the kinds that are set in the step: exactly one where it is sound.
func (s *Step) Kinds() (out []string) {
	for i, set := range []bool{
		s.Rebuild != nil, s.Refresh != nil, s.Purge != nil, s.Warm != nil, s.Mail != nil, s.Call != nil,
		s.Publish != nil, s.Unpublish != nil, s.Schedule != nil, s.Wait != nil,
	} {
		if set {
			out = append(out, StepKinds[i])
		}
	}
	return out
}

// Kind returns the kind of a sound step.
func (s *Step) Kind() string {
	if kinds := s.Kinds(); len(kinds) > 0 {
		return kinds[0]
	}
	return ""
}

// Site returns the site that the step is about; empty for none.
func (s *Step) Site() string {
	switch {
	case s.Rebuild != nil:
		return s.Rebuild.Site
	case s.Refresh != nil:
		return s.Refresh.Site
	}
	return ""
}

// Writes reports whether the step changes content.
func (s *Step) Writes() bool { return s.Publish != nil || s.Unpublish != nil || s.Schedule != nil }

// Rebuild asks for a build of a site. Now skips the wait for more changes.
type Rebuild struct {
	Site string `yaml:"site" json:"site"`
	Now  bool   `yaml:"now"  json:"now,omitempty"`
}

// Refresh has a site that is rendered on a server render pages again. Without pages these are
// the paths of the entry, before and after.
type Refresh struct {
	Site string `yaml:"site"  json:"site"`
	// Pages are paths, which may have placeholders in them; * alone means all pages.
	Pages []string `yaml:"pages" json:"pages,omitempty"`
}

// Purge throws cached responses of all nodes away: those that show one of the types or, with
// Filter, an entry that it is true of. Without both it is all of them.
type Purge struct {
	Types  []string `yaml:"types"  json:"types,omitempty"`
	Filter string   `yaml:"filter" json:"filter,omitempty"`
}

// AllPages is what stands for all pages of a site.
const AllPages = "*"

// Warm computes responses before anybody asks for them.
type Warm struct {
	// Requests are written from the edition on, as in /notices?limit=3.
	Requests []string `yaml:"requests" json:"requests,omitempty"`
	// Hottest is how many of the most frequent requests are computed besides.
	Hottest int `yaml:"hottest"  json:"hottest,omitempty"`
}

// Mail sends a message. Subject and Text may have placeholders in them.
type Mail struct {
	// To are addresses, role:NAME for everybody who has the role, and target:NAME.
	To      []string `yaml:"to"      json:"to"`
	Subject string   `yaml:"subject" json:"subject"`
	Text    string   `yaml:"text"    json:"text,omitempty"`
}

// Call calls an address with POST: with a CloudEvent, or with Body, JSON with placeholders.
type Call struct {
	Address string `yaml:"address" json:"address"`
	// Secret signs the call (Standard Webhooks): secret:NAME or env:NAME.
	Secret string `yaml:"secret"  json:"secret,omitempty"`
	Body   string `yaml:"body"    json:"body,omitempty"`
}

// Which says which entries a step is about: the entry that the event is about, written this, or
// those that a filter is true of.
type Which struct {
	This bool
	// Filter is in the filter language; type = 'NAME' must be among what it joins with AND.
	Filter string
}

type whichForm struct {
	Filter string `yaml:"filter" json:"filter"`
}

const this = "this"

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (w *Which) UnmarshalYAML(node ast.Node) error {
	if text, ok := node.(*ast.StringNode); ok {
		if text.Value != this {
			return fmt.Errorf("%q: write this, or {filter: …}", text.Value)
		}
		w.This = true
		return nil
	}
	var form whichForm
	if err := yaml.NodeToValue(node, &form, yaml.Strict()); err != nil {
		return err
	}
	if w.Filter = form.Filter; w.Filter == "" {
		return fmt.Errorf("write this, or {filter: …}")
	}
	return nil
}

// MarshalJSON implements json.Marshaler.
func (w Which) MarshalJSON() ([]byte, error) {
	if w.This {
		return json.Marshal(this)
	}
	return json.Marshal(whichForm{w.Filter})
}

// UnmarshalJSON implements json.Unmarshaler.
func (w *Which) UnmarshalJSON(src []byte) error {
	var text string
	if json.Unmarshal(src, &text) == nil {
		w.This = text == this
		return nil
	}
	var form whichForm
	err := json.Unmarshal(src, &form)
	w.Filter = form.Filter
	return err
}

// String returns the form in which it is written.
func (w Which) String() string {
	if w.This {
		return this
	}
	return w.Filter
}

// Schedule has entries published or unpublished after a span of time.
type Schedule struct {
	Of Which `yaml:"of"     json:"of"`
	// Action is publish or unpublish.
	Action string              `yaml:"action" json:"action" enum:"publish,unpublish"`
	In     strictyaml.Duration `yaml:"in"     json:"in"`
}

// Wait puts off the steps that follow.
type Wait struct {
	For strictyaml.Duration `yaml:"for" json:"for"`
}

// File is the form of rules.yaml.
type File struct {
	Rules []Rule `yaml:"rules"`
}

// The events that a rule may be for.
const (
	Saved      = "saved"
	Submitted  = content.Submitted
	Approved   = content.Approved
	Returned   = content.Returned
	Published  = "published"
	Unpublish  = "unpublished"
	Deleted    = "deleted"
	Moved      = content.Moved
	HandedIn   = "submission-received"
	BuildFails = "build-failed"
	SiteFails  = "site-failing"
	SiteBack   = "site-recovered"
	HookFails  = "hook-refused"
	OriginDown = "origin-silent"
	OriginBack = "origin-back"
	LateFails  = "schedule-failed"
	NodeLost   = "node-lost"
	PageLate   = "page-late"
	// Clock is the event of a rule that fires by itself. It is not written in On.
	Clock = "clock"
)

// ContentEvents are what happens to entries.
var ContentEvents = []string{
	Saved, Submitted, Approved, Returned, Published, Unpublish, Deleted, Moved, HandedIn,
}

// ServiceEvents are what happens to the service itself.
var ServiceEvents = []string{
	BuildFails, SiteFails, SiteBack, HookFails, OriginDown, OriginBack, LateFails, NodeLost, PageLate,
}

// Events lists all events that a rule may be for.
func Events() []string { return slices.Concat(ContentEvents, ServiceEvents) }

// MaxChain is how many rules may follow from one another: the change that the last of them
// makes sets off no rule.
const MaxChain = 8
