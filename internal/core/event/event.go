// Package event decodes the announcements of origins. It does not prove, store or process them.
package event

import "time"

// What an announcement may say of an entry.
const (
	Saved       = "saved"
	Published   = "published"
	Unpublished = "unpublished"
	Deleted     = "deleted"
	Ping        = "ping" // something changed, without saying what
)

// Kinds lists what an announcement may say.
var Kinds = []string{Saved, Published, Unpublished, Deleted, Ping}

// MaxBody is how many bytes an announcement may have.
const MaxBody = 1 << 20

// Decoded is an announcement in our words.
type Decoded struct {
	Kind string `json:"kind"`
	// OriginKind and Key are what the origin calls the entry's kind and the entry:
	// the two parts of a CloudEvents subject such as reports/R-1007.
	OriginKind string `json:"originKind,omitempty"`
	Key        string `json:"key,omitempty"`
	// At is when it happened, by the origin's clock; nil if it does not say.
	At *time.Time `json:"at,omitempty"`
}

// Announcement is one of the things that a call announces.
type Announcement struct {
	Decoded
	// ID is what the sender calls it, by which it is known when it comes again; empty for
	// none.
	ID string
	// Body is what of the call is about it.
	Body []byte
	// Unknown says, where it is not understood, why; it is kept, and nothing is done.
	Unknown string
}
