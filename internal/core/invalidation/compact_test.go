package invalidation

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestListAgreesWithSlice holds the lists against slices: whatever is done to one,
// the others stay as they are, and what is given up is used again.
func TestListAgreesWithSlice(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 2))
	var l lists
	held, want := map[int]list{}, map[int][]uint32{}
	for step := range 200_000 {
		n := r.IntN(300)
		switch r.IntN(8) {
		case 0:
			l.drop(held[n])
			all := make([]uint32, r.IntN(1+r.IntN(100)))
			for i := range all {
				all[i] = r.Uint32()
			}
			held[n], want[n] = l.hold(all), slices.Clone(all)
		case 1:
			odd := func(one uint32) bool { return one%2 == uint32(step)%2 }
			held[n], want[n] = l.without(held[n], odd), slices.DeleteFunc(want[n], odd)
		case 2:
			l.drop(held[n])
			delete(held, n)
			delete(want, n)
		default:
			one := r.Uint32()
			held[n], want[n] = l.with(held[n], one), append(want[n], one)
		}
		if !slices.Equal(l.of(held[n]), want[n]) {
			t.Fatalf("step %d: the list is %v, want %v", step, l.of(held[n]), want[n])
		}
		if step%1000 == 0 {
			for n := range want {
				if !slices.Equal(l.of(held[n]), want[n]) {
					t.Fatalf("step %d: another list became %v, want %v", step, l.of(held[n]), want[n])
				}
			}
		}
	}
	pieces := len(l.pieces)
	for n := range held {
		l.drop(held[n])
	}
	if l.words != 0 || l.long.len() != 0 || len(l.spare) != pieces {
		t.Errorf(
			"after all has gone, lists take %d words, %d are long, and %d of %d pieces are empty", l.words,
			l.long.len(), len(l.spare), pieces,
		)
	}
}

// TestGrowingListsShareMemory lets many lists grow by one at a time, in turn:
// what they have outgrown serves the larger ones.
func TestGrowingListsShareMemory(t *testing.T) {
	var l lists
	held := make([]list, 20_000)
	for n := range uint32(40) {
		for i := range held {
			held[i] = l.with(held[i], n)
		}
		if room, used := len(l.pieces)*wordsOfPiece, len(held)*int(n+1); room > used*5/4+len(
			sizes,
		)*wordsOfPiece+len(
			held,
		) {
			t.Fatalf("%d lists of %d numbers take %d words", len(held), n+1, room)
		}
	}
}

func TestPoolGivesNumbersAgain(t *testing.T) {
	var p pool[string]
	numbers := map[uint32]string{}
	for i := range 5000 {
		name := string(rune('a' + i%26))
		numbers[p.add(name)] = name
	}
	for n := range numbers {
		if n%3 == 0 {
			p.remove(n)
			delete(numbers, n)
		}
	}
	for range 1000 {
		numbers[p.add("again")] = "again"
	}
	if len(numbers) != p.len() || p.last != 5000 {
		t.Errorf("%d things have %d numbers, up to %d", p.len(), len(numbers), p.last)
	}
	for n, name := range numbers {
		if *p.at(n) != name {
			t.Errorf("%d is %q, want %q", n, *p.at(n), name)
		}
	}
}

// TestChainsGrowOneByOne enters numbers by hashes of which some are alike: each stays
// to be found by its own hash, and no chain gets long.
func TestChainsGrowOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 4))
	var c chains
	hashes, next := map[uint32]uint64{}, map[uint32]uint32{}
	for n := uint32(1); n <= 20_000; n++ {
		hashes[n] = r.Uint64()
		if n%100 == 0 {
			hashes[n] = hashes[n-1]
		}
		if from := c.grow(); from != nil {
			all := *from
			for *from = 0; all != 0; {
				head, after := c.head(hashes[all]), next[all]
				next[all], *head, all = *head, all, after
			}
		}
		head := c.head(hashes[n])
		next[n], *head = *head, n
		if n%1000 != 0 {
			continue
		}
		for of, hash := range hashes {
			long, found := 0, false
			for at := *c.head(hash); at != 0; at = next[at] {
				long, found = long+1, found || at == of
			}
			if !found || long > 16 {
				t.Fatalf("among %d, %d is found: %v, in a chain of %d", n, of, found, long)
			}
		}
		if int(c.n) < c.entered || c.entered != int(n) || c.bytes() > 4*int(n)+4*firstChains {
			t.Fatalf("%d in %d chains", c.entered, c.n)
		}
	}
}
