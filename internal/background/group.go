// Package background runs the loops that a node works in beside its requests, and ends
// them together. It decides nothing about what they do.
package background

import (
	"context"
	"sync"
	"time"

	"ubiquon/internal/recurring"
)

// Group is a set of goroutines that end together. It is safe for concurrent use. Create it
// with New.
type Group struct {
	// Failures are what the goroutines fail at again and again.
	Failures recurring.Log

	ctx     context.Context
	cancel  context.CancelFunc
	running sync.WaitGroup
	awake   chan struct{} // closed by Wake
	wake    sync.Once
}

// New returns a group whose GoAwake waits until Wake is called.
func New() *Group {
	g := &Group{awake: make(chan struct{})}
	g.ctx, g.cancel = context.WithCancel(context.Background())
	return g
}

// Go runs f in a goroutine. Its context ends with Stop.
func (g *Group) Go(f func(context.Context)) {
	g.running.Add(1)
	go func() {
		defer g.running.Done()
		f(g.ctx)
	}()
}

// GoAwake is Go for work that begins with Wake.
func (g *Group) GoAwake(f func(context.Context)) {
	g.Go(func(ctx context.Context) {
		select {
		case <-ctx.Done():
		case <-g.awake:
			f(ctx)
		}
	})
}

// Wake starts what was given to GoAwake. It may be called more than once.
func (g *Group) Wake() { g.wake.Do(func() { close(g.awake) }) }

// Quiet reports whether Wake has not been called yet.
func (g *Group) Quiet() bool {
	select {
	case <-g.awake:
		return false
	default:
		return true
	}
}

// Stop ends the context of all goroutines and waits until they have returned.
func (g *Group) Stop() {
	g.cancel()
	g.running.Wait()
}

// Sleep waits until the span is over, wake receives, or ctx ends. It reports false if ctx
// has ended.
func Sleep(ctx context.Context, span time.Duration, wake <-chan struct{}) bool {
	timer := time.NewTimer(span)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
	case <-wake:
	}
	return true
}

// Nudge sends to c, which has a buffer of one, unless a value waits in it already.
func Nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
