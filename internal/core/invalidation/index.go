package invalidation

import (
	"encoding/binary"
	"hash/maphash"
	"slices"
	"sort"
	"strings"
	"sync"

	"ubiquon/internal/core/model"
)

// Handle is a subscription in an Index; 0 is none.
type Handle uint32

// Index finds who is affected by a change without asking everybody. It is
// generic over its subscribers. It may be used by many at once.
//
// Whoever depends on the same thing in the same way is in one group, which is
// looked at once: those who read the same fields of a document, who looked for the
// same slug, who show the same window of the same list. Lists that an equality
// narrows are found by its value. Those who leave are only marked, and swept when
// they are half of a group, so that leaving costs the same however many stay.
type Index[S any] struct {
	mu       sync.Mutex
	round    uint32 // of matching, so that nobody is found twice
	visits   uint32 // of lists, likewise
	subs     pool[sub[S]]
	gone     int // of them, those that have ended, and are still named by groups
	groups   pool[group]
	members  lists // the groups of subscriptions, and the other way round
	fields   kept[[]string]
	long     kept[string] // ids of more than 16 bytes
	uses     kept[[]Use]
	searches pool[search]
	windows  pool[windowGroup]
	// found are groups by a hash of what they depend on; each knows the next of its
	// chain.
	found chains
	seed  maphash.Seed

	lists   map[string]*listGroup
	types   map[space]*listsOfType
	names   map[string]string // of locales, types and editions, each kept once
	spaces  map[space]uint16
	bySpace []space
	// bytes is about what searches, windows and lists take.
	bytes int
	// dues are of the few who end by themselves.
	dues map[uint32]*due
}

// What things take, with what maps and slices keep free: measured, not computed.
const (
	bytesOfSearch = 24  // and its slug and path
	bytesOfWindow = 260 // and its rows
	bytesOfList   = 2500
	bytesOfDue    = 300
)

type (
	sub[S any] struct {
		s      S
		groups list
		uses   uint32
		round  uint32
		in     uint32 // groups that still name it
		gone   bool   // it has ended, and is only named by groups
	}
	// space is an edition in a locale, or what it has of one type.
	space struct{ edition, locale, typ string }
	// docID is an entry's id. One of more than 16 bytes is longMark and its number in
	// Index.long.
	docID [16]byte
	// group is those who depend on one thing in one way: who have read the fields of a
	// document, who have searched for something, or who show a window. There are many of
	// them, so they are small.
	group struct {
		id   docID // of the document
		subs list
		dead uint32
		next uint32 // of the chain in which it is found, 0 for none
		// ref is the number of the fields, of the search, or of the window.
		ref   uint32
		space uint16
		kind  kind
	}
	kind uint8
)

const (
	ofNobody kind = iota
	ofDocument
	ofSearch
	ofWindow
)

// longMark begins no id: it is in no UTF-8 text.
const longMark = 0xff

// findID returns how an id is written in a group; ok is false if no group has it.
func (x *Index[S]) findID(id string) (out docID, ok bool) {
	if len(id) <= len(out) {
		copy(out[:], id)
		return out, true
	}
	n, ok := x.long.number[id]
	return longID(n), ok
}

// holdID is findID for a group that is made: what it returns is given back with dropID.
func (x *Index[S]) holdID(id string) docID {
	if out, ok := x.findID(id); ok && out[0] != longMark {
		return out
	}
	id = strings.Clone(id)
	return longID(x.long.hold(id, func() string { return id }))
}

func (x *Index[S]) dropID(id docID) {
	if id[0] == longMark {
		x.long.drop(binary.BigEndian.Uint32(id[1:]))
	}
}

func (x *Index[S]) textOfID(id docID) string {
	if id[0] == longMark {
		return x.long.at(binary.BigEndian.Uint32(id[1:]))
	}
	return strings.TrimRight(string(id[:]), "\x00")
}

