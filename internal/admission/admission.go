// Package admission bounds how much work is done at once and shares it fairly among principals.
package admission

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/core/limits"
)

// Overloaded reports whether an error says that work was not admitted.
func Overloaded(err error) bool { return errors.Is(err, ErrOverloaded) }

// ErrOverloaded is the error of work that was not admitted: too much waits already,
// or it has waited for too long.
var ErrOverloaded = errors.New("there is more to compute than this node can do at the moment")

// Options of New. Zero means no bound, except for AtOnce, where it means one.
type Options struct {
	// AtOnce bounds all work under way, PerPrincipal that of one principal, Heavy that
	// of tickets that are heavy.
	AtOnce, PerPrincipal, Heavy int
	// Waiting bounds all tickets that wait, WaitingPerPrincipal those of one principal.
	Waiting, WaitingPerPrincipal int
	// Patience is how long a ticket waits at most.
	Patience time.Duration
}

// Queue admits work. It is safe for concurrent use.
type Queue struct {
	o Options

	mu      sync.Mutex
	running int
	heavy   int
	waiting int
	lines   map[string]*line
	turn    []*line // those with tickets that wait, the next one first
}

// line are the tickets of one principal.
type line struct {
	principal string
	running   int
	tickets   []*Ticket
}

// New returns a queue.
func New(o Options) *Queue {
	o.AtOnce = max(1, o.AtOnce)
	return &Queue{o: o, lines: map[string]*line{}}
}

// ForProcessor returns a queue for work that takes nothing but processor time, of which it
// leaves half to whatever does not wait.
func ForProcessor(l limits.Limits) *Queue {
	half := max(1, runtime.GOMAXPROCS(0)/2)
	return New(
		Options{
			AtOnce:              half,
			PerPrincipal:        max(1, half/2),
			Waiting:             l.Waiting,
			WaitingPerPrincipal: l.WaitingPerPrincipal,
			Patience:            time.Duration(l.Patience),
		},
	)
}

// Ticket is one piece of work. Several principals may ask for the same work: the
// first that would be admitted has it done.
type Ticket struct {
	q        *Queue
	heavy    bool
	admitted chan struct{}

	// Guarded by the queue.
	in    []*line // lines it waits in
	by    *line   // whose turn it took
	ended bool
}

// Ticket returns a ticket that waits in no line yet.
func (q *Queue) Ticket(heavy bool) *Ticket {
	return &Ticket{q: q, heavy: heavy, admitted: make(chan struct{})}
}

// Stats says how busy a queue is.
type Stats struct {
	Running, Heavy, Waiting int
}

// Stats returns how much is under way and waits.
func (q *Queue) Stats() Stats {
	q.mu.Lock()
	defer q.mu.Unlock()
	return Stats{q.running, q.heavy, q.waiting}
}

// Enter waits until work of the principal is admitted. The caller must call leave
// when it is done. Its error is ErrOverloaded, or that of ctx.
func (q *Queue) Enter(ctx context.Context, principal string, heavy bool) (leave func(), err error) {
	t := q.Ticket(heavy)
	t.Bid(principal)
	if err := t.Wait(ctx); err != nil {
		return nil, err
	}
	return t.Done, nil
}

// Bid has the ticket wait in the principal's line, too. A line that is full takes
// it not.
func (t *Ticket) Bid(principal string) {
	q := t.q
	q.mu.Lock()
	defer q.mu.Unlock()
	if t.by != nil || t.ended || slices.ContainsFunc(t.in, func(l *line) bool { return l.principal == principal }) {
		return
	}
	l := q.lines[principal]
	if l == nil {
		l = &line{principal: principal}
		q.lines[principal] = l
	}
	if len(l.tickets) == 0 && q.fits(l, t) {
		q.admit(l, t)
		return
	}
	if q.o.Waiting > 0 && q.waiting >= q.o.Waiting ||
		q.o.WaitingPerPrincipal > 0 && len(l.tickets) >= q.o.WaitingPerPrincipal {
		q.forget(l)
		return
	}
	q.waiting++
	t.in = append(t.in, l)
	if l.tickets = append(l.tickets, t); len(l.tickets) == 1 {
		q.turn = append(q.turn, l)
	}
}

// Wait returns when the ticket is admitted; Done must be called then. Its error is
// ErrOverloaded, or that of ctx; then the ticket is void.
func (t *Ticket) Wait(ctx context.Context) error {
	select {
	case <-t.admitted:
		return nil
	default:
	}
	t.q.mu.Lock()
	idle := len(t.in) == 0 && t.by == nil
	t.q.mu.Unlock()
	if idle {
		t.Done()
		return ErrOverloaded
	}
	patience := make(<-chan time.Time)
	if t.q.o.Patience > 0 {
		timer := time.NewTimer(t.q.o.Patience)
		defer timer.Stop()
		patience = timer.C
	}
	var err error
	select {
	case <-t.admitted:
		return nil
	case <-patience:
		err = ErrOverloaded
	case <-ctx.Done():
		err = ctx.Err()
	}
	t.Done()
	return err
}

// Done ends the work, or takes the ticket out of the lines where it waits. It may be
// called more than once.
func (t *Ticket) Done() {
	q := t.q
	q.mu.Lock()
	defer q.mu.Unlock()
	if t.ended {
		return
	}
	t.ended = true
	q.withdraw(t)
	if t.by != nil {
		q.running--
		t.by.running--
		if t.heavy {
			q.heavy--
		}
		q.forget(t.by)
	}
	q.dispatch()
}

func (q *Queue) fits(l *line, t *Ticket) bool {
	return q.running < q.o.AtOnce && (q.o.PerPrincipal == 0 || l.running < q.o.PerPrincipal) &&
		(!t.heavy || q.o.Heavy == 0 || q.heavy < q.o.Heavy)
}

func (q *Queue) admit(l *line, t *Ticket) {
	q.withdraw(t)
	q.running++
	l.running++
	if t.heavy {
		q.heavy++
	}
	t.by = l
	close(t.admitted)
}

// withdraw takes a ticket out of all lines.
func (q *Queue) withdraw(t *Ticket) {
	for _, l := range t.in {
		q.waiting--
		l.tickets = slices.DeleteFunc(l.tickets, func(o *Ticket) bool { return o == t })
		if len(l.tickets) == 0 {
			q.turn = slices.DeleteFunc(q.turn, func(o *line) bool { return o == l })
			q.forget(l)
		}
	}
	t.in = nil
}

// forget drops a line that nobody is in.
func (q *Queue) forget(l *line) {
	if l.running == 0 && len(l.tickets) == 0 {
		delete(q.lines, l.principal)
	}
}

// dispatch admits what fits, one ticket of each line in turn. A ticket that is heavy
// holds up its own line alone.
func (q *Queue) dispatch() {
	for skipped := 0; skipped < len(q.turn) && q.running < q.o.AtOnce; {
		l := q.turn[0]
		q.turn = append(q.turn[1:], l) // to the end of the round
		i := slices.IndexFunc(l.tickets, func(t *Ticket) bool { return q.fits(l, t) })
		if i < 0 {
			skipped++
			continue
		}
		skipped = 0
		q.admit(l, l.tickets[i])
	}
}
