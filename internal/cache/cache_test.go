package cache

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// of makes a response that shows the title of an entry as of a sequence.
func of(entry string, sequence int64) *Response {
	body := fmt.Appendf(nil, "%s@%d", entry, sequence)
	return &Response{Status: 200, Content: NewContent(body), Sequence: sequence, Asked: entry}
}

// made is what those responses are made of.
func made(r *Response) *invalidation.Set {
	return &invalidation.Set{
		Edition: "published",
		Entries: []invalidation.Entry{{ID: r.Asked, Locale: "en", Fields: []string{"title"}}},
	}
}

// titled is the change of an entry's title at a sequence.
func titled(entry string, sequence int64) invalidation.Delta {
	f := content.Fields{"slug": entry}
	return invalidation.Delta{Change: content.Change{
		Kind:     content.ContentChange,
		Edition:  "published",
		Entry:    entry,
		Type:     "pier",
		Sequence: sequence,
		Commit:   sequence,
		Fields: map[string][]string{
			"en": {"title"},
		},
		Before: map[string]content.Fields{"en": f},
		After:  map[string]content.Fields{"en": f},
	}}
}

func computes(r *Response) Compute {
	return func(context.Context) (*Response, *invalidation.Set, error) { return r, made(r), nil }
}

func mustRead(t *testing.T, c *Cache, key string, compute Compute, want Outcome) *Response {
	t.Helper()
	r, outcome, err := c.Read(t.Context(), Request{Key: key}, compute)
	if err != nil || outcome != want {
		t.Fatalf("reading %s: outcome %d, want %d, error %v", key, outcome, want, err)
	}
	return r
}

func TestChangeExpiresExactlyAffectedResponses(t *testing.T) {
	c := New(Options{}, 10)
	mustRead(t, c, "a", computes(of("a", 10)), Miss)
	mustRead(t, c, "b", computes(of("b", 10)), Miss)
	mustRead(t, c, "a", nil, Hit)
	if n := c.Apply([]invalidation.Delta{titled("a", 11)}); len(n) != 1 || c.Applied() != 11 {
		t.Errorf("%d expired, applied %d", len(n), c.Applied())
	}
	mustRead(t, c, "b", nil, Hit)
	if r := mustRead(t, c, "a", computes(of("a", 11)), Miss); string(r.Body) != "a@11" {
		t.Errorf("got %s", r.Body)
	}
	if n := c.Apply([]invalidation.Delta{titled("a", 11)}); len(n) != 0 {
		t.Error("a change expires a response that knows of it")
	}
	if s := c.Stats(); s.Hits != 2 || s.Misses != 3 || s.Expired != 1 || s.Responses != 2 || s.Subscribers != 2 {
		t.Errorf("stats %+v", s)
	}
}

// TestStoreRace stops at the point at which a response has been read from
// the old state, and the change is applied before it is stored.
func TestStoreRace(t *testing.T) {
	c := New(Options{}, 10)
	r := mustRead(t, c, "a", func(context.Context) (*Response, *invalidation.Set, error) {
		stale := of("a", 10)
		c.Apply([]invalidation.Delta{titled("a", 11)}) // behind the snapshot's back
		return stale, made(stale), nil
	}, Miss)
	if string(r.Body) != "a@10" {
		t.Errorf("the one who began gets %s", r.Body)
	}
	if _, ok := c.Get("a"); ok {
		t.Fatal("a response that was affected before it was stored can be found")
	}
	if s := c.Stats(); s.Subscribers != 0 || s.Refused != 1 {
		t.Errorf("stats %+v", s)
	}
	// An unaffected one is stored, although changes came meanwhile.
	mustRead(t, c, "b", func(context.Context) (*Response, *invalidation.Set, error) {
		b := of("b", 11)
		c.Apply([]invalidation.Delta{titled("a", 12)})
		return b, made(b), nil
	}, Miss)
	mustRead(t, c, "b", nil, Hit)
}

