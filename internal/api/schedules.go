package api

import "time"

// Schedule is something that will happen to an entry by itself.
type Schedule struct {
	ID     string `json:"id"`
	Entry  string `json:"entry"`
	Title  string `json:"title"`
	Type   string `json:"type"`
	Action string `json:"action"            enum:"publish,unpublish"` // publish or unpublish
	// Locales it is for; null means all.
	Locales []string `json:"locales"                                                nullable:"true"`
	// Revision that is published: the newest when the schedule was made.
	Revision int       `json:"revision"`
	At       time.Time `json:"at"`
	// Zone is the time zone that At was given in, an IANA name.
	Zone     string     `json:"zone"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	State    string     `json:"state"             enum:"pending,done,failed,cancelled"` // pending, done, failed, cancelled
	Finished *time.Time `json:"finished"`
	// Detail says why it failed or is late, or who cancelled it.
	Detail string `json:"detail,omitempty"`
	// Late says that the time of a pending schedule has come, and that it could not be
	// carried out so far; Tries how often that was tried, NextTry when it is next.
	Late    bool       `json:"late,omitempty"`
	Tries   int        `json:"tries,omitempty"`
	NextTry *time.Time `json:"nextTry,omitempty"`
}

// ScheduleRef names a schedule.
type ScheduleRef struct {
	ID string `path:"id" json:"-"`
}

// ScheduleFilter says which schedules are listed.
type ScheduleFilter struct {
	// State is pending, done, failed or cancelled.
	State string `query:"state" json:"-"`
	// Limit is 200 if it is not given, and 1000 at most.
	Limit int `query:"limit" json:"-"`
}

// NewSchedule has an entry published or unpublished at a time.
type NewSchedule struct {
	Entry string `json:"entry"`
	// Action is publish or unpublish.
	Action string `json:"action"            enum:"publish,unpublish"`
	// At is in RFC 3339, or a local time in the zone.
	At string `json:"at"`
	// Zone is an IANA name.
	Zone string `json:"zone,omitempty"`
	// Locales it is for; none means all.
	Locales []string `json:"locales,omitempty"`
}

// NewSchedules has several entries published or unpublished at one time, all or none.
type NewSchedules struct {
	// Entries are the ids of 1 to 500 entries.
	Entries []string `json:"entries"`
	// Action is publish or unpublish.
	Action string `json:"action"            enum:"publish,unpublish"`
	// At is in RFC 3339, or a local time in the zone.
	At string `json:"at"`
	// Zone is an IANA name.
	Zone string `json:"zone,omitempty"`
	// Locales it is for; none means all.
	Locales []string `json:"locales,omitempty"`
}

// ScheduleMove gives a pending schedule another time.
type ScheduleMove struct {
	ScheduleRef
	At   string `json:"at"`
	Zone string `json:"zone,omitempty"`
}

// Cancelled is the answer to a cancelled schedule.
type Cancelled struct {
	Cancelled bool `json:"cancelled"`
}
