package content

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"strings"
	"time"
)

// The two editions.
const (
	Published = "published" // what the public sees
	Preview   = "preview"   // the latest saved state laid over the published one
)

// Editions lists both editions.
var Editions = []string{Published, Preview}

// Local is the origin of entries written in the gateway itself.
const Local = "local"

// Fields holds an entry's values by field name, as encoding/json decodes them.
// A translated field holds a map from locale tag to value.
type Fields map[string]any

// State is where an entry stands between writing and readers.
type State string

// The states of an entry.
const (
	Draft       State = "draft"     // never published, or taken back
	InReview    State = "in review" // submitted, and not yet decided on
	Scheduled   State = "scheduled" // something will happen to it by itself
	IsPublished State = "published" // what was last saved is what readers get
	Revised     State = "revised"   // published, with a newer draft
	Retired     State = "retired"   // kept, and shown to nobody
)

// States lists every state.
var States = []State{Draft, InReview, Scheduled, IsPublished, Revised, Retired}

// MakeID gives the id of an entry that its origin knows under a name of its
// own: 16 characters of a-z and 2-7. The same name always gives the same id, so
// a reference can be written before the entry that it leads to has arrived.
func MakeID(origin, typ, key string) string {
	sum := sha256.Sum256([]byte(origin + "\x00" + typ + "\x00" + key))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:10]))
}

// IsMadeID tells whether a text has the form of an id of MakeID.
func IsMadeID(text string) bool {
	return len(text) == 16 && strings.Trim(text, "abcdefghijklmnopqrstuvwxyz234567") == ""
}

// NewID gives an id to an entry that is written here.
func NewID() string { return strings.ToLower(rand.Text()[:16]) }

// Entry is what there is to know about one entry.
type Entry struct {
	ID        string `json:"id"`
	Type      string `json:"type"`
	Origin    string `json:"origin"`
	OriginKey string `json:"originKey,omitempty"`
	// OriginVersion orders what the origin says of the entry: text that is
	// older than what is held (compared bytewise) is not applied.
	OriginVersion string `json:"originVersion"`
	// Revision is the number of the newest saved state, from 1; 0 for an entry
	// that is not there yet.
	Revision int `json:"revision"`
	// PublishedRevision is the revision that readers see, 0 when none.
	PublishedRevision int        `json:"publishedRevision"`
	FirstPublished    *time.Time `json:"firstPublished"`
	Published         *time.Time `json:"published"`
	Updated           time.Time  `json:"updated"`
	// Behind is true when something was saved that readers do not get.
	Behind bool `json:"behind,omitempty"`
	// Review is submitted, approved or returned while the newest revision is that;
	// else empty.
	Review  string     `json:"review,omitempty"`
	Retired *time.Time `json:"retired,omitempty"`
	// Withheld is true for what was handed in from outside and was never published:
	// no reader gets it, in no edition.
	Withheld bool `json:"withheld,omitempty"`
}

// What review may have said of a revision.
const (
	Submitted = "submitted"
	Approved  = "approved"
	Returned  = "returned"
)

