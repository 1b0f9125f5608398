package api

import (
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// Referrer is an entry that refers to another one.
type Referrer struct {
	Entry string `json:"entry"`
	Type  string `json:"type"`
	Title string `json:"title"`
	Field string `json:"field"`
}

// Review is what somebody said of a revision before it was published.
type Review struct {
	Revision int       `json:"revision"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	What     string    `json:"what"` // submitted, approved, returned
	Remark   string    `json:"remark,omitempty"`
}

// EntryRecord is one entry with everything that is kept of it.
type EntryRecord struct {
	EntryInfo
	// Newest is the newest saved state, Shown what readers get.
	Newest content.Fields `json:"newest"`
	Shown  content.Fields `json:"shown"       nullable:"true"`
	// Revisions, the newest first, at most fifty, without their fields.
	Revisions []content.Revision `json:"revisions"`
	Reviews   []Review           `json:"reviews"`
	Schedules []Schedule         `json:"schedules"`
	// ReferredBy lists entries that refer to it, at most 200.
	ReferredBy []Referrer `json:"referredBy"`
	// FormerPaths are where it lived before.
	FormerPaths []string `json:"formerPaths"`
}

// Coverage is how much of one type is translated into one locale.
type Coverage struct {
	Type       string `json:"type"`
	Locale     string `json:"locale"`
	Translated int    `json:"translated"`
	Partly     int    `json:"partly"`
	FilledIn   int    `json:"filledIn"`
	Missing    int    `json:"missing"`
}

// EntryInfo is an entry as those who run the service see it.
type EntryInfo struct {
	content.Entry
	Title string        `json:"title"`
	State content.State `json:"state"`
	// Locales says, for each locale that the newest saved state can be read in,
	// whether it is translated, partly translated (the rest is filled in) or
	// wholly filled in from a fallback.
	Locales map[string]string `json:"locales"`
	// Live lists the locales that readers have it in, filled in ones not counted.
	Live []string `json:"live"`
	// Next is when the next schedule is due.
	Next *time.Time `json:"next"`
}

// EntryFilter narrows ListEntries; empty parts do not.
type EntryFilter struct {
	Type   string `query:"type"     json:"-"`
	Origin string `query:"origin"   json:"-"`
	// State; without one, retired entries are left out.
	State content.State `query:"state"    json:"-"`
	// Search is looked for in title, slug and id, whatever the case.
	Search string `query:"search"   json:"-"`
	// Missing is a locale in which something is not translated.
	Missing string `query:"missing"  json:"-"`
	// RefersTo is an entry that those listed refer to.
	RefersTo string `query:"refersTo" json:"-"`
	// Filter is in CQL2, on the drafts of the entries of Type, in Locale.
	Filter string `query:"filter"   json:"-"`
	// Locale that Filter reads; without one, the default locale.
	Locale string `query:"locale"   json:"-"`
	// Sort is title, type, origin, updated or published, with - before it for descending;
	// without one, -updated.
	Sort string `query:"sort"     json:"-" enum:"title,-title,type,-type,origin,-origin,updated,-updated,published,-published"`
	// IDs of the entries, separated by commas.
	IDs []string `query:"ids"      json:"-"`
	// AnyType are types, separated by commas, of which the entries are of one; none means all.
	AnyType []string `query:"types"    json:"-"`
	// Types that it is narrowed to by grants; nil means all.
	Types []string `                 json:"-"`
	// Limit is 50 if it is not given or more than 500.
	Limit  int `query:"limit"    json:"-"`
	Offset int `query:"offset"   json:"-"`
}

// Comparison is two states of an entry, and in what they differ.
type RevisionComparison struct {
	// From and To are revisions; 0 stands for what readers get.
	From        int                       `json:"from"`
	To          int                       `json:"to"`
	Differences []content.FieldDifference `json:"differences"`
}

// ImportProgress is how far an import has come.
type ImportProgress struct {
	// Line up to which everything is dealt with: go on behind it.
	Line int `json:"line"`
	// Written entries differ from what was held, Same do not.
	Written int `json:"written"`
	Same    int `json:"same"`
	Bad     int `json:"bad"`
	// BadLines are those since the last progress.
	BadLines []BadLine `json:"badLines,omitempty"`
	Done     bool      `json:"done,omitempty"`
}

// ImportOptions say how an import goes.
type ImportOptions struct {
	// Check reads everything and writes nothing.
	Check bool `query:"check" json:"-"`
	// After is the line that was dealt with last, by an earlier call.
	After int `query:"after" json:"-"`
	// Bad says what happens at a line that is not good: skip (the default) or stop.
	Bad string `query:"bad"   json:"-" enum:"skip,stop"`
}

// EntryDetail is everything to know about one entry.
type EntryDetail struct {
	EntryRecord
	// EditAt is where an entry of an outside origin is edited.
	EditAt  string           `json:"editAt,omitempty"`
	Changes []content.Change `json:"changes"`
	Events  []EventTrace     `json:"events"`
}

// EntryRef names an entry by its id.
type EntryRef struct {
	ID string `path:"id" json:"-"`
}

// Edit is one edit of an entry that is written in the service itself: what is saved, and what
// is done then.
type Edit struct {
	// ID is left out for a new entry, which gets one.
	ID   string `json:"id,omitempty"`
	Type string `json:"type,omitempty"`
	// Save is the whole of the fields.
	Save    content.Fields `json:"save,omitempty"`
	Message string         `json:"message,omitempty"`
	// Do is publish, unpublish, discard, restore, submit, approve, return, retire or delete.
	Do string `json:"do,omitempty"             enum:"publish,unpublish,discard,restore,submit,approve,return,retire,delete"`
	// Locales that publish and unpublish are for; none means all.
	Locales []string `json:"locales,omitempty"`
	// Revision that restore saves again, or publish publishes; 0 is the newest.
	Revision int `json:"revision,omitempty"`
	// Remark is for submit, approve and return.
	Remark string `json:"remark,omitempty"`
	// EvenIfReferred deletes or retires what others refer to.
	EvenIfReferred bool `json:"evenIfReferred,omitempty"`
	// IfRevision refuses the edit when the newest revision is another.
	IfRevision int `json:"ifRevision,omitempty"`
}

// Edits are carried out together: all or none.
type Edits struct {
	// Edits are 1 to 200.
	Edits []Edit `json:"edits"`
}

// EntrySave is an edit of the entry that the address names.
type EntrySave struct {
	// Entry is the entry's id.
	Entry string `path:"id" json:"-"`
	Edit
}

// EditOutcome is what edits came to.
type EditOutcome struct {
	// Sequence of the last change, 0 if no reader could see a difference.
	Sequence int64         `json:"sequence"`
	Changes  int           `json:"changes"`
	Entries  []EditedEntry `json:"entries"`
	// Warnings tell of what is stored, and not delivered as it is.
	Warnings content.Problems `json:"warnings,omitempty"`
	// Confirmed says, to a request with Prefer: wait, whether every node has applied it.
	Confirmed *bool `json:"confirmed,omitempty"`
	// Unconfirmed are the nodes that have not applied it yet, as far as is known.
	Unconfirmed []string `json:"unconfirmed,omitempty"`
	// Pages are, to such a request, those of sites that keep a ledger and may get other bytes by it.
	Pages []AffectedPages `json:"pages,omitempty"`
}

// EditedEntry is an entry that an edit was about.
type EditedEntry struct {
	ID string `json:"id"`
	// Revision is the newest one; 0 when the entry is gone.
	Revision int `json:"revision"`
}

// StatusCode is 202 for an edit that is stored, and not known to be served by every node.
func (o EditOutcome) StatusCode() int {
	if o.Confirmed != nil && !*o.Confirmed {
		return 202
	}
	return 200
}

// RevisionNumber is the entry's entity tag.
func (e EntryDetail) RevisionNumber() int { return e.Revision }

// RevisionRef names a revision of an entry.
type RevisionRef struct {
	EntryRef
	Number int `path:"number" json:"-"`
}

// RevisionRange names two revisions of an entry. A from of 0 is what readers get.
type RevisionRange struct {
	EntryRef
	From int `query:"from" json:"-"`
	// To is the newest revision if it is not given.
	To *int `query:"to"   json:"-"`
}

// EntryIDs names entries.
type EntryIDs struct {
	// IDs of the entries, separated by commas.
	IDs []string `query:"ids" json:"-"`
}

// LocaleCoverage is how much of each type is translated into each locale.
type LocaleCoverage struct {
	Locales []model.Locale `json:"locales"`
	Items   []Coverage     `json:"items"`
}

// EntryOpen says that somebody has an entry open for editing.
type EntryOpen struct {
	EntryRef
	// Session is 8 to 100 characters of the client's own choice.
	Session string `json:"session"`
	// Field that is being edited there, if any: its name, at most 200 bytes.
	Field string `json:"field,omitempty"`
	// Closed says that it is open no longer.
	Closed bool `json:"closed,omitempty"`
}

// EntryOthers are the others who have an entry open.
type EntryOthers struct {
	Others []string `json:"others"`
	// Editing says who of them is editing which field.
	Editing []FieldEditor `json:"editing"`
}

// FieldEditor is somebody who edits a field of an entry.
type FieldEditor struct {
	Who   string `json:"who"`
	Field string `json:"field"`
}

// ExportFilter says which entries are exported.
type ExportFilter struct {
	// Types, separated by commas; none means all.
	Types  []string `query:"type"      json:"-"`
	Origin string   `query:"origin"    json:"-"`
	// Revisions exports former revisions, too.
	Revisions bool `query:"revisions" json:"-"`
}

// ProseText is a text in CommonMark, of a prose field.
type ProseText struct {
	Text string `json:"text"`
	// Marks are the extra marks that the field allows.
	Marks []string `json:"marks,omitempty"`
	// Locale that links to entries are for; without one, the default locale.
	Locale string `json:"locale,omitempty"`
}

// RenderedProse is a text as a reader of drafts gets it.
type RenderedProse struct {
	HTML string `json:"html"`
	// Lost names what the text holds and is not delivered.
	Lost []string `json:"lost"`
}
