package api

import (
	"encoding/json"
	"time"

	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// TracedStatement is one statement of a read.
type TracedStatement struct {
	SQL  string `json:"sql"`
	Args []any  `json:"args"`
	// Plan is how PostgreSQL has run it, if that was asked for.
	Plan string `json:"plan,omitempty"`
}

// TrustedDocument is a GraphQL document that readers may name by its id instead of
// sending it.
type TrustedDocument struct {
	// ID is sha256: and the SHA-256 of the text, in hexadecimal digits.
	ID    string    `json:"id"`
	Name  string    `json:"name"`
	Text  string    `json:"text"`
	Added time.Time `json:"added"`
	By    string    `json:"by"`
}

// SavedRead is a read that somebody has kept.
type SavedRead struct {
	ID    string          `json:"id"`
	Name  string          `json:"name"`
	Read  json.RawMessage `json:"read"`
	Saved time.Time       `json:"saved"`
	By    string          `json:"by"`
}

// Examined is an answer with all that can be said of how it was come by.
type Examined struct {
	Status int                 `json:"status"`
	Header map[string][]string `json:"header"`
	Body   string              `json:"body"`
	Effort query.EffortFigures `json:"effort"`
	// Milliseconds say where the time went.
	Milliseconds Timings  `json:"milliseconds"`
	RoundTrips   int      `json:"roundTrips"`
	Grants       []string `json:"grants"`
	Sequence     int64    `json:"sequence"`
	// Held is the sequence of the same answer in this node's cache; 0 if it is not held.
	Held int64 `json:"held"`
	// Key is the canonical form of the request.
	Key          string            `json:"key"`
	Statements   []TracedStatement `json:"statements"`
	Dependencies *invalidation.Set `json:"dependencies"`
	// Titles are what the entries among them are called, by id, for those who may see
	// them all.
	Titles map[string]string `json:"titles,omitempty"`
	// GoodFor is how long, in milliseconds, the answer holds if nothing changes; 0: as
	// long as that.
	GoodFor float64 `json:"goodFor"`
}

// AddParse adds the time that it took to understand the request.
func (l *Timings) AddParse(d time.Duration) {
	l.Parse = float64(d.Microseconds()) / 1000
	l.All += l.Parse
}

// Timings are the parts of an answer's time, in milliseconds.
type Timings struct {
	Parse  float64 `json:"parse"`
	Cache  float64 `json:"cache"`
	SQL    float64 `json:"sql"`
	Render float64 `json:"render"`
	All    float64 `json:"all"`
}

// ReadQuestion is a read that is to be examined: REST or GraphQL.
type ReadQuestion struct {
	// Request is a REST read: from the plural on, as in /notices?limit=3, or from /content/ on.
	Request string `json:"request,omitempty"`
	// Query, or DocumentID, is a GraphQL one.
	Query         string         `json:"query,omitempty"`
	OperationName string         `json:"operationName,omitempty"`
	Variables     map[string]any `json:"variables,omitempty"`
	DocumentID    string         `json:"documentId,omitempty"`
	// Edition is published (the default) or preview.
	Edition string `json:"edition,omitempty"       enum:"published,preview"`
	// As is who reads: empty for whoever asks, everyone, or a key by id, name or secret.
	As string `json:"as,omitempty"`
	// Language is an Accept-Language header.
	Language string `json:"language,omitempty"`
	// Lenient reads as with Prefer: handling=lenient.
	Lenient bool `json:"lenient,omitempty"`
	// Shapes are those of a REST read instead of the model's: to see a shape before it is applied.
	Shapes []model.Shape `json:"shapes,omitempty"`
	// Explain has PostgreSQL tell how it runs the statements; only who administers may ask.
	Explain bool `json:"explain,omitempty"`
}

// NewSavedRead is a read that is kept under a name.
type NewSavedRead struct {
	Name string `json:"name"`
	// Read is a ReadQuestion.
	Read json.RawMessage `json:"read"`
}

// SavedReadRef names a kept read.
type SavedReadRef struct {
	ID string `path:"id" json:"-"`
}

// NewDocument is a GraphQL document that is to be trusted.
type NewDocument struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// DocumentRef names a trusted document by id or name.
type DocumentRef struct {
	Document string `path:"document" json:"-"`
}

// SavedView is a list that somebody has kept under a name: a page of the console, and what it
// is narrowed by.
type SavedView struct {
	ID   string `json:"id"`
	Page string `json:"page"  enum:"entries,events,audit"`
	Name string `json:"name"`
	// Query is that of the page's address, as in type=notice&state=draft.
	Query string    `json:"query"`
	By    string    `json:"by"`
	Saved time.Time `json:"saved"`
}

// NewSavedView is a list that is kept, in place of the one of the same page and name.
type NewSavedView struct {
	Page string `json:"page"  enum:"entries,events,audit"`
	// Name has 1 to 100 bytes.
	Name string `json:"name"`
	// Query has 4000 bytes at most.
	Query string `json:"query"`
}

// SavedViewRef names a saved view.
type SavedViewRef struct {
	ID string `path:"id" json:"-"`
}
