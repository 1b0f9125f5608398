package depend

import (
	"hash/maphash"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
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
	// docID is an entry's id, which has no more than 16 characters.
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

type (
	// search is one for a slug, or for a path.
	search struct {
		text  string
		path  bool
		found bool
	}
	// due is when a subscription ends by itself, and why.
	due struct {
		at    time.Time
		lists []dueOf
		// asOf is the sequence that it knows the moments of.
		asOf int64
	}
	dueOf struct {
		list *listGroup
		Moments
	}
	windowGroup struct {
		Window
		list  *listGroup
		id    uint32
		hash  uint64
		bytes int
		turn  *turn // while changes are matched
	}
	// turn is what becomes of a window by the changes of a commit.
	turn struct {
		w     *windowGroup
		now   Window
		more  int
		shows bool
	}
)

// idOf takes of an id what there is room for. Two that were the same then would be
// taken for one.
func idOf(id string) (out docID) {
	copy(out[:], id)
	return out
}

func (d docID) String() string { return strings.TrimRight(string(d[:]), "\x00") }

// kept are things that many hold, each kept once for as long as somebody does.
type kept[T any] struct {
	all    pool[keptOne[T]]
	number map[string]uint32
}

type keptOne[T any] struct {
	one     T
	key     string
	holders int
}

// hold returns the number of what has the key; made makes it if nobody holds it.
func (k *kept[T]) hold(key string, made func() T) uint32 {
	n := k.number[key]
	if n == 0 {
		if k.number == nil {
			k.number = map[string]uint32{}
		}
		n = k.all.add(keptOne[T]{one: made(), key: key})
		k.number[key] = n
	}
	k.all.at(n).holders++
	return n
}

func (k *kept[T]) at(n uint32) T { return k.all.at(n).one }

func (k *kept[T]) drop(n uint32) {
	held := k.all.at(n)
	if held.holders--; held.holders == 0 {
		delete(k.number, held.key)
		k.all.remove(n)
	}
}

// listGroup is the windows of one template.
type listGroup struct {
	template
	key     string
	edition string
	windows []*windowGroup
	visit   uint32
}

// listsOfType are the templates that entries of one type may matter to.
type listsOfType struct {
	byValue map[string]map[string][]*listGroup // field, value
	others  []*listGroup
	// watching have dotted names that lead to, or through, the type.
	watching []*listGroup
}

// maxTried is how many filters of one type are tried, one by one; those of the
// others are affected by whatever happens to the type.
const maxTried = 2000

// NewIndex returns an empty index.
func NewIndex[S any]() *Index[S] {
	return &Index[S]{seed: maphash.MakeSeed(), lists: map[string]*listGroup{}, types: map[space]*listsOfType{},
		names: map[string]string{}, spaces: map[space]uint16{}, dues: map[uint32]*due{}}
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

// due finds the lists, which are in the index already, by which the set ends.
func (x *Index[S]) due(set *Set) *due {
	out := &due{at: set.Deadline}
	for i := range set.Lists {
		l := &set.Lists[i]
		if !l.Moments.first().IsZero() {
			own := Moments{slices.Clone(l.Moments.List), l.Moments.Until}
			out.lists, out.asOf = append(out.lists, dueOf{x.lists[l.key(set.Edition)], own}), max(out.asOf, l.Window.AsOf)
		}
	}
	if out.lists == nil {
		out.lists = []dueOf{{nil, Moments{Until: set.Deadline}}}
	}
	return out
}

// move lets an entry pass the present at another moment in a list.
func (d *due) move(l *listGroup, entry string, to time.Time) {
	i := slices.IndexFunc(d.lists, func(o dueOf) bool { return o.list == l })
	if i < 0 {
		i, d.lists = len(d.lists), append(d.lists, dueOf{list: l})
	}
	d.lists[i].move(entry, to)
	d.at = time.Time{}
	for i := range d.lists {
		if first := d.lists[i].first(); !first.IsZero() && (d.at.IsZero() || first.Before(d.at)) {
			d.at = first
		}
	}
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

// space numbers the spaces.
func (x *Index[S]) space(of space) uint16 {
	n, ok := x.spaces[of]
	if !ok {
		own := x.own(of)
		n = uint16(len(x.bySpace))
		x.spaces[own], x.bySpace = n, append(x.bySpace, own)
	}
	return n
}

// each calls f for the groups of one kind that may have the hash; there are others among
// them.
func (x *Index[S]) each(hash uint64, k kind, f func(n uint32, g *group)) {
	for n := *x.found.head(hash); n != 0; {
		g := x.groups.at(n)
		next := g.next
		if g.kind == k {
			f(n, g)
		}
		n = next
	}
}

// enter makes a group that is found by a hash.
func (x *Index[S]) enter(hash uint64, g group) uint32 {
	if from := x.found.grow(); from != nil {
		// What is in the chain that was split goes into the one or the other.
		n := *from
		for *from = 0; n != 0; {
			g := x.groups.at(n)
			head, next := x.found.head(x.hashOf(g)), g.next
			g.next, *head, n = *head, n, next
		}
	}
	head := x.found.head(hash)
	g.next = *head
	*head = x.groups.add(g)
	return *head
}

// hashOf is what a group was entered by.
func (x *Index[S]) hashOf(g *group) uint64 {
	switch g.kind {
	case ofDocument:
		return x.hashOfDoc(g.space, g.id)
	case ofSearch:
		return x.hashOfSearch(g.space, *x.searches.at(g.ref))
	default:
		return x.windows.at(g.ref).hash
	}
}

// hide lets a group not be found any more.
func (x *Index[S]) hide(hash uint64, n uint32) {
	for at := x.found.head(hash); *at != 0; at = &x.groups.at(*at).next {
		if *at == n {
			*at = x.groups.at(n).next
			x.found.entered--
			return
		}
	}
}

func (x *Index[S]) hashOfDoc(in uint16, id docID) uint64 {
	return maphash.Comparable(x.seed, struct {
		in uint16
		id docID
	}{in, id})
}

func (x *Index[S]) hashOfSearch(in uint16, s search) uint64 {
	var h maphash.Hash
	h.SetSeed(x.seed)
	_ = h.WriteByte(byte(in))
	_ = h.WriteByte(byte(in >> 8))
	if s.found {
		_ = h.WriteByte(1)
	}
	_, _ = h.WriteString(s.text)
	return h.Sum64()
}

// readers calls f for the groups of those who have read a document.
func (x *Index[S]) readers(edition, locale, id string, f func(g *group, fields []string)) {
	in, ok := x.spaces[space{edition, locale, ""}]
	if !ok {
		return
	}
	doc := idOf(id)
	x.each(x.hashOfDoc(in, doc), ofDocument, func(_ uint32, g *group) {
		if g.space == in && g.id == doc {
			f(g, x.fields.at(g.ref))
		}
	})
}

func (x *Index[S]) doc(edition string, e *Entry) (out uint32) {
	in, id := x.space(space{edition, e.Locale, ""}), idOf(e.ID)
	hash := x.hashOfDoc(in, id)
	x.each(hash, ofDocument, func(n uint32, g *group) {
		if g.space == in && g.id == id && slices.Equal(x.fields.at(g.ref), e.Fields) {
			out = n
		}
	})
	if out == 0 {
		fields := x.fields.hold(strings.Join(e.Fields, ","), func() []string { return slices.Clone(e.Fields) })
		out = x.enter(hash, group{kind: ofDocument, space: in, id: id, ref: fields})
	}
	return out
}

// searched returns the group of a search; 0 if there is none.
func (x *Index[S]) searched(in uint16, s search) (out uint32) {
	x.each(x.hashOfSearch(in, s), ofSearch, func(n uint32, g *group) {
		if g.space == in && *x.searches.at(g.ref) == s {
			out = n
		}
	})
	return out
}

func (x *Index[S]) search(edition string, l *Lookup) uint32 {
	in, s := x.space(space{edition, l.Locale, l.Type}), search{l.Slug + l.Path, l.Path != "", l.Found}
	if held := x.searched(in, s); held != 0 {
		return held
	}
	s.text = strings.Clone(s.text)
	x.bytes += s.bytes()
	return x.enter(x.hashOfSearch(in, s), group{kind: ofSearch, space: in, ref: x.searches.add(s)})
}

func (s *search) bytes() int { return bytesOfSearch + len(s.text) }

// leave ends what a group depends on.
func (x *Index[S]) leave(n uint32) {
	switch g := x.groups.at(n); g.kind {
	case ofDocument:
		x.hide(x.hashOfDoc(g.space, g.id), n)
		x.fields.drop(g.ref)
	case ofSearch:
		s := x.searches.at(g.ref)
		x.bytes -= s.bytes()
		x.hide(x.hashOfSearch(g.space, *s), n)
		x.searches.remove(g.ref)
	case ofWindow:
		x.leaveWindow(g.ref)
	}
	x.groups.remove(n)
}

func (x *Index[S]) window(edition string, l *List) (out uint32) {
	key := l.key(edition)
	list := x.lists[key]
	if list == nil {
		own := *l
		own.Window, own.Moments = Window{}, Moments{}
		list = &listGroup{template: newTemplate(&own), key: key, edition: x.kept(edition)}
		x.lists[key] = list
		x.enlist(list)
		x.bytes += bytesOfList + 3*len(key)
	}
	hash := x.hashOfWindow(list, &l.Window)
	x.each(hash, ofWindow, func(n uint32, g *group) {
		if w := x.windows.at(g.ref); w.list == list && w.same(&l.Window) {
			w.AsOf = max(w.AsOf, l.Window.AsOf)
			out = n
		}
	})
	if out != 0 {
		return out
	}
	own := windowGroup{Window: l.Window, list: list, hash: hash, bytes: bytesOfWindow}
	own.Rows = compacted(own.Rows)
	for _, r := range own.Rows {
		own.bytes += 16 + len(r)
	}
	x.bytes += own.bytes
	number := x.windows.add(own)
	w := x.windows.at(number)
	w.id = x.enter(hash, group{kind: ofWindow, ref: number})
	list.windows = append(list.windows, w)
	return w.id
}

func (x *Index[S]) hashOfWindow(l *listGroup, w *Window) uint64 {
	var h maphash.Hash
	h.SetSeed(x.seed)
	maphash.WriteComparable(&h, struct {
		list          *listGroup
		limit, offset int
		after, before Place
	}{l, w.Limit, w.Offset, w.After, w.Before})
	for _, r := range w.Rows {
		_, _ = h.WriteString(string(r))
	}
	return h.Sum64()
}

// same tells whether windows of the same list show the same.
func (w *Window) same(o *Window) bool {
	return w.Limit == o.Limit && w.Beyond == o.Beyond && w.Offset == o.Offset && w.FromEnd == o.FromEnd && w.Skipped == o.Skipped && w.Tells == o.Tells && w.Ends == o.Ends &&
		w.Cursors == o.Cursors && w.After == o.After && w.Before == o.Before && slices.Equal(w.Rows, o.Rows)
}

// compacted copies places into one piece of memory.
func compacted(rows []Place) []Place {
	n := 0
	for _, r := range rows {
		n += len(r)
	}
	var b strings.Builder
	b.Grow(n)
	for _, r := range rows {
		b.WriteString(string(r))
	}
	out, all := make([]Place, len(rows)), Place(b.String())
	for i, r := range rows {
		out[i], all = all[:len(r)], all[len(r):]
	}
	return out
}

func (x *Index[S]) leaveWindow(number uint32) {
	w := x.windows.at(number)
	l := w.list
	x.bytes -= w.bytes
	if !w.followed {
		x.hide(w.hash, w.id)
	}
	if i := slices.Index(l.windows, w); i >= 0 {
		l.windows = slices.Delete(l.windows, i, i+1)
	}
	x.windows.remove(number)
	if len(l.windows) == 0 {
		delete(x.lists, l.key)
		x.delist(l)
		x.bytes -= bytesOfList + 3*len(l.key)
	}
}

// byValue says by which values of which field a list is found; "" if it must be
// tried.
func (l *listGroup) byValue() (field string, values []string) {
	if l.Field != "" {
		return l.Field, []string{l.Target}
	}
	if l.Filter != nil {
		return l.Filter.Equalities()
	}
	return "", nil
}

func (x *Index[S]) ofType(edition, locale, typ string) *listsOfType {
	key := space{edition, locale, typ}
	t := x.types[key]
	if t == nil {
		t = &listsOfType{byValue: map[string]map[string][]*listGroup{}}
		x.types[x.own(key)] = t
	}
	return t
}

func (x *Index[S]) enlist(l *listGroup) {
	t := x.ofType(l.edition, l.Locale, l.Type)
	if field, values := l.byValue(); field != "" {
		per := t.byValue[field]
		if per == nil {
			per = map[string][]*listGroup{}
			t.byValue[field] = per
		}
		for _, v := range values {
			per[v] = append(per[v], l)
		}
	} else {
		t.others = append(t.others, l)
	}
	for _, typ := range l.watches() {
		w := x.ofType(l.edition, l.Locale, typ)
		w.watching = append(w.watching, l)
	}
}

func (x *Index[S]) delist(l *listGroup) {
	t := x.ofType(l.edition, l.Locale, l.Type)
	without := func(all []*listGroup) []*listGroup {
		return slices.DeleteFunc(all, func(o *listGroup) bool { return o == l })
	}
	if field, values := l.byValue(); field != "" {
		for _, v := range values {
			if t.byValue[field][v] = without(t.byValue[field][v]); len(t.byValue[field][v]) == 0 {
				delete(t.byValue[field], v)
			}
		}
	} else {
		t.others = without(t.others)
	}
	for _, typ := range l.watches() {
		w := x.ofType(l.edition, l.Locale, typ)
		w.watching = without(w.watching)
	}
}

// Remove ends a subscription.
func (x *Index[S]) Remove(h Handle) {
	x.mu.Lock()
	defer x.mu.Unlock()
	one := x.subs.at(uint32(h))
	if h == 0 || one.gone || one.uses == 0 {
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

// Match returns every subscriber that the changes of a commit may affect, each once,
// and those that they let end at another moment. What two of the changes do to a list
// may come to nothing in sum. Changes are matched in the order of their sequences, each
// once.
func (x *Index[S]) Match(commit ...*content.Change) ([]S, []Moved[S]) { return x.match(commit, false) }

// Supposing returns what Match would, for changes that have not happened.
func (x *Index[S]) Supposing(commit ...*content.Change) []S {
	out, _ := x.match(commit, true)
	return out
}

func (x *Index[S]) match(commit []*content.Change, supposed bool) ([]S, []Moved[S]) {
	x.mu.Lock()
	defer x.mu.Unlock()
	m := matching[S]{x: x, supposed: supposed}
	x.round++
	for _, c := range commit {
		if alters(c) {
			x.visits++
			m.change(c)
		}
	}
	m.judge()
	return m.out, m.moved
}

func (m *matching[S]) change(c *content.Change) {
	x := m.x
	for locale := range c.Fields {
		s, _ := stepOf(c, locale)
		x.readers(c.Edition, locale, c.Entry, func(g *group, fields []string) {
			if reads(fields, &s) {
				m.all(g)
			}
		})
		if was, is := slugOf(s.before), slugOf(s.after); was != is {
			of := space{c.Edition, locale, c.Type}
			m.search(of, search{text: was})
			m.search(of, search{text: is})
		}
		if was, is := pathOf(s.before), pathOf(s.after); was != is {
			of := space{c.Edition, locale, ""}
			for _, path := range []string{was, is} {
				m.search(of, search{text: path, path: true})
				m.search(of, search{text: path, path: true, found: true})
			}
			if c.Edition == content.Published && was != "" {
				of.edition = content.Preview
				m.search(of, search{text: was, path: true}) // it remembers
			}
		}
		if t := x.types[space{c.Edition, locale, c.Type}]; t != nil {
			m.lists(t, &s)
		}
	}
}

type matching[S any] struct {
	x        *Index[S]
	supposed bool
	out      []S
	moved    []Moved[S]
	turns    []*turn
}

// all finds everybody in a group.
func (m *matching[S]) all(g *group) {
	for _, h := range m.x.members.of(g.subs) {
		if one := m.x.subs.at(h); !one.gone && one.round != m.x.round {
			one.round = m.x.round
			m.out = append(m.out, one.s)
		}
	}
}

func (m *matching[S]) window(w *windowGroup) { m.all(m.x.groups.at(w.id)) }

func (m *matching[S]) search(of space, s search) {
	if in, ok := m.x.spaces[of]; ok {
		if n := m.x.searched(in, s); n != 0 {
			m.all(m.x.groups.at(n))
		}
	}
}

func (m *matching[S]) lists(t *listsOfType, s *step) {
	for _, l := range t.watching {
		ways := l.turned(s)
		if ways == nil {
			continue
		}
		led, known := l.leading(s, ways)
		if !known {
			for _, w := range l.windows {
				m.window(w)
			}
		}
		for i := range led {
			m.list(l, &led[i], &places{})
		}
	}
	var p places // the same serve all lists in the same order
	t.each(s, func(l *listGroup) {
		if l.visit != m.x.visits {
			l.visit = m.x.visits
			m.list(l, s, &p)
		}
	})
	for _, l := range t.others[min(len(t.others), maxTried):] {
		for _, w := range l.windows {
			m.window(w)
		}
	}
}

func (m *matching[S]) list(l *listGroup, s *step, p *places) {
	if len(l.held) > 0 && s.turned == "" && !m.supposed {
		at := l.crosses(s)
		for _, w := range l.windows {
			m.move(w, s, at)
		}
	}
	may, was, is, matters := l.weigh(s, p)
	if !matters {
		return
	}
	for _, w := range l.windows {
		window := &w.Window
		if w.turn != nil {
			window = &w.turn.now
		}
		o := l.outcome(window, may, s, was, is)
		if o.leaves(window) {
			continue
		}
		if w.turn == nil {
			w.turn = &turn{w: w, now: w.Window}
			m.turns = append(m.turns, w.turn)
		}
		t := w.turn
		t.now.Rows, t.now.Ends, t.now.lost = o.rows, o.ends, o.lost
		t.more, t.shows = t.more+o.more, t.shows || o.shows
	}
}

// judge finds those who show windows that look otherwise once all of the commit has
// happened, and lets the windows be what they have become.
func (m *matching[S]) judge() {
	for _, t := range m.turns {
		w, now := t.w, &t.now
		w.turn = nil
		if now.lost || t.shows || w.list.Count && t.more != 0 || !w.alike(now.Rows, now.Ends) {
			m.window(w)
		}
		if m.supposed || !now.lost && now.Ends == w.Ends && slices.Equal(now.Rows, w.Rows) {
			continue
		}
		if !w.followed {
			m.x.hide(w.hash, w.id) // it is not what it was made as
		}
		w.Rows, w.Ends, w.lost, w.followed = now.Rows, now.Ends, now.lost, true
	}
}

// Ask is what must be known of an entry, in a locale, to say whether a change of it
// matters: what conditions on entries that it leads to come to.
type Ask struct {
	Locale string
	Atoms  []filter.Expr
	Texts  []string
	// Type and Way, if there is a way, ask the same of the entries of a type that lead
	// here on it; Key names that.
	Type string
	Way  []filter.Step
	Key  string
}

func (a *Ask) about(l *listGroup) {
	for i := range l.split.Atoms {
		if atom := &l.split.Atoms[i]; len(a.Texts) < maxAsked && !slices.Contains(a.Texts, atom.String()) {
			a.Atoms, a.Texts = append(a.Atoms, atom.Pred()), append(a.Texts, atom.String())
		}
	}
}

// maxAsked bounds how many conditions are asked for one change, maxWays on how many
// ways.
const (
	maxAsked = 100
	maxWays  = 20
)

// Asks returns what the lists that a change may matter to want to know.
func (x *Index[S]) Asks(c *content.Change) []Ask {
	if !alters(c) {
		return nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []Ask
	for locale := range c.Fields {
		t := x.types[space{c.Edition, locale, c.Type}]
		s, _ := stepOf(c, locale)
		if t == nil {
			continue
		}
		a := Ask{Locale: locale}
		t.each(&s, func(l *listGroup) {
			if l.split != nil && l.member(s.after) {
				a.about(l)
			}
		})
		if a.Atoms != nil {
			out = append(out, a)
		}
		from := len(out)
		for _, l := range t.watching {
			for _, way := range l.turned(&s) {
				key := wayKey(l.Type, way)
				i := slices.IndexFunc(out[from:], func(o Ask) bool { return o.Key == key })
				if i < 0 {
					if len(out)-from == maxWays {
						break
					}
					i, out = len(out)-from, append(out, Ask{Locale: locale, Type: l.Type, Way: way, Key: key})
				}
				out[from+i].about(l)
			}
		}
	}
	return out
}

// each calls f for the lists that an entry may matter to, some of them twice.
func (t *listsOfType) each(s *step, f func(*listGroup)) {
	for i, l := range t.others {
		if i < maxTried {
			f(l)
		}
	}
	for field, lists := range t.byValue {
		for _, values := range []content.Fields{s.before, s.after} {
			if values == nil {
				continue
			}
			texts := filter.Texts(values[field])
			if field == "id" {
				texts = []string{s.id}
			}
			for _, v := range texts {
				for _, l := range lists[v] {
					f(l)
				}
			}
		}
	}
}

// move lets those who show a window of a list end when the entry passes the present,
// zero for never, if that is the first thing to happen.
func (m *matching[S]) move(w *windowGroup, s *step, to time.Time) {
	for _, h := range m.x.members.of(m.x.groups.at(w.id).subs) {
		one, d := m.x.subs.at(h), m.x.dues[h]
		if one.gone || d == nil && to.IsZero() || d != nil && (s.sequence <= d.asOf || !d.at.After(s.now)) {
			continue // it has nothing to do with it, knows of it, or is over already
		}
		if d == nil {
			d = &due{}
			m.x.dues[h] = d
		}
		was := d.at
		if d.move(w.list, s.id, to); !d.at.Equal(was) {
			m.moved = append(m.moved, Moved[S]{one.s, d.at})
		}
		if d.at.IsZero() {
			delete(m.x.dues, h)
		}
	}
}

// Moved is a subscriber whose deadline a change has moved; zero: it has none any more.
type Moved[S any] struct {
	Subscriber S
	Deadline   time.Time
}

// Using returns every subscriber that was read by a part of the model that a
// change of the model touches.
func (x *Index[S]) Using(c *content.Change) []S {
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
			return field != model.AllFields && !strings.Contains(field, model.LabelOf("", "")) // that is not about who is there
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
			out.Entries = append(out.Entries, Entry{ID: g.id.String(), Locale: in.locale, Fields: x.fields.at(g.ref)})
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
