package invalidation

import (
	"math/bits"
	"slices"
	"unsafe"
)

// pool gives things numbers, from 1, and those of things that are gone to others. What
// it holds never moves, so that growing copies nothing.
type pool[T any] struct {
	pieces [][]T
	last   uint32 // number ever given
	free   []uint32
}

const pieceOfPool = 1 << 10

func (p *pool[T]) at(n uint32) *T { return &p.pieces[n/pieceOfPool][n%pieceOfPool] }

func (p *pool[T]) add(one T) uint32 {
	n := p.last + 1
	if free := len(p.free); free > 0 {
		n, p.free = p.free[free-1], p.free[:free-1]
	} else {
		p.last = n
		if int(n/pieceOfPool) == len(p.pieces) {
			p.pieces = append(p.pieces, make([]T, pieceOfPool))
		}
	}
	*p.at(n) = one
	return n
}

func (p *pool[T]) remove(n uint32) {
	var nothing T
	*p.at(n) = nothing
	p.free = append(p.free, n)
}

// len is how many there are.
func (p *pool[T]) len() int { return int(p.last) - len(p.free) }

func (p *pool[T]) bytes() int {
	var one T
	return p.len() * int(unsafe.Sizeof(one))
}

// chains are heads of chains of numbers that have some bits of their hashes alike. There
// is about one for each number. One chain is split at a time (linear hashing, Litwin
// 1980), so that nobody ever waits until all are rehashed.
type chains struct {
	pieces  [][]uint32
	n       uint64 // chains
	entered int
}

const firstChains = 64

func (c *chains) at(i uint64) *uint32 { return &c.pieces[i/pieceOfPool][i%pieceOfPool] }

// head is where the chain for a hash begins; 0 for an empty one.
func (c *chains) head(hash uint64) *uint32 {
	if c.n == 0 {
		c.n, c.pieces = firstChains, [][]uint32{make([]uint32, pieceOfPool)}
	}
	half := uint64(1) << (bits.Len64(c.n) - 1)
	if i := hash & (2*half - 1); i < c.n {
		return c.at(i)
	}
	return c.at(hash & (half - 1))
}

// grow makes room for one number more. It returns the head of a chain, if there is one
// of which some numbers now belong into another.
func (c *chains) grow() *uint32 {
	if c.entered++; uint64(c.entered) <= max(c.n, firstChains) {
		return nil
	}
	if c.n%pieceOfPool == 0 {
		c.pieces = append(c.pieces, make([]uint32, pieceOfPool))
	}
	half := uint64(1) << (bits.Len64(c.n) - 1)
	c.n++
	return c.at(c.n - 1 - half)
}

func (c *chains) bytes() int { return 4 * int(c.n) }

// lists holds many lists of numbers, most of them short, in pieces of memory without
// pointers: a list takes little more than its numbers, and the garbage collector looks
// into none. Each piece holds lists of one size, and serves another size once it is
// empty.
type lists struct {
	pieces []pieceOfLists
	open   [][]uint32 // pieces that have room, by size
	spare  []uint32   // pieces that are empty
	long   pool[[]uint32]
	words  int // that lists take
}

type pieceOfLists struct {
	words  []uint32
	size   int    // its place in sizes
	used   uint32 // how many lists are in it
	fresh  uint32 // where the part begins that was never used
	free   uint32 // 1 + where the first gap is, which begins with the same of the next
	opened int    // 1 + its place among those that have room; 0 if it has none
}

// list is where a list is held. The zero list is empty.
type list struct{ at, n uint32 }

const (
	wordsOfPiece = 1 << 10
	longestShort = 64
)

// sizes are how many numbers there is room for: a list stands in the smallest.
var sizes = func() (out []uint32) {
	for n := uint32(1); n <= longestShort; n += max(1, n/6) {
		out = append(out, n)
	}
	return append(out, longestShort)
}()