func TestNotStoredWhenTheRingDoesNotReachBack(t *testing.T) {
	c := New(Options{Remember: 3}, 10)
	mustRead(t, c, "a", func(context.Context) (*Response, *invalidation.Set, error) {
		for s := range int64(5) {
			c.Apply([]invalidation.Delta{titled("b", 11+s)})
		}
		return of("a", 10), made(of("a", 10)), nil
	}, Miss)
	if _, ok := c.Get("a"); ok {
		t.Error("stored, although it is not known whether it was affected")
	}
	mustRead(t, c, "a", func(context.Context) (*Response, *invalidation.Set, error) {
		r := of("a", 15)
		c.Reset(15)
		return r, made(r), nil
	}, Miss)
	if _, ok := c.Get("a"); ok {
		t.Error("stored, although the cache began anew while it was read")
	}
}

// TestFlightRace: a reader who comes after a change must not get the result of
// a computation that began before it.
func TestFlightRace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{}, 10)
		finish := make(chan struct{})
		var first, second *Response
		var wg sync.WaitGroup
		wg.Go(func() {
			first, _, _ = c.Read(
				t.Context(),
				Request{Key: "a"},
				func(context.Context) (*Response, *invalidation.Set, error) {
					<-finish
					return of("a", 10), made(of("a", 10)), nil
				},
			)
		})
		synctest.Wait() // the first one computes
		c.Apply([]invalidation.Delta{titled("a", 11)})
		recomputed := false
		wg.Go(func() {
			second, _, _ = c.Read(
				t.Context(),
				Request{Key: "a"},
				func(context.Context) (*Response, *invalidation.Set, error) {
					recomputed = true
					return of("a", 11), made(of("a", 11)), nil
				},
			)
		})
		synctest.Wait() // the second one waits for the first
		close(finish)
		wg.Wait()
		if string(first.Body) != "a@10" || string(second.Body) != "a@11" || !recomputed {
			t.Errorf("first %s, second %s, recomputed %t", first.Body, second.Body, recomputed)
		}
	})
}

func TestWaiterAcceptsUnaffectedResult(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{}, 10)
		finish := make(chan struct{})
		var computed atomic.Int32
		var outcomes [4]Outcome
		var wg sync.WaitGroup
		for i := range 4 {
			wg.Go(func() {
				_, outcomes[i], _ = c.Read(
					t.Context(),
					Request{Key: "a"},
					func(context.Context) (*Response, *invalidation.Set, error) {
						computed.Add(1)
						<-finish
						return of("a", 10), made(of("a", 10)), nil
					},
				)
			})
			synctest.Wait()
			if i == 1 {
				c.Apply([]invalidation.Delta{titled("b", 11)}) // concerns somebody else
			}
		}
		close(finish)
		wg.Wait()
		if computed.Load() != 1 || outcomes != [4]Outcome{Miss, Joined, Joined, Joined} {
			t.Errorf("computed %d times, outcomes %v", computed.Load(), outcomes)
		}
	})
}

func TestFailureIsNotCached(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{}, 10)
		broken := errors.New("broken")
		finish := make(chan struct{})
		var errs [3]error
		var wg sync.WaitGroup
		for i := range 3 {
			wg.Go(func() {
				_, _, errs[i] = c.Read(
					t.Context(),
					Request{Key: "a"},
					func(context.Context) (*Response, *invalidation.Set, error) {
						<-finish
						return nil, nil, broken
					},
				)
			})
		}
		synctest.Wait()
		close(finish)
		wg.Wait()
		for _, err := range errs {
			if !errors.Is(err, broken) {
				t.Errorf("a waiter got %v", err)
			}
		}
		mustRead(t, c, "a", computes(of("a", 10)), Miss)
	})
}

func TestPanicIsReturnedAsError(t *testing.T) {
	c := New(Options{}, 10)
	if _, _, err := c.Read(t.Context(), Request{Key: "a"},
		func(context.Context) (*Response, *invalidation.Set, error) { panic("spilt ink") }); err == nil ||
		!strings.Contains(err.Error(), "spilt ink") {
		t.Errorf("got %v", err)
	}
	mustRead(t, c, "a", computes(of("a", 10)), Miss)
}