// Revision is one saved state of an entry.
type Revision struct {
	Number int       `json:"number"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	// Message is what its writer says of it.
	Message string `json:"message,omitempty"`
	Fields  Fields `json:"fields,omitempty"`
}

// Document is an entry as one reader gets it: one edition, one locale,
// fallbacks filled in.
type Document struct {
	Entry  string
	Type   string
	Locale string
	About  About
	Fields Fields
	Slug   string // "" when the type has none
	// targets are the entries that its prose links to, as Links has them.
	targets []string
}

// About is what every answer may say about an entry.
type About struct {
	Type           string     `json:"type"`
	Locale         string     `json:"locale"`
	FilledIn       []string   `json:"filledIn"`
	Revision       int        `json:"revision"`
	FirstPublished *time.Time `json:"firstPublished"`
	Published      *time.Time `json:"published"`
	Updated        time.Time  `json:"updated"`
	Path           *string    `json:"path"`
	Locales        []string   `json:"locales"`
}

// AboutNames lists the names that about(…) takes, in the order of delivery.
var AboutNames = []string{
	"type", "locale", "filledIn", "revision", "firstPublished", "published", "updated", "path", "locales",
}

// UserCause is the cause of what a person or a key does.
func UserCause(name string) Cause { return Cause{Kind: "user", Name: name} }

// Cause says why a change happened.
type Cause struct {
	// Kind is event, user, schedule, import, reconcile, rule or model.
	Kind string `json:"kind"`
	// Name is the origin, the person or the key behind it.
	Name string `json:"name,omitempty"`
	// Event is the id of the event that announced it.
	Event string `json:"event,omitempty"`
	// PublishedAt is when the origin published, by its own clock.
	PublishedAt *time.Time `json:"publishedAt,omitempty"`
	// Chain has the rules whose consequence it is, the first one first.
	Chain []string `json:"chain,omitempty"`
}

// Change is what one edit or event did to one entry in one edition.
type Change struct {
	Sequence int64     `json:"sequence"`
	Commit   int64     `json:"commit"`
	ID       string    `json:"id"`
	At       time.Time `json:"at"`
	// Kind is content, model, access or settings. Only content has all of the rest.
	Kind    string `json:"kind"`
	Edition string `json:"edition,omitempty"`
	Entry   string `json:"entry,omitempty"`
	Type    string `json:"type,omitempty"`
	// What says what readers of the edition saw happen: published (also: published
	// again), unpublished, deleted or moved (with an entry that it lives below); in
	// preview also saved.
	What string `json:"what,omitempty"`
	// Fields names, for each locale that some reader could see a difference in,
	// what differs: fields, and FIELD.PART for parts of their values. What is said about
	// the entry is written about.NAME. Of a change of the model what model.Conversion.Touches
	// says; none: everything.
	Fields map[string][]string `json:"fields,omitempty"`
	// Before and After hold, by locale, the values that filters and sorts use. A
	// locale is missing where there was, or is, no document.
	Before map[string]Fields `json:"before,omitempty"`
	After  map[string]Fields `json:"after,omitempty"`
	Cause  Cause             `json:"cause"`
}

// Places are, by locale, the slug and the path that an entry had, or has, as far as the
// change knows them: those afterwards, or, where there is nothing any more, those before.
func (c *Change) Places() (slugs, paths map[string]string) {
	slugs, paths = map[string]string{}, map[string]string{}
	for _, side := range []map[string]Fields{c.Before, c.After} {
		for tag, values := range side {
			for name, into := range map[string]map[string]string{"slug": slugs, "about.path": paths} {
				if v, is := values[name].(string); is && v != "" {
					into[tag] = v
				}
			}
		}
	}
	return slugs, paths
}

// Moved is what happens to an entry when the one that it lives below moves, or a file that it shows
// is another or described otherwise.
const Moved = "moved"

// The kinds of change.
const (
	ContentChange = "content"
	ModelChange   = "model"
	// RerenderChange is what a change of the model did to an entry's documents. It is
	// for those who hold answers; nobody has published anything.
	RerenderChange = "relaid"
	AccessChange   = "access"
	// SettingsChange is of the configuration that is managed while the service runs: What is
	// the kind of setting, Entry its name.
	SettingsChange = "settings"
)

// What an access change is about; a key's id is in Entry.
const (
	KeyAccess  = "key"
	OpenAccess = "open" // what everyone may do
	// DocumentAccess is about the GraphQL documents that may be named.
	DocumentAccess = "document"
)

func clone(f Fields) Fields {
	src, err := json.Marshal(f)
	if err != nil {
		panic("content: fields that are not JSON: " + err.Error())
	}
	out := Fields{}
	if err := json.Unmarshal(src, &out); err != nil {
		panic("content: " + err.Error())
	}
	return out
}
