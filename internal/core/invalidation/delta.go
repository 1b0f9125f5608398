package invalidation

import (
	"iter"

	"ubiquon/internal/core/content"
)

// Delta is a change with what must be known beside it to tell what it affects. What is
// unknown is allowed for: more is called affected then.
type Delta struct {
	content.Change
	// PredicateValues hold, by locale and by the text of a condition on entries that this
	// one refers to, what it came to once the change was made: 0 unknown to SQL, 1 false,
	// 2 true. They were read in the follower's snapshot; see Ask.
	PredicateValues map[string]map[string]int8
	// Referrers are, by locale and by the path of references that leads here, the entries
	// from which it does, likewise.
	Referrers map[string]map[string][]Referrer
	// OthersChanged says that other entries changed too before that snapshot.
	OthersChanged bool
	// ReadAt is the sequence of the snapshot, if it is not the change's own.
	ReadAt int64
}

// Referrer is an entry from which a path of references leads to one that changed.
type Referrer struct {
	ID              string
	Values          content.Fields
	PredicateValues map[string]int8
	// Others are what the conditions come to without the entry that changed, of
	// conditions for which that can be said.
	Others map[string]int8
}

// Deltas returns the deltas of changes of which nothing more is known.
func Deltas(changes ...content.Change) []Delta {
	out := make([]Delta, len(changes))
	for i, c := range changes {
		out[i].Change = c
	}
	return out
}

// Commits takes deltas, which come in order, apart by their commits.
func Commits(deltas []Delta) iter.Seq[[]*Delta] {
	return func(yield func([]*Delta) bool) {
		var commit []*Delta
		for i := range deltas {
			commit = append(commit, &deltas[i])
			if last := i == len(deltas)-1; last || deltas[i+1].Commit != deltas[i].Commit {
				if !yield(commit) {
					return
				}
				commit = nil
			}
		}
	}
}