func TestCancelledWaiterDoesNotCancelOthers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{}, 10)
		finish := make(chan struct{})
		impatient, leave := context.WithCancel(t.Context())
		var gaveUp, stayed error
		var wg sync.WaitGroup
		compute := func(ctx context.Context) (*Response, *invalidation.Set, error) {
			<-finish
			return of("a", 10), made(of("a", 10)), ctx.Err()
		}
		wg.Go(func() { _, _, gaveUp = c.Read(impatient, Request{Key: "a"}, compute) })
		synctest.Wait()
		wg.Go(func() { _, _, stayed = c.Read(t.Context(), Request{Key: "a"}, compute) })
		synctest.Wait()
		leave()
		synctest.Wait()
		close(finish)
		wg.Wait()
		if !errors.Is(gaveUp, context.Canceled) || stayed != nil {
			t.Errorf("who gave up: %v, who stayed: %v", gaveUp, stayed)
		}
	})
}

func TestFreshComputesAndStores(t *testing.T) {
	c := New(Options{}, 10)
	mustRead(t, c, "a", computes(of("a", 10)), Miss)
	r, outcome, err := c.Read(t.Context(), Request{Key: "a", Fresh: true}, computes(of("a", 12)))
	if err != nil || outcome != Bypassed || string(r.Body) != "a@12" {
		t.Fatalf("%v %d %s", err, outcome, r.Body)
	}
	if r := mustRead(t, c, "a", nil, Hit); string(r.Body) != "a@12" {
		t.Errorf("held is %s", r.Body)
	}
	if s := c.Stats(); s.Subscribers != 1 {
		t.Errorf("%d subscribers after a replacement", s.Subscribers)
	}
}

func TestBytesAreBoundedAndEvictionUnsubscribes(t *testing.T) {
	c := New(Options{Bytes: 1 << 20}, 10)
	for i := range 4000 {
		r := of(fmt.Sprint(i), 10)
		r.Body = make([]byte, 1000)
		r.Body[0], r.Body[1] = byte(i), byte(i>>8)
		mustRead(t, c, fmt.Sprint(i), computes(r), Miss)
	}
	s := c.Stats()
	if s.Bytes > 1<<20 || s.Evicted == 0 {
		t.Errorf("stats %+v", s)
	}
	if s.Subscribers != s.Responses {
		t.Errorf("%d responses, %d subscribers", s.Responses, s.Subscribers)
	}
	large := of("large", 10)
	large.Body = make([]byte, 1<<19)
	mustRead(t, c, "large", computes(large), Miss)
	if _, ok := c.Get("large"); ok {
		t.Error("a response half as large as the whole cache is held")
	}
	if n := c.Purge(nil); n == 0 || c.Stats().Subscribers != 0 {
		t.Errorf("purged %d, %d subscribers left", n, c.Stats().Subscribers)
	}
}

// TestExpiredIsServedWhereItMayBe lets a response expire that may be served for ten
// seconds when the new one cannot be computed, and one that may be while it is.
func TestExpiredIsServedWhereItMayBe(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{}, 10)
		failing := func(context.Context) (*Response, *invalidation.Set, error) { return nil, nil, errors.New("no") }
		plain, onError, meanwhile := of("a", 10), of("a", 10), of("a", 10)
		onError.Stale, meanwhile.Stale = Stale{IfError: 10 * time.Second}, Stale{While: 10 * time.Second}
		mustRead(t, c, "plain", computes(plain), Miss)
		mustRead(t, c, "error", computes(onError), Miss)
		mustRead(t, c, "while", computes(meanwhile), Miss)
		if n := c.Apply([]invalidation.Delta{titled("a", 11)}); len(n) != 3 || c.Stats().Subscribers != 0 {
			t.Fatalf("%d expired, %d subscribers", len(n), c.Stats().Subscribers)
		}
		if _, _, err := c.Read(t.Context(), Request{Key: "plain"}, failing); err == nil {
			t.Error("an expired response is served that nobody allowed")
		}
		mustRead(t, c, "error", failing, Expired)
		finish := make(chan struct{})
		mustRead(t, c, "while", func(context.Context) (*Response, *invalidation.Set, error) {
			<-finish
			return of("a", 11), made(of("a", 11)), nil
		}, Expired)
		close(finish)
		synctest.Wait()
		if r := mustRead(t, c, "while", nil, Hit); r.Sequence != 11 {
			t.Errorf("still of %d", r.Sequence)
		}
		time.Sleep(11 * time.Second) // the bubble's clock
		if _, _, err := c.Read(t.Context(), Request{Key: "error"}, failing); err == nil {
			t.Error("an expired response is served for longer than it may")
		}
		if n := c.Stats().Stale; n != 2 {
			t.Errorf("%d served although expired", n)
		}
	})
}

