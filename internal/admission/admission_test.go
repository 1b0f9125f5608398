package admission

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// waits tells whether a ticket has not been admitted.
func waits(t *Ticket) bool {
	select {
	case <-t.admitted:
		return false
	default:
		return true
	}
}

func bid(q *Queue, principal string, heavy bool) *Ticket {
	t := q.Ticket(heavy)
	t.Bid(principal)
	return t
}

func TestQueuesAreServedInTurn(t *testing.T) {
	q := New(Options{AtOnce: 2, PerPrincipal: 2})
	flood := []*Ticket{bid(q, "flood", false), bid(q, "flood", false), bid(q, "flood", false), bid(q, "flood", false)}
	reader := bid(q, "reader", false)
	if waits(flood[0]) || waits(flood[1]) || !waits(flood[2]) || !waits(reader) {
		t.Fatal("two are admitted at once, the others wait")
	}
	flood[0].Done()
	if waits(flood[2]) || !waits(reader) {
		t.Fatal("the line that came first has the first turn")
	}
	flood[1].Done()
	if waits(reader) || !waits(flood[3]) {
		t.Error("another line has the second turn, however many wait in the first")
	}
}

func TestOnePrincipalCannotExhaustTheServer(t *testing.T) {
	q := New(Options{AtOnce: 4, PerPrincipal: 2, Heavy: 1})
	a := []*Ticket{bid(q, "a", false), bid(q, "a", false), bid(q, "a", false)}
	if waits(a[1]) || !waits(a[2]) || waits(bid(q, "b", false)) {
		t.Error("the share of a principal is not kept")
	}
	heavy := bid(q, "c", true)
	second, light := bid(q, "d", true), bid(q, "d", false)
	if waits(heavy) || !waits(second) || !waits(light) {
		t.Fatal("one heavy ticket at once, and four in all")
	}
	a[0].Done()
	if waits(a[2]) {
		t.Error("a's third ticket was the first that waited")
	}
	a[1].Done()
	if waits(light) || !waits(second) {
		t.Error("what is heavy holds up what is not")
	}
	heavy.Done()
	if waits(second) {
		t.Error("a heavy ticket may begin when the other has ended")
	}
}

func TestFullQueueIsRefused(t *testing.T) {
	q := New(Options{AtOnce: 1, Waiting: 2, WaitingPerPrincipal: 1})
	first := bid(q, "a", false)
	bid(q, "a", false)
	if _, err := q.Enter(t.Context(), "a", false); !errors.Is(err, ErrOverloaded) {
		t.Errorf("a full line: %v", err)
	}
	bid(q, "b", false)
	if _, err := q.Enter(t.Context(), "c", false); !errors.Is(err, ErrOverloaded) {
		t.Errorf("a full queue: %v", err)
	}
	if s := q.Stats(); s != (Stats{Running: 1, Waiting: 2}) {
		t.Errorf("%+v", s)
	}
	first.Done()
	first.Done()
	if s := q.Stats(); s != (Stats{Running: 1, Waiting: 1}) {
		t.Errorf("ended twice: %+v", s)
	}
}

func TestQueueTimeout(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(Options{AtOnce: 1, Patience: 3 * time.Second})
		leave, err := q.Enter(t.Context(), "a", false)
		if err != nil {
			t.Fatal(err)
		}
		begin := time.Now()
		if _, err := q.Enter(t.Context(), "b", false); !errors.Is(err, ErrOverloaded) ||
			time.Since(begin) != 3*time.Second {
			t.Errorf("after %v: %v", time.Since(begin), err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		go func() { time.Sleep(time.Second); cancel() }()
		if _, err := q.Enter(ctx, "b", false); !errors.Is(err, context.Canceled) {
			t.Errorf("who leaves: %v", err)
		}
		leave()
		if s := q.Stats(); s != (Stats{}) || len(q.lines) != 0 || len(q.turn) != 0 {
			t.Errorf("something is left: %+v %v", s, q.lines)
		}
	})
}

// TestBidMovesWorkForward lets a second principal ask for work that waits
// behind what the first one has asked for.
func TestBidMovesWorkForward(t *testing.T) {
	q := New(Options{AtOnce: 2, PerPrincipal: 1})
	slow := bid(q, "a", false)
	wanted := bid(q, "a", false)
	if !waits(wanted) {
		t.Fatal("a has its share")
	}
	wanted.Bid("b")
	if waits(wanted) {
		t.Error("b has room, and waits for a")
	}
	wanted.Done()
	slow.Done()
	if len(q.lines) != 0 || q.waiting != 0 {
		t.Errorf("something is left: %v", q.lines)
	}
}

func TestManyAtOnce(t *testing.T) {
	q := New(Options{AtOnce: 3, PerPrincipal: 2, Heavy: 1})
	var wg sync.WaitGroup
	for i := range 400 {
		wg.Go(func() {
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			if i%7 == 0 {
				cancel()
			}
			leave, err := q.Enter(ctx, fmt.Sprint(i%5), i%3 == 0)
			if err != nil {
				return
			}
			if s := q.Stats(); s.Running > 3 || s.Heavy > 1 {
				t.Errorf("%+v", s)
			}
			leave()
		})
	}
	wg.Wait()
	if s := q.Stats(); s != (Stats{}) || len(q.lines) != 0 || len(q.turn) != 0 {
		t.Errorf("something is left: %+v", s)
	}
}