func longID(number uint32) (out docID) {
	out[0] = longMark
	binary.BigEndian.PutUint32(out[1:], number)
	return out
}

// NewIndex returns an empty index.
func NewIndex[S any]() *Index[S] {
	return &Index[S]{
		seed: maphash.MakeSeed(), lists: map[string]*listGroup{}, types: map[space]*listsOfType{},
		names: map[string]string{}, spaces: map[space]uint16{}, dues: map[uint32]*due{},
	}
}

// Add subscribes s to what affects the set.
func (x *Index[S]) Add(s S, set *Set) Handle {
	x.mu.Lock()
	defer x.mu.Unlock()
	h := x.subs.add(sub[S]{s: s, uses: x.used(set.Uses)})
	var room [64]uint32
	groups := room[:0]
	for i := range set.Entries {
		groups = append(groups, x.doc(set.Edition, &set.Entries[i]))
	}
	for i := range set.Lookups {
		groups = append(groups, x.search(set.Edition, &set.Lookups[i]))
	}
	for i := range set.Lists {
		groups = append(groups, x.window(set.Edition, &set.Lists[i]))
	}
	slices.Sort(groups)
	groups = slices.Compact(groups)
	for _, n := range groups {
		g := x.groups.at(n)
		g.subs = x.members.with(g.subs, h)
	}
	one := x.subs.at(h)
	one.groups, one.in = x.members.hold(groups), uint32(len(groups))
	if !set.Deadline.IsZero() {
		x.dues[h] = x.due(set)
	}
	return Handle(h)
}

// kept returns the one copy of a name.
func (x *Index[S]) kept(name string) string {
	if held, ok := x.names[name]; ok {
		return held
	}
	name = strings.Clone(name)
	x.names[name] = name
	return name
}

func (x *Index[S]) own(s space) space {
	return space{x.kept(s.edition), x.kept(s.locale), x.kept(s.typ)}
}

func (x *Index[S]) used(uses []Use) uint32 {
	var b strings.Builder
	for _, u := range uses {
		b.WriteString(u.Type + "\x00" + u.Locale + "\x00" + strings.Join(u.Fields, ",") + "\x00")
	}
	return x.uses.hold(b.String(), func() []Use { return slices.Clone(uses) })
}

// Remove ends a subscription; none, or one that has ended, is left alone.
func (x *Index[S]) Remove(h Handle) {
	x.mu.Lock()
	defer x.mu.Unlock()
	one := x.held(h)
	if one == nil {
		return
	}
	var nobody S
	one.s, one.gone = nobody, true
	x.gone++
	x.uses.drop(one.uses)
	delete(x.dues, uint32(h))
	groups := one.groups
	one.groups = list{}
	if one.in == 0 {
		x.free(uint32(h))
	}
	for _, n := range x.members.of(groups) {
		g := x.groups.at(n)
		if g.dead++; g.dead*2 > g.subs.n {
			x.sweep(n)
		}
	}
	x.members.drop(groups)
}

func (x *Index[S]) free(h uint32) {
	x.gone--
	x.subs.remove(h)
}

// sweep takes those who have left out of a group, and ends it if nobody is left.
func (x *Index[S]) sweep(n uint32) {
	g := x.groups.at(n)
	g.subs = x.members.without(g.subs, func(h uint32) bool {
		one := x.subs.at(h)
		if !one.gone {
			return false
		}
		if one.in--; one.in == 0 {
			x.free(h)
		}
		return true
	})
	if g.dead = 0; g.subs.n == 0 {
		x.leave(n)
	}
}

// Using returns every subscriber that was read by a part of the model that a
// change of the model touches.
func (x *Index[S]) Using(c *Delta) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	hit := map[uint32]bool{}
	for _, n := range x.uses.number {
		hit[n] = len(c.Fields) == 0 || slices.ContainsFunc(x.uses.at(n), func(u Use) bool {
			return u.touchedBy(c.Fields[u.Locale]) || u.touchedBy(c.Fields[model.Everything])
		})
	}
	var out []S
	for h := range x.subs.last {
		if one := x.subs.at(h + 1); hit[one.uses] && !one.gone {
			out = append(out, one.s)
		}
	}
	return out
}