// TestEqualBodiesAreStoredOnce stores the same bytes under two keys.
func TestEqualBodiesAreStoredOnce(t *testing.T) {
	c := New(Options{}, 10)
	one, two := of("a", 10), of("a", 10)
	one.Content, two.Content = NewContent(
		bytes.Repeat([]byte("x"), 2000),
	), NewContent(
		bytes.Repeat([]byte("x"), 2000),
	)
	mustRead(t, c, "one", computes(one), Miss)
	mustRead(t, c, "two", computes(two), Miss)
	if &one.Body[0] != &two.Body[0] {
		t.Error("two copies are held")
	}
	c.Purge(nil)
	again := of("a", 10)
	again.Content = NewContent(bytes.Clone(one.Body))
	if mustRead(t, c, "one", computes(again), Miss).ETag()[0] != one.ETag()[0] {
		t.Error("equal bytes have another tag")
	}
}

// TestNeverStaleUnderLoad lets readers, writers and the follower run freely,
// and checks every answer: it may not be older than what was applied when the
// reader came.
func TestNeverStaleUnderLoad(t *testing.T) {
	c := New(Options{Remember: 50}, 0)
	var committed [8]atomic.Int64 // the newest sequence of each entry, as the database knows it
	var head atomic.Int64
	var log sync.Mutex
	var wg sync.WaitGroup
	done := make(chan struct{})
	for range 4 {
		wg.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-done:
					return
				default:
				}
				e := i % len(committed)
				applied := c.Applied()
				must := committed[e].Load()
				r, _, err := c.Read(
					t.Context(),
					Request{Key: fmt.Sprint(e), Fresh: i%50 == 0},
					func(context.Context) (*Response, *invalidation.Set, error) {
						log.Lock()
						defer log.Unlock()
						r := of(fmt.Sprint(e), head.Load())
						r.Content = NewContent(fmt.Append(nil, committed[e].Load()))
						return r, made(r), nil
					},
				)
				if err != nil {
					t.Error(err)
					return
				}
				var shows int64
				fmt.Sscan(string(r.Body), &shows)
				if must <= applied && shows < must {
					t.Errorf("entry %d: shows %d, although %d was applied at %d", e, shows, must, applied)
					return
				}
			}
		})
	}
	for s := int64(1); s <= 5000; s++ {
		e := int(s*7) % len(committed)
		log.Lock()
		head.Store(s)
		committed[e].Store(s)
		log.Unlock()
		c.Apply([]invalidation.Delta{titled(fmt.Sprint(e), s)})
	}
	close(done)
	wg.Wait()
}

func BenchmarkHit(b *testing.B) {
	c := New(Options{}, 10)
	c.store("a", of("a", 10), made(of("a", 10)), 0)
	b.ReportAllocs()
	for b.Loop() {
		r, ok := c.Get("a")
		if !ok {
			b.Fatal("gone")
		}
		c.CountHit(r)
	}
}

