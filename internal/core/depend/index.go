package depend

import (
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
	mu        sync.Mutex
	subs      []sub[S] // by handle; the first is nobody
	freeSubs  []Handle
	live      int
	round     uint32  // of matching, so that nobody is found twice
	groups    []group // the first is none
	freeGroup []uint32

	docs    map[docKey]uint32 // the first group; it knows the next
	lookups map[string]uint32
	lists   map[string]*listGroup
	types   map[typeKey]*listsOfType
	fields  map[string]*fieldset
	names   map[string]string // of locales, types and editions, each kept once
	spaces  map[space]uint16
	bySpace []space
	uses    map[string]*useset
	// byField and windows have by number what groups refer to.
	byField numbered[*fieldset]
	windows numbered[*windowGroup]
	// bytes is about what all of it takes.
	bytes int
	// deadlines, in microseconds, are those of the few who have one.
	deadlines map[Handle]int64
}

// numbered gives things numbers, and those of things that are gone to others.
type numbered[T any] struct {
	all  []T
	free []uint32
}

// What things take, with what maps and slices keep free: measured, not computed.
const (
	bytesOfSub    = 70  // and 4 for each group
	bytesOfHandle = 6   // in a group
	bytesOfGroup  = 140 // and its key
	bytesOfWindow = 360 // and its key and rows
	bytesOfList   = 2500
)

// bytesOf is what a group takes beside its handles.
func (x *Index[S]) bytesOf(g *group) int {
	n := bytesOfGroup + len(g.key)
	if g.kind == ofWindow {
		n += x.windows.all[g.ref].bytes
	}
	return n
}

func (n *numbered[T]) add(one T) uint32 {
	if free := len(n.free); free > 0 {
		i := n.free[free-1]
		n.free, n.all[i] = n.free[:free-1], one
		return i
	}
	n.all = append(n.all, one)
	return uint32(len(n.all) - 1)
}

func (n *numbered[T]) remove(i uint32) {
	var nothing T
	n.all[i] = nothing
	n.free = append(n.free, i)
}

type (
	sub[S any] struct {
		s      S
		groups []uint32
		uses   *useset
		round  uint32
		in     int32 // groups that still name it
	}
	// space is an edition in a locale.
	space  struct{ edition, locale string }
	docKey struct {
		space uint16
		id    string
	}
	typeKey struct{ edition, locale, typ string }
	// group is those who depend on one thing in one way: who have read the fields of a
	// document, who have searched for something, or who show a window. There are many of
	// them, so they are small.
	group struct {
		subs []Handle
		// key is the document's id, or that of the lookup.
		key string
		// ref is the number of the fieldset, or of the window.
		ref   uint32
		dead  int32
		next  uint32 // of the same document, 0 for none
		space uint16
		kind  kind
	}
	kind uint8
)

const (
	ofNobody kind = iota
	ofDocument
	ofLookup
	ofWindow
)

type (
	// fieldset and useset are lists that many hold, each kept once for as long as
	// somebody does.
	fieldset struct {
		names   []string
		holders int
		number  uint32
	}
	useset struct {
		key     string
		all     []Use
		holders int
	}
	windowGroup struct {
		*Window
		list   *listGroup
		id     uint32
		number uint32
		bytes  int
		key    string
	}
)

