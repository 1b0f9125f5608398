package replication

import (
	"slices"
	"testing"
)

func TestSlowListenerIsToldToRefreshEverything(t *testing.T) {
	var b Broadcaster
	heard, stop := b.Listen()
	defer stop()
	for range 40 {
		b.Tell("changes")
	}
	b.Tell("model")
	var words []string
	for len(heard) > 0 {
		words = append(words, <-heard)
	}
	if !slices.Contains(words, Everything) || words[len(words)-1] != "model" || len(words) > 16 {
		t.Errorf("told %v", words)
	}
}