// TestByteBoundIsKept stores far more than there is room for, with dependencies that
// many share, and some that nobody does.
func TestByteBoundIsKept(t *testing.T) {
	const bound = 4 << 20
	c := New(Options{Bytes: bound}, 10)
	for i := range 20_000 {
		r := of(fmt.Sprint(i), 10)
		r.Content = NewContent(fmt.Appendf(nil, "%0300d", i))
		set := made(r)
		for j := range 20 {
			set.Entries = append(
				set.Entries, invalidation.Entry{ID: fmt.Sprint("shared", i%50, j), Locale: "en", Fields: []string{"title"}},
			)
		}
		if err := c.Renew(t.Context(), Request{Key: fmt.Sprint(i)},
			func(context.Context) (*Response, *invalidation.Set, error) { return r, set, nil }); err != nil {
			t.Fatal(err)
		}
	}
	c.held.CleanUp()
	s := c.Stats()
	if s.Bytes > bound*105/100 || s.Bytes < bound*3/4 || s.Subscribers != s.Responses || s.Evicted == 0 {
		t.Errorf("of %d bytes: %+v", bound, s)
	}
	first := c.First(
		3, func(a, b *Response) int { return strings.Compare(b.Asked, a.Asked) },
		func(r *Response) bool { return len(r.Asked) == 5 },
	)
	if len(first) != 3 || first[0].Asked < first[1].Asked || first[1].Asked < first[2].Asked {
		t.Errorf("the first are %v", first)
	}
}

// TestLastWaiterCancelsComputation cancels all who wait, and lets somebody come
// after them.
func TestLastWaiterCancelsComputation(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		queue := admission.New(admission.Options{AtOnce: 1})
		c := New(Options{Admission: queue}, 10)
		ended := make(chan error, 1)
		compute := func(ctx context.Context) (*Response, *invalidation.Set, error) {
			<-ctx.Done()
			ended <- ctx.Err()
			return nil, nil, ctx.Err()
		}
		first, leave := context.WithCancel(t.Context())
		second, leaveToo := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		for _, ctx := range []context.Context{first, second} {
			wg.Go(func() { _, _, _ = c.Read(ctx, Request{Key: "a"}, compute) })
		}
		synctest.Wait()
		leave()
		synctest.Wait()
		if len(ended) > 0 {
			t.Fatal("it ended although somebody waits")
		}
		leaveToo()
		wg.Wait()
		synctest.Wait()
		if len(ended) != 1 || queue.Stats().Running != 0 {
			t.Fatal("it goes on although nobody waits")
		}
		if r, _, err := c.Read(t.Context(), Request{Key: "a"}, computes(of("a", 10))); err != nil || r == nil {
			t.Errorf("who comes after them: %v", err)
		}
	})
}

// TestPrincipalsDoNotDelayEachOther has one principal ask for more than its share,
// and another one for the same thing.
func TestPrincipalsDoNotDelayEachOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := New(Options{Admission: admission.New(admission.Options{AtOnce: 2, PerPrincipal: 1})}, 10)
		finish := make(chan struct{})
		slow := func(context.Context) (*Response, *invalidation.Set, error) {
			<-finish
			return of("slow", 10), made(of("slow", 10)), nil
		}
		var wg sync.WaitGroup
		wg.Go(func() { _, _, _ = c.Read(t.Context(), Request{Key: "slow", Principal: "flood"}, slow) })
		synctest.Wait()
		wg.Go(func() {
			_, _, _ = c.Read(t.Context(), Request{Key: "wanted", Principal: "flood"}, computes(of("wanted", 10)))
		})
		synctest.Wait()
		if _, _, err := c.Read(t.Context(), Request{Key: "wanted", Principal: "reader"},
			computes(of("wanted", 10))); err != nil {
			t.Errorf("the reader: %v", err)
		}
		close(finish)
		wg.Wait()
	})
}

// TestAddressesAreBounded notes more addresses of a response than are kept.
func TestAddressesAreBounded(t *testing.T) {
	r := &Response{}
	for i := range 1000 {
		r.NoteAddress(fmt.Sprintf("/content/main/published/piers?limit=%d", i))
		r.NoteAddress("/content/main/published/piers?limit=0")
	}
	all, length := r.Addresses(), 0
	for _, a := range all {
		length += len(a)
	}
	if length > addressBytes+1 || all[0] != "/content/main/published/piers?limit=0" ||
		all[len(all)-1] != AnyAddress ||
		len(all) < 10 {
		t.Errorf("%d bytes: %q", length, all)
	}
	long := &Response{}
	if long.NoteAddress(strings.Repeat("x", 10_000)); len(long.Addresses()) != 1 ||
		long.Addresses()[0] != AnyAddress {
		t.Errorf("a long one: %d", len(long.Addresses()))
	}
}