// size is the place in sizes for so many numbers; beyond them all for long lists.
func size(n uint32) int {
	i, _ := slices.BinarySearch(sizes, n)
	return i
}

// of returns a list's numbers. Who changes them changes the list.
func (l *lists) of(at list) []uint32 {
	switch {
	case at.n == 0:
		return nil
	case at.n > longestShort:
		return *l.long.at(at.at)
	}
	return l.pieces[at.at/wordsOfPiece].words[at.at%wordsOfPiece:][:at.n]
}

// hold makes a list of the numbers.
func (l *lists) hold(all []uint32) list {
	n := uint32(len(all))
	switch {
	case n == 0:
		return list{}
	case n > longestShort:
		l.words += len(all)
		return list{l.long.add(slices.Clone(all)), n}
	}
	k := size(n)
	if l.open == nil {
		l.open = make([][]uint32, len(sizes))
	}
	if len(l.open[k]) == 0 {
		l.begin(k)
	}
	number := l.open[k][len(l.open[k])-1]
	p := &l.pieces[number]
	at := p.fresh
	if p.free != 0 {
		at = p.free - 1
		p.free = p.words[at]
	} else {
		p.fresh += sizes[k]
	}
	p.used++
	if p.free == 0 && p.fresh+sizes[k] > wordsOfPiece {
		l.close(number)
	}
	l.words += int(sizes[k])
	copy(p.words[at:], all)
	return list{number*wordsOfPiece + at, n}
}

// begin lets an empty piece hold lists of a size.
func (l *lists) begin(k int) {
	if len(l.spare) == 0 {
		l.spare = append(l.spare, uint32(len(l.pieces)))
		l.pieces = append(l.pieces, pieceOfLists{words: make([]uint32, wordsOfPiece)})
	}
	number := l.spare[len(l.spare)-1]
	l.spare = l.spare[:len(l.spare)-1]
	l.pieces[number] = pieceOfLists{words: l.pieces[number].words, size: k}
	l.reopen(number)
}

func (l *lists) reopen(number uint32) {
	p := &l.pieces[number]
	l.open[p.size] = append(l.open[p.size], number)
	p.opened = len(l.open[p.size])
}

func (l *lists) close(number uint32) {
	p := &l.pieces[number]
	open := l.open[p.size]
	last := open[len(open)-1]
	open[p.opened-1], l.pieces[last].opened = last, p.opened
	l.open[p.size], p.opened = open[:len(open)-1], 0
}

// with returns the list with one more number. The list as it was is no more.
func (l *lists) with(at list, one uint32) list {
	out := list{at.at, at.n + 1}
	switch {
	case at.n > longestShort:
		held := l.long.at(at.at)
		*held = append(*held, one)
		l.words++
	case at.n > 0 && at.n < sizes[size(at.n)]:
		l.of(out)[at.n] = one
	default: // there is no room, so it moves
		var room [longestShort + 1]uint32
		out = l.hold(append(append(room[:0], l.of(at)...), one))
		l.drop(at)
	}
	return out
}

// without returns the list without the numbers for which gone is true. The list as it
// was is no more.
func (l *lists) without(at list, gone func(uint32) bool) list {
	left := slices.DeleteFunc(slices.Clone(l.of(at)), gone)
	l.drop(at)
	return l.hold(left)
}

// drop ends a list.
func (l *lists) drop(at list) {
	switch {
	case at.n == 0:
		return
	case at.n > longestShort:
		l.words -= int(at.n)
		l.long.remove(at.at)
		return
	}
	number := at.at / wordsOfPiece
	p := &l.pieces[number]
	l.words -= int(sizes[p.size])
	p.words[at.at%wordsOfPiece], p.free = p.free, at.at%wordsOfPiece+1
	if p.opened == 0 {
		l.reopen(number)
	}
	if p.used--; p.used == 0 {
		l.close(number)
		l.spare = append(l.spare, number)
	}
}

// bytes is what the lists take.
func (l *lists) bytes() int { return 4 * l.words }
