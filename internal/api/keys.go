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
