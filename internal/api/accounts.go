package api

import (
	"encoding/json"
	"time"

	"ubiquon/internal/core/access"
)

// Record is one line of the audit log.
type AuditRecord struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Kind    string    `json:"kind"`
	Address string    `json:"address,omitempty"`
	// What was done, in the words of the command line, as in entry publish.
	What string `json:"what"`
	// Subject is the id or name of what it was done to.
	Subject string          `json:"subject,omitempty"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
	// Previous is the digest of the line before, Hash that of this one: SHA-256 in
	// hexadecimal digits (see Store.VerifyAudit).
	Previous string `json:"previous,omitempty"`
	Hash     string `json:"hash,omitempty"`
}

// Filter narrows Acts; empty parts do not.
type AuditFilter struct {
	Who string
	// What is what was done, or its first word: entry, key.
	What    string
	Subject string
	// After and Until bound the time.
	After, Until time.Time
	// Below lists what came before the line with this id.
	Below int64
	Limit int // 0 means 100
}

// State is what verifying the audit log has found.
type AuditState struct {
	// Lines are how many there are, from First to Last.
	Lines       int64 `json:"lines"`
	First, Last int64 `json:"-"`
	// Hash is the digest of the newest line: kept elsewhere, it proves later that no line
	// up to there was changed or taken out.
	Hash string `json:"hash"`
	// Broken is the first line whose digest, or that of the line before, does not fit; 0 if
	// there is none.
	Broken int64 `json:"broken,omitempty"`
	// Contains tells whether a line has the digest that was asked for; nil if none was.
	Contains *bool `json:"contains,omitempty"`
}

// Account is a person who may sign in to the console.
type Account struct {
	ID       string      `json:"id"`
	Email    string      `json:"email"` // in small letters
	Name     string      `json:"name"`
	Role     access.Role `json:"role"`
	Created  time.Time   `json:"created"`
	By       string      `json:"by"`
	Disabled *time.Time  `json:"disabled"`
	SignedIn *time.Time  `json:"signedIn"` // last
	// HasPassword is false until a password was chosen.
	HasPassword bool `json:"hasPassword"`
	// Password is the argon2id hash, or empty.
	Password string `json:"-"`
}

// Session is somebody who is signed in.
type Session struct {
	ID      string   `json:"id"`
	Account *Account `json:"-"`
	// Address and Agent are where it was opened, and with what.
	Address string    `json:"address"`
	Agent   string    `json:"agent"`
	Created time.Time `json:"created"`
	Seen    time.Time `json:"seen"` // last, to a minute
	// Proved is when the password was last given.
	Proved  time.Time `json:"-"`
	Expires time.Time `json:"expires"`
}
