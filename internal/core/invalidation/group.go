package invalidation

import (
	"hash/maphash"
	"slices"
	"strings"
)

// search is one for a slug, or for a path.
type search struct {
	text  string
	path  bool
	found bool
}

func (s *search) bytes() int { return bytesOfSearch + len(s.text) }

type windowGroup struct {
	Window
	list  *listGroup
	id    uint32
	hash  uint64
	bytes int
	turn  *pendingWindow // while changes are matched
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
	doc, ok := x.findID(id)
	if !ok {
		return
	}
	x.each(x.hashOfDoc(in, doc), ofDocument, func(_ uint32, g *group) {
		if g.space == in && g.id == doc {
			f(g, x.fields.at(g.ref))
		}
	})
}

func (x *Index[S]) doc(edition string, e *Entry) (out uint32) {
	in, id := x.space(space{edition, e.Locale, ""}), x.holdID(e.ID)
	hash := x.hashOfDoc(in, id)
	x.each(hash, ofDocument, func(n uint32, g *group) {
		if g.space == in && g.id == id && slices.Equal(x.fields.at(g.ref), e.Fields) {
			out = n
		}
	})
	if out != 0 {
		x.dropID(id)
	} else {
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

// leave ends what a group depends on.
func (x *Index[S]) leave(n uint32) {
	switch g := x.groups.at(n); g.kind {
	case ofDocument:
		x.hide(x.hashOfDoc(g.space, g.id), n)
		x.dropID(g.id)
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
		own.Window, own.TimeTriggers = Window{}, TimeTriggers{}
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
	own.Rows, own.followed = compacted(own.Rows), false
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
		after, before SortKey
	}{l, w.Limit, w.Offset, w.After, w.Before})
	for _, r := range w.Rows {
		_, _ = h.WriteString(string(r))
	}
	return h.Sum64()
}

// same tells whether windows of the same list show the same.
func (w *Window) same(o *Window) bool {
	return w.Limit == o.Limit && w.Beyond == o.Beyond && w.Offset == o.Offset && w.FromEnd == o.FromEnd &&
		w.Skipped == o.Skipped && w.StatesSize == o.StatesSize && w.Ends == o.Ends &&
		w.Cursors == o.Cursors && w.After == o.After && w.Before == o.Before &&
		slices.Equal(w.Rows, o.Rows)
}

// compacted copies places into one piece of memory.
func compacted(rows []SortKey) []SortKey {
	n := 0
	for _, r := range rows {
		n += len(r)
	}
	var b strings.Builder
	b.Grow(n)
	for _, r := range rows {
		b.WriteString(string(r))
	}
	out, all := make([]SortKey, len(rows)), SortKey(b.String())
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
