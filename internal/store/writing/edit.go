package writing

import (
	"errors"
	"time"

	"ubiquon/internal/core/content"
)

// Live says what an Edit does to what readers see.
type Live int

// What an Edit may do to what readers see.
const (
	KeepLive      Live = iota // nothing
	PublishNewest             // publish the newest saved state
	PublishGiven              // publish Edit.Published
	TakeBack                  // unpublish
)

// Edit is what one write does to one entry.
type Edit struct {
	ID string
	// Type, Origin and the next two matter when the entry is new.
	Type, Origin, OriginKey string
	// OriginVersion, if not empty, makes the edit do nothing when the entry is
	// held at a later version already.
	OriginVersion string
	// Save, if not nil, becomes the newest saved state.
	Save content.Fields
	// Message is what its writer says of the saved state.
	Message string
	// Restore saves the state of an earlier revision again.
	Restore int
	// Discard saves what readers get again, so that the draft is gone.
	Discard bool
	Live    Live
	// Locales that PublishNewest and TakeBack are for; nil means all.
	Locales []string
	// PublishRevision, if not 0, is what PublishNewest publishes instead of the
	// newest.
	PublishRevision int
	// Published is what PublishGiven publishes.
	Published content.Fields
	// PublishedAt is when its origin published it, FirstPublishedAt when for the
	// first time; nil means now.
	PublishedAt, FirstPublishedAt *time.Time
	// Review, if not empty, is what is said of the newest revision, with a remark.
	Review, Remark string
	// Retire keeps the entry, and shows it to nobody. Saving brings it back.
	Retire bool
	Delete bool
	// Withhold shows an entry that is new here to no reader before it is published.
	Withhold bool
	// EvenIfReferred deletes or retires an entry that others refer to.
	EvenIfReferred bool
	// Loose accepts references to entries that are not there, or not yet.
	Loose bool
	// IfRevision, if not 0, refuses the edit when the newest revision is another.
	IfRevision int
	// History are earlier revisions that an entry that is new here had elsewhere,
	// the oldest first.
	History []content.Revision
	// Schedule is the id of the pending schedule that the edit carries out.
	Schedule string
}

// Applied is the outcome of Apply.
type Applied struct {
	// Sequence is the number of the last change made; 0 when no reader could see
	// a difference.
	Sequence int64
	At       time.Time
	Changes  []content.Change
	// Took is how long the transaction was open.
	Took time.Duration
	// Unproven says that it is stored, and that the node it was written on has not applied
	// it so far.
	Unproven bool
	// Revisions has the newest revision of each entry, by id.
	Revisions map[string]int
}

// ErrScheduleGone is the error of carrying out a schedule that somebody else has
// carried out, or that was cancelled.
var ErrScheduleGone = errors.New("the schedule is not pending any more")
