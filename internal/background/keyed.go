package background

import (
	"context"
	"sync"
)

// Keyed are loops of a Group of which there is one for each name, as long as it is wanted. It is
// safe for concurrent use. Create it with NewKeyed.
type Keyed struct {
	group   *Group
	mu      sync.Mutex
	running map[string]loop
}

// Loop is a goroutine that is wanted.
type Loop struct {
	// Mark says of what the loop was made: with another one it is ended, and begun again.
	Mark string
	// Run returns when its context ends.
	Run func(context.Context)
}

type loop struct {
	mark string
	stop context.CancelFunc
}

// NewKeyed returns loops of which none runs.
func NewKeyed(g *Group) *Keyed { return &Keyed{group: g, running: map[string]loop{}} }

// Keep has exactly these loops run, by name: it starts what is new or made of something else,
// once the group is awake, and ends the others. It does not wait for them.
func (k *Keyed) Keep(wanted map[string]Loop) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, held := range k.running {
		if l, is := wanted[name]; !is || l.Mark != held.mark {
			held.stop()
			delete(k.running, name)
		}
	}
	for name, l := range wanted {
		if _, is := k.running[name]; is {
			continue
		}
		ctx, stop := context.WithCancel(context.Background())
		k.running[name] = loop{l.Mark, stop}
		k.group.GoAwake(func(group context.Context) {
			defer context.AfterFunc(group, stop)()
			l.Run(ctx)
		})
	}
}
