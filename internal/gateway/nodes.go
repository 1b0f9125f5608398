package gateway

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/google/uuid"

	"ubiquon/internal/store"
)

// thisNode makes up who this process is.
func thisNode(name string) store.Node {
	if name == "" {
		host, _ := os.Hostname() // without one the number says enough
		name = fmt.Sprintf("%s/%d", host, os.Getpid())
	}
	return store.Node{ID: uuid.NewString(), Name: name}
}

// Node is the name of this node.
func (g *Gateway) Node() string { return g.node.Name }

// seen says, before each poll, that this node is there: its lease may only be longer
// if others can see it.
func (g *Gateway) seen(ctx context.Context) error {
	n := g.node
	n.Applied, n.Mark = g.follow.mark.Sequence, g.follow.mark.ID
	return g.store.SeeNode(ctx, n)
}

// NodeState is a node and whether it may be serving from its cache.
type NodeState struct {
	store.Node
	// State: leased, or silent.
	State string `json:"state"`
	// Here is true for the node that answers.
	Here bool `json:"here,omitempty"`
	// Behind is how many changes it has not applied yet.
	Behind int64 `json:"behind"`
}

// Nodes lists all nodes of the environment.
func (g *Gateway) Nodes(ctx context.Context) ([]NodeState, error) {
	all, err := g.store.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	head, err := g.store.Head(ctx)
	if err != nil {
		return nil, err
	}
	out := []NodeState{}
	for _, n := range all {
		s := NodeState{Node: n, State: "leased", Here: n.ID == g.node.ID, Behind: max(0, head.Sequence-n.Applied)}
		if n.Silent > blindAfter {
			s.State = "silent"
		}
		out = append(out, s)
	}
	return out, nil
}

// Confirm waits until every node has applied the change log up to a sequence, or has
// surely stopped to serve from its cache. It returns the names of those of which
// neither is known when the time is over.
func (g *Gateway) Confirm(ctx context.Context, sequence int64, patience time.Duration) ([]string, error) {
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	nudge(g.follow.tell)
	for {
		all, err := g.store.Nodes(ctx)
		if err != nil {
			return nil, err
		}
		uptime, err := g.store.Uptime(ctx)
		if err != nil {
			return nil, err
		}
		var open []string
		if min(uptime, g.follow.sinceAnew()) <= blindAfter {
			// An older copy may have been restored, which does not know of every node that
			// serves what it has lost.
			open = append(open, "whoever followed the database until lately")
		}
		for _, n := range all {
			if n.Applied < sequence && n.Silent <= blindAfter {
				open = append(open, n.Name)
			}
		}
		if len(open) == 0 || !sleep(waiting, confirmEvery, nil) {
			slices.Sort(open)
			return open, nil
		}
	}
}

// confirmEvery is how often a publish that waits looks at the nodes.
const confirmEvery = 10 * time.Millisecond

// ConfirmEvent waits until an announcement is carried out, and every node knows of
// what came of it. It returns the event's state, and the names of the nodes that are
// not known to be that far when the time is over.
func (g *Gateway) ConfirmEvent(ctx context.Context, id string, patience time.Duration) (state string, open []string, err error) {
	begin := time.Now()
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		e, err := g.store.Event(ctx, id)
		if err != nil {
			return "", nil, err
		}
		if e.State == store.EventDone && e.Sequence != nil {
			open, err := g.Confirm(ctx, *e.Sequence, patience-time.Since(begin))
			return e.State, open, err
		}
		if e.State == store.EventDone || e.State == store.EventFailed || !sleep(waiting, confirmEvery, nil) {
			return e.State, nil, nil
		}
	}
}