// listGroup is the windows of one template.
type listGroup struct {
	template
	key     string
	edition string
	windows []*windowGroup
	byKey   map[string]*windowGroup // only if there are many
	round   uint32
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

// manyWindows is from when on windows are found by their key.
const manyWindows = 8

// NewIndex returns an empty index.
func NewIndex[S any]() *Index[S] {
	return &Index[S]{subs: make([]sub[S], 1), groups: make([]group, 1), docs: map[docKey]uint32{}, lookups: map[string]uint32{}, lists: map[string]*listGroup{},
		types: map[typeKey]*listsOfType{}, fields: map[string]*fieldset{}, names: map[string]string{}, spaces: map[space]uint16{}, uses: map[string]*useset{}, deadlines: map[Handle]int64{}}
}

// Add subscribes s to what affects the set.
func (x *Index[S]) Add(s S, set *Set) Handle {
	x.mu.Lock()
	defer x.mu.Unlock()
	h := Handle(len(x.subs))
	if n := len(x.freeSubs); n > 0 {
		h, x.freeSubs = x.freeSubs[n-1], x.freeSubs[:n-1]
	} else {
		x.subs = append(x.subs, sub[S]{})
	}
	x.live++
	one := sub[S]{s: s, groups: make([]uint32, 0, len(set.Entries)+len(set.Lookups)+len(set.Lists)), uses: x.used(set.Uses)}
	if !set.Deadline.IsZero() {
		x.deadlines[h] = set.Deadline.UnixMicro()
	}
	for i := range set.Entries {
		one.groups = append(one.groups, x.doc(set.Edition, &set.Entries[i]))
	}
	for _, l := range set.Lookups {
		one.groups = append(one.groups, x.lookup(set.Edition, l))
	}
	for i := range set.Lists {
		one.groups = append(one.groups, x.window(set.Edition, &set.Lists[i]))
	}
	slices.Sort(one.groups)
	one.groups = slices.Clip(slices.Compact(one.groups))
	one.in = int32(len(one.groups))
	for _, g := range one.groups {
		// Most groups stay small: room for a few more is enough.
		if in := x.groups[g].subs; len(in) == cap(in) {
			x.groups[g].subs = slices.Grow(in, 1+len(in)/4)
		}
		x.groups[g].subs = append(x.groups[g].subs, h)
	}
	x.bytes += one.bytes()
	x.subs[h] = one
	return h
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

func (x *Index[S]) used(uses []Use) *useset {
	var b strings.Builder
	for _, u := range uses {
		b.WriteString(u.Type + "\x00" + u.Locale + "\x00" + strings.Join(u.Fields, ",") + "\x00")
	}
	held := x.uses[b.String()]
	if held == nil {
		held = &useset{key: b.String(), all: slices.Clone(uses)}
		x.uses[held.key] = held
	}
	held.holders++
	return held
}

func (x *Index[S]) newGroup(of group) uint32 {
	n := uint32(len(x.groups))
	if free := len(x.freeGroup); free > 0 {
		n, x.freeGroup = x.freeGroup[free-1], x.freeGroup[:free-1]
		x.groups[n] = of
	} else {
		x.groups = append(x.groups, of)
	}
	x.bytes += x.bytesOf(&of)
	return n
}

// space numbers the spaces.
func (x *Index[S]) space(edition, locale string) uint16 {
	n, ok := x.spaces[space{edition, locale}]
	if !ok {
		own := space{x.kept(edition), x.kept(locale)}
		n = uint16(len(x.bySpace))
		x.spaces[own], x.bySpace = n, append(x.bySpace, own)
	}
	return n
}

// readers calls f for the groups of those who have read a document.
func (x *Index[S]) readers(edition, locale, id string, f func(g uint32, fields []string)) {
	n, ok := x.spaces[space{edition, locale}]
	if !ok {
		return
	}
	for g := x.docs[docKey{n, id}]; g != 0; g = x.groups[g].next {
		f(g, x.byField.all[x.groups[g].ref].names)
	}
}

func (x *Index[S]) doc(edition string, e *Entry) uint32 {
	key := docKey{x.space(edition, e.Locale), e.ID}
	first := x.docs[key]
	for g := first; g != 0; g = x.groups[g].next {
		if slices.Equal(x.byField.all[x.groups[g].ref].names, e.Fields) {
			return g
		}
	}
	joined := strings.Join(e.Fields, ",")
	fields := x.fields[joined]
	if fields == nil {
		fields = &fieldset{names: slices.Clone(e.Fields)}
		fields.number = x.byField.add(fields)
		x.fields[joined] = fields
	}
	fields.holders++
	if first == 0 {
		key.id = strings.Clone(e.ID)
	} else {
		key.id = x.groups[first].key
	}
	g := x.newGroup(group{kind: ofDocument, space: key.space, key: key.id, ref: fields.number, next: first})
	x.docs[key] = g
	return g
}

// leave ends what a group depends on.
func (x *Index[S]) leave(g uint32) {
	switch of := &x.groups[g]; of.kind {
	case ofDocument:
		x.leaveDoc(g)
	case ofLookup:
		delete(x.lookups, of.key)
	case ofWindow:
		x.leaveWindow(x.windows.all[of.ref])
	}
}

func (x *Index[S]) leaveDoc(g uint32) {
	d := x.groups[g]
	if fields := x.byField.all[d.ref]; fields.holders == 1 {
		delete(x.fields, strings.Join(fields.names, ","))
		x.byField.remove(d.ref)
	} else {
		fields.holders--
	}
	next, key := d.next, docKey{d.space, d.key}
	if first := x.docs[key]; first != g {
		for first != 0 && x.groups[first].next != g {
			first = x.groups[first].next
		}
		x.groups[first].next = next
	} else if next == 0 {
		delete(x.docs, key)
	} else {
		x.docs[key] = next
	}
}

func lookupKey(edition, typ, locale, slug, path string) string {
	return edition + "\x00" + typ + "\x00" + locale + "\x00" + slug + "\x00" + path
}

func (x *Index[S]) lookup(edition string, l Lookup) uint32 {
	key := lookupKey(edition, l.Type, l.Locale, l.Slug, l.Path)
	if g, ok := x.lookups[key]; ok {
		return g
	}
	g := x.newGroup(group{kind: ofLookup, key: key})
	x.lookups[key] = g
	return g
}

func (x *Index[S]) window(edition string, l *List) uint32 {
	key := l.key(edition)
	list := x.lists[key]
	if list == nil {
		own := *l
		own.Window = Window{}
		list = &listGroup{template: newTemplate(&own), key: key, edition: x.kept(edition)}
		x.lists[key] = list
		x.enlist(list)
		x.bytes += bytesOfList + 3*len(key)
	}
	wk := l.Window.key()
	if w := list.find(wk); w != nil {
		w.AsOf = max(w.AsOf, l.Window.AsOf)
		return w.id
	}
	own := l.Window
	own.Rows = compacted(own.Rows)
	w := &windowGroup{Window: &own, list: list, key: wk}
	w.bytes = bytesOfWindow + len(wk)
	for _, r := range own.Rows {
		w.bytes += 16 + len(r)
	}
	w.number = x.windows.add(w)
	w.id = x.newGroup(group{kind: ofWindow, ref: w.number})
	list.windows = append(list.windows, w)
	switch n := len(list.windows); {
	case list.byKey != nil:
		list.byKey[wk] = w
	case n > manyWindows:
		list.byKey = make(map[string]*windowGroup, n)
		for _, w := range list.windows {
			list.byKey[w.key] = w
		}
	}
	return w.id
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

func (l *listGroup) find(key string) *windowGroup {
	if l.byKey != nil {
		return l.byKey[key]
	}
	for _, w := range l.windows {
		if w.key == key {
			return w
		}
	}
	return nil
}

// rename lets a window not be found any more by what it was.
func (l *listGroup) rename(w *windowGroup) {
	delete(l.byKey, w.key)
	w.key, w.followed = "", false
}

func (x *Index[S]) leaveWindow(w *windowGroup) {
	l := w.list
	x.windows.remove(w.number)
	if i := slices.Index(l.windows, w); i >= 0 {
		l.windows = slices.Delete(l.windows, i, i+1)
	}
	delete(l.byKey, w.key)
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
	key := typeKey{edition, locale, typ}
	t := x.types[key]
	if t == nil {
		t = &listsOfType{byValue: map[string]map[string][]*listGroup{}}
		x.types[typeKey{x.kept(edition), x.kept(locale), x.kept(typ)}] = t
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
	one := &x.subs[h]
	if h == 0 || one.groups == nil {
		return
	}
	x.live--
	if one.uses.holders--; one.uses.holders == 0 {
		delete(x.uses, one.uses.key)
	}
	groups := one.groups
	x.bytes -= one.bytes()
	var nobody S
	one.s, one.groups = nobody, nil
	delete(x.deadlines, h)
	if one.in == 0 {
		x.free(h)
	}
	for _, n := range groups {
		g := &x.groups[n]
		if g.dead++; int(g.dead)*2 > len(g.subs) {
			x.sweep(n)
		}
	}
}

// bytes is what a subscription takes, with its handles in groups.
func (s *sub[S]) bytes() int { return bytesOfSub + (4+bytesOfHandle)*len(s.groups) }

// gone tells whether the subscription has ended, and is only named by groups.
func (s *sub[S]) gone() bool { return s.groups == nil }

func (x *Index[S]) free(h Handle) {
	x.subs[h] = sub[S]{}
	x.freeSubs = append(x.freeSubs, h)
}

// sweep takes those who have left out of a group, and ends it if nobody is left.
func (x *Index[S]) sweep(n uint32) {
	g := &x.groups[n]
	g.subs = slices.DeleteFunc(g.subs, func(h Handle) bool {
		one := &x.subs[h]
		if !one.gone() {
			return false
		}
		if one.in--; one.in == 0 {
			x.free(h)
		}
		return true
	})
	g.dead = 0
	if len(g.subs) == 0 {
		x.bytes -= x.bytesOf(g)
		x.leave(n)
		x.groups[n] = group{}
		x.freeGroup = append(x.freeGroup, n)
	} else if cap(g.subs) > 4*len(g.subs) {
		g.subs = slices.Clone(g.subs)
	}
}

// Match returns every subscriber that the change may affect, each once, and those
// that it lets end sooner. Changes are matched in the order of their sequences, each
// once.
func (x *Index[S]) Match(c *content.Change) ([]S, []Sooner[S]) { return x.match(c, false) }

// Supposing returns what Match would, for a change that has not happened.
func (x *Index[S]) Supposing(c *content.Change) []S {
	out, _ := x.match(c, true)
	return out
}

func (x *Index[S]) match(c *content.Change, supposed bool) ([]S, []Sooner[S]) {
	if !alters(c) {
		return nil, nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	m := matching[S]{x: x, supposed: supposed}
	x.round++
	for locale := range c.Fields {
		s, _ := stepOf(c, locale)
		x.readers(c.Edition, locale, c.Entry, func(g uint32, fields []string) {
			if reads(fields, &s) {
				m.all(g)
			}
		})
		if was, is := slugOf(s.before), slugOf(s.after); was != is {
			m.lookup(lookupKey(c.Edition, c.Type, locale, was, ""))
			m.lookup(lookupKey(c.Edition, c.Type, locale, is, ""))
		}
		if was, is := pathOf(s.before), pathOf(s.after); was != is {
			m.lookup(lookupKey(c.Edition, "", locale, "", was))
			m.lookup(lookupKey(c.Edition, "", locale, "", is))
			if c.Edition == content.Published && was != "" {
				m.lookup(lookupKey(content.Preview, "", locale, "", was)) // it remembers
			}
		}
		if t := x.types[typeKey{c.Edition, locale, c.Type}]; t != nil {
			m.lists(t, &s)
		}
	}
	return m.out, m.sooner
}

type matching[S any] struct {
	x        *Index[S]
	supposed bool
	out      []S
	sooner   []Sooner[S]
}

// all finds everybody in a group.
func (m *matching[S]) all(g uint32) {
	m.some(g, func(*sub[S]) bool { return true })
}

func (m *matching[S]) some(g uint32, is func(*sub[S]) bool) {
	for _, h := range m.x.groups[g].subs {
		if one := &m.x.subs[h]; !one.gone() && one.round != m.x.round && is(one) {
			one.round = m.x.round
			m.out = append(m.out, one.s)
		}
	}
}

func (m *matching[S]) lookup(key string) {
	if g, ok := m.x.lookups[key]; ok {
		m.all(g)
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
				m.all(w.id)
			}
		}
		for i := range led {
			m.list(l, &led[i], &places{})
		}
	}
	var p places // the same serve all lists in the same order
	t.each(s, func(l *listGroup) {
		if l.round != m.x.round {
			l.round = m.x.round
			m.list(l, s, &p)
		}
	})
	for _, l := range t.others[min(len(t.others), maxTried):] {
		for _, w := range l.windows {
			m.all(w.id)
		}
	}
}

func (m *matching[S]) list(l *listGroup, s *step, p *places) {
	if at := l.crosses(s); !at.IsZero() {
		for _, w := range l.windows {
			m.end(w.id, at)
		}
	}
	may, was, is, matters := l.weigh(s, p)
	if !matters {
		return
	}
	for _, w := range l.windows {
		window := w.Window
		if m.supposed {
			copied := *window
			window = &copied
		}
		if l.affected(window, may, s, was, is, true) {
			m.all(w.id)
		}
		if w.followed {
			l.rename(w)
		}
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
		t := x.types[typeKey{c.Edition, locale, c.Type}]
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

// end lets the members of a group end at a moment, if that is sooner than they would.
func (m *matching[S]) end(g uint32, at time.Time) {
	for _, h := range m.x.groups[g].subs {
		one := &m.x.subs[h]
		if held, has := m.x.deadlines[h]; !one.gone() && (!has || at.UnixMicro() < held) {
			if !m.supposed {
				m.x.deadlines[h] = at.UnixMicro()
			}
			m.sooner = append(m.sooner, Sooner[S]{one.s, at})
		}
	}
}

// Sooner is a subscriber whose deadline a change has moved.
type Sooner[S any] struct {
	Subscriber S
	Deadline   time.Time
}

// Using returns every subscriber that was read by a part of the model that a
// change of the model touches.
func (x *Index[S]) Using(c *content.Change) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	hit := map[*useset]bool{}
	for _, uses := range x.uses {
		hit[uses] = len(c.Fields) == 0 || slices.ContainsFunc(uses.all, func(u Use) bool {
			return u.touchedBy(c.Fields[u.Locale]) || u.touchedBy(c.Fields[model.Everything])
		})
	}
	var out []S
	for i := range x.subs {
		if one := &x.subs[i]; one.uses != nil && !one.gone() && hit[one.uses] {
			out = append(out, one.s)
		}
	}
	return out
}

func (u Use) touchedBy(touched []string) bool {
	return slices.ContainsFunc(touched, func(name string) bool {
		if name == model.Everything || u.Type == "" || name == u.Type {
			return true
		}
		field, of := strings.CutPrefix(name, u.Type+".")
		return of && slices.Contains(u.Fields, field)
	})
}

// Reading returns who has read something of an entry in an edition and a locale.
func (x *Index[S]) Reading(edition, entry, locale string) []S {
	x.mu.Lock()
	defer x.mu.Unlock()
	m := matching[S]{x: x}
	x.round++
	x.readers(edition, locale, entry, func(g uint32, _ []string) { m.all(g) })
	return m.out
}

// Uses returns the types of the model that a subscriber was read by. Nobody may
// change them.
func (x *Index[S]) Uses(h Handle) []Use {
	x.mu.Lock()
	defer x.mu.Unlock()
	if uses := x.subs[h].uses; uses != nil {
		return uses.all
	}
	return nil
}

// Set returns what a subscriber depends on.
func (x *Index[S]) Set(h Handle) *Set {
	x.mu.Lock()
	defer x.mu.Unlock()
	one := &x.subs[h]
	out := &Set{}
	if at, has := x.deadlines[h]; has {
		out.Deadline = time.UnixMicro(at).UTC()
	}
	if one.uses != nil {
		out.Uses = one.uses.all
	}
	for _, g := range one.groups {
		switch of := &x.groups[g]; of.kind {
		case ofDocument:
			in := x.bySpace[of.space]
			out.Edition = in.edition
			out.Entries = append(out.Entries, Entry{ID: of.key, Locale: in.locale, Fields: x.byField.all[of.ref].names})
		case ofLookup:
			p := strings.Split(of.key, "\x00")
			out.Edition = p[0]
			out.Lookups = append(out.Lookups, Lookup{Type: p[1], Locale: p[2], Slug: p[3], Path: p[4]})
		case ofWindow:
			w := x.windows.all[of.ref]
			l := *w.list.List
			out.Edition, l.Window = w.list.edition, *w.Window
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
	return x.bytes
}

// Len returns how many are subscribed.
func (x *Index[S]) Len() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.live
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
