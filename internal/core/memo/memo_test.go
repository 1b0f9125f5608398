package memo_test

import (
	"sync"
	"testing"

	"ubiquon/internal/core/memo"
)

// TestOf makes something once, and each time without a memo.
func TestOf(t *testing.T) {
	made := 0
	one := func() *int { made++; n := made; return &n }
	var m sync.Map
	if a, b := memo.Of(&m, "a", one), memo.Of(&m, "a", one); a != b || made != 1 {
		t.Errorf("made %d times", made)
	}
	if a, b := memo.Of(nil, "a", one), memo.Of(nil, "a", one); a == b || made != 3 {
		t.Errorf("made %d times without a memo", made)
	}
	// Whoever asks at once gets the same.
	var all sync.WaitGroup
	got := make([]*int, 20)
	for i := range got {
		all.Go(func() { got[i] = memo.Of(&m, "b", func() *int { return new(int) }) })
	}
	all.Wait()
	for _, g := range got {
		if g != got[0] {
			t.Error("two were kept under one key")
		}
	}
}