func (u Use) touchedBy(touched []string) bool {
	return slices.ContainsFunc(touched, func(name string) bool {
		typ, field, of := strings.Cut(name, ".")
		switch {
		case name == model.Everything:
			return true
		case u.Type == "":
			return field != model.AllFields && !model.IsLabel(field) // that is not about who is there
		}
		return typ == u.Type && (!of || slices.Contains(u.Fields, field))
	})
}

// Reading returns who has read something of an entry in an edition and a locale.
func (x *Index[S]) Reading(edition, entry, locale string) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	m := matching[S]{x: x}
	x.round++
	x.readers(edition, locale, entry, func(g *group, _ []string) { m.all(g) })
	return m.out
}

// Uses returns the types of the model that a subscriber was read by. Nobody may
// change them.
func (x *Index[S]) Uses(h Handle) []Use {
	x.mu.Lock()
	defer x.mu.Unlock()
	if one := x.held(h); one != nil {
		return x.uses.at(one.uses)
	}
	return nil
}

// held returns a subscription; nil if there is none.
func (x *Index[S]) held(h Handle) *sub[S] {
	if h == 0 || uint32(h) > x.subs.last {
		return nil
	}
	if one := x.subs.at(uint32(h)); one.uses != 0 && !one.gone {
		return one
	}
	return nil
}

// Set returns what a subscriber depends on.
func (x *Index[S]) Set(h Handle) *Set {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := &Set{}
	one := x.held(h)
	if one == nil {
		return out
	}
	if d := x.dues[uint32(h)]; d != nil {
		out.Deadline = d.at
	}
	out.Uses = x.uses.at(one.uses)
	for _, n := range x.members.of(one.groups) {
		switch g := x.groups.at(n); g.kind {
		case ofDocument:
			in := x.bySpace[g.space]
			out.Edition = in.edition
			out.Entries = append(
				out.Entries, Entry{ID: x.textOfID(g.id), Locale: in.locale, Fields: x.fields.at(g.ref)},
			)
		case ofSearch:
			in, s := x.bySpace[g.space], x.searches.at(g.ref)
			out.Edition = in.edition
			l := Lookup{Type: in.typ, Locale: in.locale, Slug: s.text, Found: s.found}
			if s.path {
				l.Slug, l.Path = "", s.text
			}
			out.Lookups = append(out.Lookups, l)
		case ofWindow:
			w := x.windows.at(g.ref)
			l := *w.list.List
			out.Edition, l.Window = w.list.edition, w.Window
			l.Window.Rows, l.Window.followed = slices.Clone(w.Rows), false
			out.Lists = append(out.Lists, l)
		}
	}
	sort.SliceStable(out.Entries, func(i, j int) bool { return out.Entries[i].ID < out.Entries[j].ID })
	return out
}

// Bytes is about what the index takes.
func (x *Index[S]) Bytes() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.subs.bytes() + x.groups.bytes() + x.members.bytes() + x.found.bytes() + len(x.dues)*bytesOfDue + x.bytes
}

// Len returns how many are subscribed.
func (x *Index[S]) Len() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.subs.len() - x.gone
}

// Size is about how many bytes an Index takes for the set.
func (s *Set) Size() int {
	n := 100 + 12*(len(s.Entries)+len(s.Lookups)+len(s.Lists))
	for i := range s.Lookups {
		n += 160 + 2*len(s.Lookups[i].Slug) + 2*len(s.Lookups[i].Path)
	}
	for i := range s.Lists {
		n += 60
		for _, r := range s.Lists[i].Window.Rows {
			n += (16 + len(r)) / 4 // others show the same
		}
	}
	return n
}
