package cache

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	"ubiquon/internal/core/invalidation"
)

// source is content of which only versions are known, and the log of how they came to
// be.
type source struct {
	mu       sync.Mutex
	sequence int64
	versions map[string]int64 // the sequence of an entry's newest change
	log      []invalidation.Delta
}

// publish changes some entries in one commit.
func (s *source) publish(entries ...string) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	commit := s.sequence + 1
	for _, e := range entries {
		s.sequence++
		c := titled(e, s.sequence)
		c.Commit = commit
		s.versions[e] = s.sequence
		s.log = append(s.log, c)
	}
	return s.sequence
}

// after returns the first n that were changed after a sequence.
func (s *source) after(sequence int64, n int) []invalidation.Delta {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.log[sequence:min(int(sequence)+n, len(s.log))])
}

// compute reads two entries in one snapshot, and is slow about it.
func (s *source) compute(a, b string) Compute {
	return func(context.Context) (*Response, *invalidation.Set, error) {
		s.mu.Lock()
		sequence, first, second := s.sequence, s.versions[a], s.versions[b]
		s.mu.Unlock()
		for range first % 7 {
			runtime.Gosched()
		}
		r := &Response{
			Status:   200,
			Sequence: sequence,
			Asked:    a + b,
			Content:  NewContent(fmt.Appendf(nil, "%d %d", first, second)),
		}
		return r, &invalidation.Set{
			Edition: "published",
			Entries: []invalidation.Entry{
				{ID: a, Locale: "en", Fields: []string{"title"}}, {ID: b, Locale: "en", Fields: []string{"title"}},
			},
		}, nil
	}
}

// TestNoAnswerOlderThanApplied reads, publishes, follows, throws away and begins
// again at the same time. Whatever had been applied when a read began is in its answer,
// and both entries of a pair, which are always changed in one commit, are as of one.
func TestNoAnswerOlderThanApplied(t *testing.T) {
	s := &source{versions: map[string]int64{}}
	const pairs = 24
	name := func(i int) (a, b string) { return "a" + strconv.Itoa(i), "b" + strconv.Itoa(i) }
	c := New(Options{Bytes: 64 << 10, Remember: 40}, 0)
	var applied [pairs]atomic.Int64
	var done atomic.Bool
	var all sync.WaitGroup
	all.Go(func() { // the follower, who takes one commit or several at a time
		r := rand.New(rand.NewPCG(8400, 1))
		for at := int64(0); !done.Load() || at < s.publishedUpTo(); {
			changes := s.after(at, 2*(1+r.IntN(3)))
			if len(changes) == 0 {
				runtime.Gosched()
				continue
			}
			if c.Apply(changes); r.IntN(200) == 0 {
				c.Reset(c.Applied())
			}
			at = changes[len(changes)-1].Sequence
			for i := range changes {
				if changes[i].Entry[0] == 'b' {
					pair, _ := strconv.Atoi(changes[i].Entry[1:])
					applied[pair].Store(changes[i].Sequence)
				}
			}
		}
	})
	var hits, reads atomic.Int64
	for i := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(8400, uint64(10+i)))
			for !done.Load() {
				pair := r.IntN(pairs)
				a, b := name(pair)
				before := applied[pair].Load()
				got, how, err := c.Read(t.Context(), Request{Key: a, Fresh: r.IntN(40) == 0}, s.compute(a, b))
				if err != nil {
					t.Error(err)
					return
				}
				reads.Add(1)
				if how == Hit {
					hits.Add(1)
				}
				var first, second int64
				if _, err := fmt.Sscan(string(got.Body), &first, &second); err != nil {
					t.Error(err)
				}
				if second < before || first != max(0, second-1) {
					t.Errorf(
						"pair %d is read as %s (outcome %d, sequence %d) after %d was applied", pair, got.Body, how,
						got.Sequence, before,
					)
					return
				}
			}
		})
	}
	all.Go(func() {
		r := rand.New(rand.NewPCG(8400, 2))
		for range 3000 {
			// A few commits ahead of the follower, at most, and of those who read.
			for at := s.publish(name(r.IntN(pairs))); !t.Failed() && (at > c.Applied()+12 || reads.Load() < 4*at); {
				runtime.Gosched()
			}
			if r.IntN(60) == 0 {
				c.Purge(func(r *Response) bool { return r.Asked < "a2" })
			}
		}
		done.Store(true)
	})
	all.Wait()
	// In the end everything is as it is, and nobody is subscribed who is not held.
	for pair := range pairs {
		a, b := name(pair)
		got, _, err := c.Read(t.Context(), Request{Key: a}, s.compute(a, b))
		if err != nil || string(got.Body) != fmt.Sprintf("%d %d", s.versions[a], s.versions[b]) {
			t.Errorf("pair %d ends as %s, %v", pair, got.Body, err)
		}
	}
	c.held.CleanUp()
	stats := c.Stats()
	if stats.Subscribers != stats.Responses || stats.Expired == 0 || hits.Load() < reads.Load()/20 {
		t.Errorf("%d hits of %d reads; %+v", hits.Load(), reads.Load(), stats)
	}
	t.Logf(
		"%d reads, %d hits, %d changes, %d expired, %d joined, %d not stored", reads.Load(), hits.Load(), s.sequence,
		stats.Expired, stats.Joined, stats.Refused,
	)
}

func (s *source) publishedUpTo() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sequence
}
