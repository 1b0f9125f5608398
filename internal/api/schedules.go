package api

import "time"

// Schedule is something that will happen to an entry by itself.
type Schedule struct {
	ID     string `json:"id"`
	Entry  string `json:"entry"`
	Title  string `json:"title"`
	Type   string `json:"type"`
	Action string `json:"action"` // publish or unpublish
	// Locales it is for; none means all.
	Locales []string `json:"locales"`
	// Revision that is published: the newest when the schedule was made.
	Revision int       `json:"revision"`
	At       time.Time `json:"at"`
	// Zone is the time zone that At was given in, an IANA name.
	Zone     string     `json:"zone"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	State    string     `json:"state"` // pending, done, failed, cancelled
	Finished *time.Time `json:"finished"`
	// Detail says why it failed or is late, or who cancelled it.
	Detail string `json:"detail,omitempty"`
	// Late says that the moment of a pending schedule has come, and that it could not be
	// carried out so far; Tries how often that was tried, NextTry when it is next.
	Late    bool       `json:"late,omitempty"`
	Tries   int        `json:"tries,omitempty"`
	NextTry *time.Time `json:"nextTry,omitempty"`
}
