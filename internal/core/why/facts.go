package why

import (
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/filter"
)

// Facts is all that the answer depends on.
type Facts struct {
	// Asked is what the entry was asked for by: an id, a slug or a path.
	Asked   string
	Edition string
	// Locale that is read in; Unknown says that there is none of that tag, Chain is
	// where it looks, itself first.
	Locale, DefaultLocale string
	UnknownLocale         bool
	NearLocale            string
	Chain                 []string

	Reader Reader
	// Type is what the question is about when it is known; for a whole list there
	// is no Entry.
	Type *Type
	// Entry is nil if none was found.
	Entry *Entry
	// Near are entries whose slugs are like what was asked for.
	Near []Near
	// Moved is the entry that had the slug or path before.
	Moved *Near
	// Origins that might have what was not found.
	Origins []Origin
	// Untaken are items with the name that could not be imported.
	Untaken []Untaken
	// List is the list that the entry was looked for in; nil if none was named.
	List *List
	Now  time.Time
}

// Reader is whose eyes it is seen with.
type Reader struct {
	Kind     access.Kind
	Name, ID string
	Rights   access.Rights
	// Problem is why the key is not good at all: malformed, unknown, elsewhere,
	// expired, revoked or rotated; empty if it is.
	Problem string
	// Since is when it became so, Environment where a key from elsewhere belongs.
	Since       *time.Time
	Environment string
}

// Type is the type of the entry, or of the list.
type Type struct {
	Name, Plural, Label string
	Approval            bool
}

// Entry is what there is to know about the entry.
type Entry struct {
	ID, Title, Slug, Origin, EditAt string
	Revision, PublishedRevision     int
	Retired                         *time.Time
	Withheld                        bool
	Review                          string // submitted, approved or returned
	ReviewAt                        *time.Time
	ReviewBy                        string
	WillPublish, WillTakeBack       *Schedule
	TakenBackAt                     *time.Time
	TakenBackBy                     string
	Written                         []string // locales of the newest state
	Live                            []string // locales of what is published
	HasTranslations                 bool
	HasDocument                     bool // readers of edition and locale get it
	Path                            string
	AskedByPath                     bool
	Parent                          *Near
	LeftOut                         []LeftOut
	FilledIn                        bool // wholly, from a fallback
}

// Schedule is what will happen by itself.
type Schedule struct {
	ID   string
	At   time.Time
	Zone string
}

// Near is another entry.
type Near struct{ ID, Type, Slug, Title, Path string }

// LeftOut is a reference of the entry that leads to nothing for this reader.
type LeftOut struct {
	Field string
	Near
	// Grant is what is missing; empty when the entry is not published.
	Grant string
	Local bool
}

// Origin is an outside origin that sends entries of the type.
type Origin struct {
	Name           string
	Types          []string
	LastHeard      *time.Time
	LastRefused    *time.Time
	RefusedBecause string
}

// Untaken is an item of an origin that could not be imported.
type Untaken struct {
	Origin, Type, Key, Reason string
	Since                     time.Time
}

// List is a list that the entry should be in.
type List struct {
	// Asked is the list as it was asked for.
	Asked string
	Type  string
	// OnlyTranslated leaves out what is only filled in.
	OnlyTranslated bool
	// Untrue are the parts of the list's filter that leave the entry out.
	Untrue []filter.Part
	// Place is where in the whole list the entry comes, from 1; 0 if it does not.
	Place int
	// Limit is the length of a page; Shown says that the entry is on this one.
	Limit int
	Shown bool
	Sort  string
}
