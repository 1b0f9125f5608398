package invalidation

import (
	"slices"

	"ubiquon/internal/core/content"
)

// Match returns every subscriber that the changes of a commit may affect, each once,
// and those that they let end at another time. What two of the changes do to a list
// may come to nothing in sum. Changes are matched in the order of their sequences, each
// once.
func (x *Index[S]) Match(commit ...*Delta) ([]S, []DeadlineChange[S]) { return x.match(commit, false) }

// Simulate returns what Match would, for changes that have not happened.
func (x *Index[S]) Simulate(commit ...*Delta) []S {
	out, _ := x.match(commit, true)
	return out
}

func (x *Index[S]) match(commit []*Delta, supposed bool) ([]S, []DeadlineChange[S]) {
	x.mu.Lock()
	defer x.mu.Unlock()
	m := matching[S]{x: x, simulated: supposed}
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

type matching[S any] struct {
	x         *Index[S]
	simulated bool
	out       []S
	moved     []DeadlineChange[S]
	pending   []*pendingWindow
}

// pendingWindow is what becomes of a window by the changes of a commit.
type pendingWindow struct {
	w     *windowGroup
	now   Window
	more  int
	shows bool
}

func (m *matching[S]) change(c *Delta) {
	x := m.x
	for locale := range c.Fields {
		s, _ := documentDeltaOf(c, locale)
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

func (m *matching[S]) lists(t *listsOfType, s *documentDelta) {
	for _, l := range t.watching {
		ways := l.changedReferencePaths(s)
		if ways == nil {
			continue
		}
		led, known := l.referrerDeltas(s, ways)
		if !known {
			for _, w := range l.windows {
				m.window(w)
			}
		}
		for i := range led {
			m.list(l, &led[i], &sortKeys{})
		}
	}
	var p sortKeys // the same serve all lists in the same order
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

func (m *matching[S]) list(l *listGroup, s *documentDelta, p *sortKeys) {
	if len(l.held) > 0 && s.turned == "" && !m.simulated {
		at := l.nextTimeTrigger(s)
		for _, w := range l.windows {
			m.move(w, s, at)
		}
	}
	may, was, is, matters := l.effect(s, p)
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
			w.turn = &pendingWindow{w: w, now: w.Window}
			m.pending = append(m.pending, w.turn)
		}
		if l.split != nil && len(l.split.Atoms) > 0 && s.sequence <= w.AsOf && w.AsOf < s.readAt {
			// Somebody has read the window after the change, but before what is told of
			// others: what they were then, nobody knows.
			o.lost = true
		}
		t := w.turn
		t.now.Rows, t.now.Ends, t.now.lost = o.rows, o.ends, o.lost
		t.more, t.shows = t.more+o.more, t.shows || o.shows
	}
}

// judge finds those who show windows that look otherwise once all of the commit has
// happened, and lets the windows be what they have become.
func (m *matching[S]) judge() {
	for _, t := range m.pending {
		w, now := t.w, &t.now
		w.turn = nil
		if now.lost || t.shows || w.list.Count && t.more != 0 || !w.alike(now.Rows, now.Ends) {
			m.window(w)
		}
		if m.simulated || !now.lost && now.Ends == w.Ends && slices.Equal(now.Rows, w.Rows) {
			continue
		}
		if !w.followed {
			m.x.hide(w.hash, w.id) // it is not what it was made as
		}
		w.Rows, w.Ends, w.lost, w.followed = now.Rows, now.Ends, now.lost, true
	}
}
