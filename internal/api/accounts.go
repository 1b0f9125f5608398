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
	// Who did it.
	Who string `query:"who"     json:"-"`
	// What is what was done, or its first word: entry, key.
	What string `query:"what"    json:"-"`
	// Subject is the id or name of what it was done to.
	Subject string `query:"subject" json:"-"`
	// Filter is in CQL2, on who, kind, what, subject, address and at.
	Filter string `query:"filter"  json:"-"`
	// After and Until bound the time.
	After time.Time `query:"after"   json:"-"`
	Until time.Time `query:"until"   json:"-"`
	// Below lists what came before the line with this id.
	Below int64 `query:"below"   json:"-"`
	// Limit is 100 if it is not given; exports have no limit then.
	Limit int `query:"limit"   json:"-"`
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
	// Notify says how the account is told of what by mail.
	Notify NotificationSettings `json:"notify"`
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

// AccountRef names an account by e-mail address or id.
type AccountRef struct {
	Account string `path:"account" json:"-"`
}

// SignIn is a request to sign in.
type SignIn struct {
	Email    string `json:"email"`
	Password string `json:"password"`
}

// SignedOut is the answer to signing out.
type SignedOut struct {
	SignedOut bool `json:"signedOut"`
}

// Identity is who makes a request, and what the console offers to them.
type Identity struct {
	Kind        access.Kind `json:"kind"`
	Name        string      `json:"name"`
	Environment string      `json:"environment"`
	Grants      []string    `json:"grants"`
	// May says whether write, publish and administer are allowed on one type at least.
	May map[string]bool `json:"may"`
}

// Welcome uses the link that was made for an account. Without a password it only asks whose
// link it is; with one, the password is set and the account signed in.
type Welcome struct {
	// Link is the part of the link's address after the #.
	Link string `json:"link"`
	// Email and Name are for the first account alone.
	Email    string `json:"email,omitempty"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
}

// LinkOwner says whose link it is.
type LinkOwner struct {
	// First is true when the link makes the first account.
	First bool   `json:"first"`
	Email string `json:"email,omitempty"`
	Name  string `json:"name,omitempty"`
}

// Sessions are the sessions of an account.
type Sessions struct {
	Items []Session `json:"items"`
	// Here is the id of the session that asks.
	Here string `json:"here"`
}

// SessionRef names a session.
type SessionRef struct {
	Session string `path:"session" json:"-"`
}

// Ended is the answer to ending a session.
type Ended struct {
	Ended bool `json:"ended"`
}

// PasswordProof gives the password again.
type PasswordProof struct {
	Password string `json:"password"`
}

// Proved is the answer to a password that is right.
type Proved struct {
	Proved bool `json:"proved"`
}

// PasswordChange sets a new password.
type PasswordChange struct {
	// Password is the present one.
	Password string `json:"password"`
	// New has 12 characters at least.
	New string `json:"new"`
}

// PasswordChanged is the answer to a changed password.
type PasswordChanged struct {
	Changed bool `json:"changed"`
}

// NewAccount is an account that is to be made.
type NewAccount struct {
	Email string      `json:"email"`
	Name  string      `json:"name,omitempty"`
	Role  access.Role `json:"role"`
	// Password is left out to get a link at which one is chosen.
	Password string `json:"password,omitempty"`
}

// AccountChange changes those properties of an account that are given.
type AccountChange struct {
	AccountRef
	Name     *string      `json:"name,omitempty"`
	Role     *access.Role `json:"role,omitempty"`
	Disabled *bool        `json:"disabled,omitempty"`
}

// AccountLink is an account and the address at which its password is chosen.
type AccountLink struct {
	Account *Account `json:"account" nullable:"false"`
	// Link is empty for an account that was made with a password. It is good once, for a
	// week.
	Link string `json:"link"`
}

// AuditCheck asks whether the audit log is whole.
type AuditCheck struct {
	// Contains is a digest that a line should have.
	Contains string `query:"contains" json:"-"`
}
