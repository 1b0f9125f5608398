package replication

import (
	"sync"
)

// Broadcaster tells listeners that something of a kind has happened. The zero value is
// ready; it is safe for concurrent use.
type Broadcaster struct {
	mu        sync.Mutex
	listeners map[chan string]bool
}

// Everything is what a listener is told who was too slow to be told of each thing.
const Everything = "everything"

// Tell sends the name of a kind to all listeners. It does not wait for them: one whose queue is
// full is told Everything instead of what is in it.
func (b *Broadcaster) Tell(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.listeners {
		select {
		case c <- what:
		default:
			for range cap(c) {
				select {
				case <-c:
				default:
				}
			}
			c <- Everything // there is room: only Tell sends
		}
	}
}

// Listen returns a channel that receives the name of each kind of thing that happens on
// this node: changes, model, access, events, builds, origins, schedules, refusals; or
// Everything. stop ends it.
func (b *Broadcaster) Listen() (heard <-chan string, stop func()) {
	c := make(chan string, 16)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.listeners == nil {
		b.listeners = map[chan string]bool{}
	}
	b.listeners[c] = true
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.listeners, c)
	}
}
