package api

import (
	"time"

	"ubiquon/internal/core/access"
)

// KeyUse is what a key is used for.
type KeyUse struct {
	Requests int64 `json:"requests"`
	// Hits are those of the requests that the cache has answered.
	Hits    int64     `json:"hits"`
	Used    time.Time `json:"used"` // last
	Address string    `json:"address"`
	Agent   string    `json:"agent"`
}

// PreviewLink is what is kept of a preview link.
type PreviewLink struct {
	ID     string `json:"id"`
	Entry  string `json:"entry"`
	Title  string `json:"title"` // of the entry
	Type   string `json:"type"`
	Locale string `json:"locale"`
	// Backs says that it may read what refers to the entry.
	Backs bool `json:"waysBack"`
	// Maker is the id of the key or account that made it; By is what they are called.
	MakerKind access.Kind `json:"makerKind"`
	Maker     string      `json:"-"`
	By        string      `json:"by"`
	// Grants are what the maker could read when it was made.
	Grants  access.Grants `json:"grants"`
	Created time.Time     `json:"created"`
	Expires time.Time     `json:"expires"`
	Revoked *time.Time    `json:"revoked"`
	Used    *time.Time    `json:"used"` // last, to ten minutes
	// MakerRole is the present role of the account that made it; empty if it was not
	// one, or may not sign in any more.
	MakerRole access.Role `json:"-"`
}

// KeyInfo is a key with what it is used for.
type KeyInfo struct {
	*access.Key
	Use *KeyUse `json:"use"` // nil: never used
}

// PreviewLink is a link that reads one entry in preview.
type IssuedPreviewLink struct {
	ID      string    `json:"id"`
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
	// Addresses at which sites show it.
	Addresses []PreviewAddress `json:"addresses"`
}

// PreviewAddress is where a site shows an entry in preview.
type PreviewAddress struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	// Public is where its visitors find what is published.
	Public string `json:"public"`
}

// KeyVisibility is what a key, or everyone, may read.
type KeyVisibility struct {
	Reader string `json:"reader"`
	// Problem is why the key is not good; empty if it is.
	Problem string           `json:"problem,omitempty"`
	Sights  []TypeVisibility `json:"sights"`
}

// TypeVisibility is what may be read of a type in an edition.
type TypeVisibility struct {
	Type    string `json:"type"`
	Edition string `json:"edition"`
	// Through says what allows it: open, grant or both; empty if nothing does.
	Through string `json:"through"`
	// Locales it is limited to; none means all.
	Locales []string `json:"locales,omitempty"`
	// Entries there are.
	Entries int `json:"entries"`
}

// Refusal is a read that was refused for want of a grant or of a good key.
type Refusal struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Agent   string    `json:"agent"`
	// Request is method and address, without what could be a key.
	Request string `json:"request"`
	Edition string `json:"edition"`
	Reader  string `json:"reader,omitempty"`
	Key     string `json:"key,omitempty"` // its id
	Grant   string `json:"grant,omitempty"`
	Detail  string `json:"detail"`
}

// Keys are all keys, and what is open to everyone.
type Keys struct {
	Items []KeyInfo     `json:"items"`
	Open  access.Grants `json:"open"`
}

// KeyRef names a key by id or name.
type KeyRef struct {
	Key string `path:"key" json:"-"`
}

// NewKey is a key that is to be made.
type NewKey struct {
	Name   string   `json:"name"`
	Grants []string `json:"grants"`
	// Site that reads with it, if any.
	Site string `json:"site,omitempty"`
	// PerMinute bounds the requests that each node answers in a minute; 0: no bound.
	PerMinute int        `json:"perMinute,omitempty"`
	Expires   *time.Time `json:"expires,omitempty"`
}

// KeySecret is a key and its secret, which is shown this once.
type KeySecret struct {
	Key    *access.Key `json:"key"    nullable:"false"`
	Secret string      `json:"secret"`
}

// GrantChange adds grants and takes others away.
type GrantChange struct {
	Add  []string `json:"add,omitempty"`
	Take []string `json:"take,omitempty"`
}

// KeyChange changes the grants of a key, or for how long it is good.
type KeyChange struct {
	KeyRef
	GrantChange
	// Days from now for which the key is good; 0 means for ever.
	Days *int `json:"days,omitempty"`
}

// KeyRotation gives a key a new secret.
type KeyRotation struct {
	KeyRef
	// Overlap is how long the former secret stays good, as in 24h (the default); 2160h at most.
	Overlap string `json:"overlap,omitempty"`
}

// KeyQuestion asks what a key sees.
type KeyQuestion struct {
	// Key is an id, a name or a secret; empty: everyone.
	Key string `json:"key,omitempty"`
}

// PublicGrants is what everyone may do without a key.
type PublicGrants struct {
	Open access.Grants `json:"open"`
}

// PreviewOptions say what a preview link reaches.
type PreviewOptions struct {
	EntryRef
	// Locale whose path is shown; empty means the first.
	Locale string `json:"locale,omitempty"`
	// Minutes that it is valid for, a week at most; the default is 60.
	Minutes *int `json:"minutes,omitempty"`
	// WaysBack lets it read what refers to the entry.
	WaysBack bool `json:"waysBack,omitempty"`
}

// PreviewFilter says which preview links are listed.
type PreviewFilter struct {
	// Entry that they are of; empty: any.
	Entry string `query:"entry" json:"-"`
}

// PreviewRef names a preview link.
type PreviewRef struct {
	Preview string `path:"preview" json:"-"`
}

// Revoked is the answer to a revoked preview link.
type Revoked struct {
	Revoked bool `json:"revoked"`
}
