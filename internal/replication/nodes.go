package replication

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/google/uuid"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
)

// newNode makes up who this process is.
func newNode(name string) api.Node {
	if name == "" {
		host, _ := os.Hostname() // without one the number says enough
		name = fmt.Sprintf("%s/%d", host, os.Getpid())
	}
	return api.Node{ID: uuid.NewString(), Name: name}
}

// heartbeat says, before each poll, that this node is there: its lease may only be longer
// if others can see it.
func (r *Replica) heartbeat(ctx context.Context) error {
	n := r.Node
	n.Applied, n.Mark = r.Position.mark.Sequence, r.Position.mark.ID
	return r.store.Changes.SeeNode(ctx, n)
}

// Nodes lists all nodes of the environment.
func (r *Replica) Nodes(ctx context.Context) ([]api.NodeState, error) {
	all, err := r.store.Changes.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	head, err := r.store.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.NodeState{}
	for _, n := range all {
		s := api.NodeState{Node: n, State: "leased", Here: n.ID == r.Node.ID, Behind: max(0, head.Sequence-n.Applied)}
		if n.Silent > LeaseDuration {
			s.State = "silent"
		}
		out = append(out, s)
	}
	return out, nil
}

// Confirm waits until every node has applied the change log up to a sequence, or has
// surely stopped to serve from its cache. It returns the names of those of which
// neither is known when the time is over.
func (r *Replica) Confirm(ctx context.Context, sequence int64, patience time.Duration) ([]string, error) {
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r.Announce()
	for {
		all, err := r.store.Changes.Nodes(ctx)
		if err != nil {
			return nil, err
		}
		uptime, err := r.store.Changes.Uptime(ctx)
		if err != nil {
			return nil, err
		}
		var open []string
		if min(uptime, r.Position.sinceRestart()) <= LeaseDuration {
			// An older copy may have been restored, which does not know of every node that
			// serves what it has lost.
			open = append(open, "whoever followed the database until lately")
		}
		for _, n := range all {
			if n.Applied < sequence && n.Silent <= LeaseDuration {
				open = append(open, n.Name)
			}
		}
		if len(open) == 0 || !background.Sleep(waiting, ConfirmEvery, nil) {
			slices.Sort(open)
			return open, nil
		}
	}
}

// ConfirmEvery is how often a publish that waits looks at the nodes.
const ConfirmEvery = 10 * time.Millisecond
