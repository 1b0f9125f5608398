package automation

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/outbound"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/builds"
)

// Invalidation is what a cache downstream is told: that whatever it holds of these
// groups, or under these addresses, may be older than the content. It is the data of
// a CloudEvent.
type Invalidation struct {
	Edition string `json:"edition"`
	// After and Sequence are the changes that are told of: those after the one, up to
	// the other.
	After    int64 `json:"after"`
	Sequence int64 `json:"sequence"`
	// Groups are what Cache-Groups names (RFC 9875). They cover everything.
	Groups []string `json:"groups"`
	// Addresses, from the path on, are those by which the answers were asked for that
	// expired. What was asked for in other words, or long ago, is in the groups alone.
	Addresses []string `json:"addresses"`
	// More says that there were more addresses than are named.
	More bool `json:"more,omitempty"`
}

const (
	// maxAddresses bounds how many addresses one call names.
	maxAddresses = 2000
	// invalidationPause is how long changes are gathered that are told of at once.
	invalidationPause = 50 * time.Millisecond
	// maxCallPause bounds the pause between calls that fail.
	maxCallPause = time.Minute
)

// Downstream lists the caches downstream, and what they know.
func (a *Service) Downstream(ctx context.Context) ([]api.Downstream, error) {
	return a.store.Downstream.List(ctx, slices.Sorted(maps.Keys(a.settings.State().Downstream)))
}

// noteExpired writes down what a cache downstream may hold of the answers that
// expired. Whoever waits for this node to have applied the changes can then read it.
func (a *Service) noteExpired(ctx context.Context, expired []*cache.Response, sequence int64) error {
	if len(a.settings.State().Downstream) == 0 {
		return nil
	}
	var addresses []string
	for _, r := range expired {
		if r.Edition == content.Published { // others cannot hold the rest
			addresses = append(addresses, r.Addresses()...)
		}
	}
	// Caches downstream may still hold what this node has evicted, or held before its restart.
	if evicted := a.cache.Stats().Evicted + 1; a.addressesLost.Swap(evicted) != evicted {
		addresses = append(addresses, cache.AnyAddress)
	}
	if addresses == nil {
		return nil
	}
	slices.Sort(addresses)
	addresses = slices.Compact(addresses)
	return a.store.Downstream.AddExpired(
		ctx, a.replica.Node.ID, sequence, addresses[:min(len(addresses), maxAddresses+1)],
	)
}

// tellDownstream tells one cache downstream of what changes, for as long as this node
// runs. Of all nodes one makes each call.
func (a *Service) tellDownstream(ctx context.Context, name string, target outbound.Target) {
	for {
		moved := a.replica.Advanced()
		if err := a.tellOnce(ctx, name, target); err != nil && ctx.Err() == nil {
			a.log.Error("a cache downstream cannot be told; trying on", "downstream", name, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-moved:
		}
		if !background.Sleep(ctx, invalidationPause, nil) {
			return
		}
	}
}

// tellOnce makes the next call, if there is one to be made.
func (a *Service) tellOnce(ctx context.Context, name string, target outbound.Target) error {
	after, attempts, claimed, err := a.store.Downstream.Claim(ctx, name)
	if err != nil || !claimed {
		return err
	}
	told, err := a.store.Downstream.Pending(ctx, after, replication.LeaseDuration)
	if err != nil {
		return err
	}
	out := Invalidation{
		Edition:   content.Published,
		After:     after,
		Sequence:  max(after, told.UpTo),
		Groups:    a.groupsOf(told),
		Addresses: told.Addresses,
	}
	if i := slices.Index(out.Addresses, cache.AnyAddress); i >= 0 {
		out.Addresses, out.More = slices.Delete(out.Addresses, i, i+1), true
	}
	if len(out.Addresses) > maxAddresses {
		out.Addresses, out.More = out.Addresses[:maxAddresses], true
	}
	out.More = out.More || affectsEverything(told)
	if len(out.Groups) == 0 {
		// It is nothing to them, or some node does not know of it yet.
		return a.store.Downstream.Notified(ctx, name, out.Sequence, false)
	}
	if out.Addresses == nil {
		out.Addresses = []string{}
	}
	begin := time.Now()
	id := fmt.Sprintf("%s-%s-%d-%d", a.replica.Environment(), name, after, out.Sequence)
	event := outbound.Event{
		Type:   "invalidated",
		Source: a.address + "/content/" + a.replica.Environment(),
		ID:     id,
		Time:   begin.UTC(),
		Data:   out,
	}
	calling, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	secret, err := a.settings.Resolve(target.Secret)
	if err != nil {
		return a.store.Downstream.Failed(ctx, name, err.Error(), maxCallPause)
	}
	tell := func() error { return a.caller.Post(calling, target.Call, secret, id, event) }
	if target.Method != "" {
		tell = func() error {
			return a.caller.Expire(
				calling, target, outbound.Expiry{Groups: out.Groups, Addresses: out.Addresses, More: out.More},
			)
		}
	}
	if err := tell(); err != nil {
		wait := min(time.Second<<min(attempts, 10), maxCallPause)
		a.log.Warn(
			"a cache downstream did not take a call; it is made again", "downstream", name, "sequence", out.Sequence,
			"attempt", attempts+1, "in", wait, "error", err,
		)
		return a.store.Downstream.Failed(ctx, name, err.Error(), wait)
	}
	a.log.Info(
		"told a cache downstream", "downstream", name, "sequence", out.Sequence, "groups", len(out.Groups),
		"addresses", len(out.Addresses), "took", time.Since(begin).Round(time.Millisecond),
	)
	a.news.Tell("changes")
	return a.store.Downstream.Notified(ctx, name, out.Sequence, true)
}

// affectsEverything tells whether any answer may have changed: by the model, by what is open
// to everyone, or because changes are missing from the log.
func affectsEverything(told builds.PendingInvalidations) bool {
	return told.Gap || slices.ContainsFunc(told.Changes, func(c content.Change) bool {
		return c.Kind == content.ModelChange || c.Kind == content.AccessChange && c.What == content.OpenAccess
	})
}

// groupsOf names the groups that changes are about: the types of what changed, and
// all of them when the model has, what everyone may read has, or nobody knows.
func (a *Service) groupsOf(told builds.PendingInvalidations) []string {
	groups := map[string]bool{}
	for i := range told.Changes {
		if c := &told.Changes[i]; c.Edition == content.Published && c.Type != "" {
			groups[c.Type] = true
		}
	}
	if affectsEverything(told) {
		for _, t := range a.replica.Model().TypeNames() {
			groups[t] = true
		}
	}
	return slices.Sorted(maps.Keys(groups))
}
