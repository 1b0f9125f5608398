package api

import (
	"encoding/json"
	"fmt"
	"time"

	"ubiquon/internal/health"
)

// Rejected is an item of an origin that could not be imported.
type UntakenItem struct {
	Origin string `json:"origin"`
	Type   string `json:"type"`
	Key    string `json:"key"`
	// Entry is the id that it would have here.
	Entry  string    `json:"entry"`
	Slug   string    `json:"slug,omitempty"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
	Seen   time.Time `json:"seen"` // when it was tried last
}

// Adoption is what an origin takes over of another one, or would.
type Adoption struct {
	// Adopted counts the entries that change hands, By by what they were recognised.
	Adopted int            `json:"adopted"`
	By      map[string]int `json:"by"`
	// Left are entries of the old origin that no item of the new one is, New are items of
	// the new one that no entry is: the first hundred of each.
	Left    []string `json:"left,omitempty"`
	LeftAll int      `json:"leftAll,omitempty"`
	New     []string `json:"new,omitempty"`
	NewAll  int      `json:"newAll,omitempty"`
	// Replaced are entries that the new origin made already of items which are now those of
	// the old one: they are deleted.
	Replaced int  `json:"replaced,omitempty"`
	Applied  bool `json:"applied"`
	// Compared is the comparison with the new origin that followed.
	Compared *Reconciled `json:"compared,omitempty"`
}

// OriginStatus is when an origin was last heard of.
type OriginStatus struct {
	Name        string     `json:"name"`
	LastEvent   *time.Time `json:"lastEvent"`
	LastRefused *time.Time `json:"lastRefused"`
}

// Retirement is what retiring an origin comes to, or would.
type Retirement struct {
	Entries   int            `json:"entries"`
	Published int            `json:"published"`
	Types     map[string]int `json:"types"`
	// Left are entries that stay as they are, and why: the first hundred of them.
	Left    []string `json:"left,omitempty"`
	LeftAll int      `json:"leftAll,omitempty"`
	Applied bool     `json:"applied"`
}

func (r *Retirement) AddLeft(entry string, err error) {
	if r.LeftAll++; len(r.Left) < 100 {
		r.Left = append(r.Left, fmt.Sprintf("%s: %v", entry, err))
	}
}

// OriginState is an origin, and how reading it goes.
type OriginState struct {
	OriginStatus
	health.State
	// From is what it is read of: http, folder, git, feed or push. Standby says that it is read
	// only by who tries or rehearses with it, and Proof what proves its announcements.
	From    string `json:"from,omitempty"`
	Standby bool   `json:"standby,omitempty"`
	Proof   string `json:"proof,omitempty"`
	// Compared is the last comparison, on this node if there was one.
	Compared *LastComparison `json:"compared,omitempty"`
	// Entries is how many there are of it, Untaken how many items could not be imported.
	Entries int `json:"entries"`
	Untaken int `json:"untaken"`
	// Missing says that it is not in the configuration, though entries come from it.
	Missing bool `json:"missing,omitempty"`
}

// Reconciled is the outcome of a comparison with an origin.
type Reconciled struct {
	Seen    int `json:"seen"`
	Changed int `json:"changed"`
	Deleted int `json:"deleted"`
	// Held are entries that the origin does not have any more, and that are kept: they are
	// too many to be deleted at once without anybody's word.
	Held int `json:"held,omitempty"`
	// Lost tells what of prose is not delivered, or could not be converted: the first
	// hundred items.
	Lost    []string `json:"lost,omitempty"`
	LostAll int      `json:"lostAll,omitempty"`
	// Bad are items that could not be imported, and why: the first hundred of them.
	Bad      []string `json:"bad,omitempty"`
	BadItems int      `json:"badItems,omitempty"`
	// Sequence is that of the last change that was made, 0 for none, and SequenceAt when it was.
	Sequence   int64     `json:"sequence,omitempty"`
	SequenceAt time.Time `json:"sequenceAt,omitzero"`
}

func (r *Reconciled) AddBad(err error) {
	if r.BadItems++; len(r.Bad) < 100 {
		r.Bad = append(r.Bad, err.Error())
	}
}

// String implements fmt.Stringer.
func (r Reconciled) String() string {
	out := fmt.Sprintf("compared everything: %d items, %d changed, %d deleted", r.Seen, r.Changed, r.Deleted)
	if r.BadItems > 0 {
		out += fmt.Sprintf("; %d could not be taken over, as this one: %s", r.BadItems, r.Bad[0])
	}
	if r.LostAll > 0 {
		out += fmt.Sprintf("; %d lost something of their prose, as this one: %s", r.LostAll, r.Lost[0])
	}
	if r.Held > 0 {
		out += fmt.Sprintf(
			"; %d that the origin does not have any more are kept, for they are too many to go at once without "+
				"your word",
			r.Held,
		)
	}
	return out
}

// LastComparison is the last comparison with an origin on this node.
type LastComparison struct {
	At    time.Time   `json:"at"`
	Done  *Reconciled `json:"done,omitempty"`
	Error string      `json:"error,omitempty"`
}

// OriginRef names an origin.
type OriginRef struct {
	Origin string `path:"origin" json:"-"`
}

// OriginRetire lets go of an origin that is not configured any more.
type OriginRetire struct {
	OriginRef
	// Do says what becomes of its entries: local, unpublish or delete.
	Do string `json:"do"              enum:"local,unpublish,delete"`
	// Apply carries it out; otherwise it is only told what would happen.
	Apply bool `json:"apply,omitempty"`
}

// OriginAdopt has the entries of another origin change hands to this one.
type OriginAdopt struct {
	OriginRef
	// From is the other origin.
	From string `json:"from"`
	// By says how entries are recognised: key, slug or path; empty for all of them, in this
	// order.
	By string `json:"by,omitempty"`
	// Apply carries it out; otherwise it is only told what would happen.
	Apply bool `json:"apply,omitempty"`
}

// OriginReconcile compares everything an origin holds with what is stored here, and takes over what differs.
type OriginReconcile struct {
	OriginRef
	// Delete has entries deleted that the origin does not have any more, however many.
	Delete bool `json:"delete,omitempty"`
}

// OriginProgress is a line of the answer to long work on an origin: how far it has come, or,
// in the last one, what it came to.
type OriginProgress[T any] struct {
	Type string `json:"type,omitempty"`
	// Seen items of the type.
	Seen int `json:"seen,omitempty"`
	Done *T  `json:"done,omitempty"`
}

// Awake is the answer of a node that works for itself again.
type Awake struct {
	Awake bool `json:"awake"`
}

// NotTaken is an item that is not taken over, and everything that is wrong with it.
type NotTaken struct {
	Type    string   `json:"type,omitempty"`
	Key     string   `json:"key"`
	Reasons []string `json:"reasons"`
}

// Difference is an entry that differs from the item that it comes from.
type Difference struct {
	Type  string `json:"type"`
	Key   string `json:"key"`
	Entry string `json:"entry"`
	Title string `json:"title"`
	// Fields differ, sorted; State says so where one of both is shown to readers.
	Fields []string `json:"fields"`
	State  string   `json:"state,omitempty"`
}

// Comparison is how what an origin has differs from what is held of it: the first hundred of each kind,
// and how many there are.
type Comparison struct {
	Seen int `json:"seen"`
	Same int `json:"same"`
	// Missing are items that are not held.
	Missing    []string `json:"missing"`
	MissingAll int      `json:"missingAll,omitempty"`
	// Extra are entries that the origin does not have.
	Extra        []string     `json:"extra"`
	ExtraAll     int          `json:"extraAll,omitempty"`
	Different    []Difference `json:"different"`
	DifferentAll int          `json:"differentAll,omitempty"`
	NotTaken     []NotTaken   `json:"notTaken"`
	NotTakenAll  int          `json:"notTakenAll,omitempty"`
}

// PushRef names an item that an origin writes here.
type PushRef struct {
	Environment string `path:"environment" json:"-"`
	OriginRef
	Key string `path:"key" json:"-"`
	// Type is ours; it may be left out where the origin maps one.
	Type string `query:"type" json:"-"`
}

// PushItem writes an item: its body is the item, in the origin's own form.
type PushItem struct {
	PushRef
	Item map[string]any `body:"" json:"-"`
}

// PushMany writes many items: a line each, NDJSON, in the form of PushedItem.
type PushMany struct {
	Environment string `path:"environment" json:"-"`
	OriginRef
	Type string `query:"type" json:"-"`
}

// PushedItem is an item that an origin writes, in the origin's own form.
type PushedItem struct {
	Key  string          `json:"key"`
	Item json.RawMessage `json:"item"`
}

// PushOutcome is what became of items that were written.
type PushOutcome struct {
	// Taken counts those that are taken over, and Changed the changes that they made for readers and
	// editors.
	Taken   int `json:"taken"`
	Changed int `json:"changed"`
	// IDs are those of the entries, in the order of the items that are taken over.
	IDs      []string   `json:"ids,omitempty"`
	NotTaken []NotTaken `json:"notTaken"`
	// Sequence of the last change, 0 for none.
	Sequence int64 `json:"sequence,omitempty"`
}

// OriginTry maps an item without keeping it.
type OriginTry struct {
	OriginRef
	Type string `json:"type,omitempty"`
	// Item is in the origin's own form. Without one, the item called Key is fetched, or the first.
	Item any    `json:"item,omitempty"`
	Key  string `json:"key,omitempty"`
	// Spec tries another configuration of the origin, which is not saved.
	Spec any `json:"spec,omitempty"`
}

// OriginTried is the entry that an item becomes.
type OriginTried struct {
	Type string `json:"type"`
	// Item is in the origin's own form.
	Item any `json:"item"`
	// Key is what the origin calls it, and ID the entry's.
	Key string `json:"key,omitempty"`
	ID  string `json:"id,omitempty"`
	// Fields are those of the entry; Published says that readers would get them, and Live what they
	// get where that differs.
	Fields    map[string]any `json:"fields,omitempty"`
	Live      map[string]any `json:"live,omitempty"`
	Published bool           `json:"published"`
	Version   string         `json:"version,omitempty"`
	// Problems say why it would not be taken over, Lost what of its texts would be left out.
	Problems []string `json:"problems"`
	Lost     []string `json:"lost,omitempty"`
}

// OriginSwap has an origin take the place of another one for the types that it maps.
type OriginSwap struct {
	OriginRef
	// From is the other origin.
	From string `json:"from"`
	// By says how entries are recognised: key, slug or path; empty for all of them.
	By string `json:"by,omitempty"`
	// Apply carries it out; otherwise it is only told what would happen.
	Apply bool `json:"apply,omitempty"`
}

// Swapped is what swapping origins comes to, or would.
type Swapped struct {
	// Types are those for which the new origin takes the place of the old one.
	Types []string `json:"types"`
	// Restores is the version of the new origin's configuration that is taken up again; 0 for none.
	Restores int64    `json:"restores,omitempty"`
	Adoption Adoption `json:"adoption"`
	// Differences say in what readers and editors would see something else.
	Differences Comparison `json:"differences"`
	// Readers says which answers and pages would be others; only of a rehearsal.
	Readers *Impact `json:"readers,omitempty"`
}

// Impact is what readers would get otherwise if changes were made that are not made.
type Impact struct {
	// Changes counts those that readers of what is published would see.
	Changes int `json:"changes"`
	// Saved are the names of the saved reads among those whose answers would be computed again.
	Saved []string `json:"saved"`
	// Answers are held now and would expire: the hundred that are asked for most. AnswersAll counts them.
	Answers    []CacheEntry `json:"answers"`
	AnswersAll int          `json:"answersAll"`
	// Pages are those of sites that keep a ledger and may get other bytes.
	Pages []AffectedPages `json:"pages"`
}
