package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/health"
	"ubiquon/internal/origin"
	"ubiquon/internal/store"
)

// Problem is something that is wrong at the moment, as an operator is told of it.
type Problem struct {
	What string `json:"what"`
	// Since when, if that is known.
	Since *time.Time `json:"since,omitempty"`
	// Mend is what to do: a command, or in words.
	Mend string `json:"mend,omitempty"`
}

// lasting is how lately a failure must have come again to count as one that lasts.
const lasting = 2 * time.Minute

// problems lists what is wrong: what this node knows, and what the database says of all.
func (g *Gateway) problems(ctx context.Context, sites []SiteInfo, backlog store.Backlog) ([]Problem, error) {
	out, told := []Problem{}, []string{}
	add := func(since *time.Time, mend, format string, args ...any) {
		out = append(out, Problem{What: fmt.Sprintf(format, args...), Since: since, Mend: mend})
	}
	if g.Quiet() {
		add(&g.begun, "ubiquon wake", "this node is a quiet copy: no schedules, rules and builds, and nobody is called")
	}
	if w := g.writes.State(); w.Error != "" {
		add(w.Since, "see to the database; what is late is then carried out by itself", "writes fail: %s", w.Error)
	}
	if !g.follow.leased() {
		at := time.Now().Add(-g.follow.blindFor())
		add(&at, "see to the database and the way to it", "this node cannot follow the change log, and answers nothing from its cache")
	}
	for _, name := range sortedKeys(g.origins) {
		if h := g.origins[name].Health(); h.Error != "" {
			told = append(told, "origin "+name)
			add(h.Since, "see to the origin; it is tried again by itself", "origin %s cannot be read: %s", name, h.Error)
		}
		held, known := g.compared.Load(name)
		if !known {
			continue
		}
		switch c := held.(*comparison); {
		case c.Done == nil:
		case c.Done.Held > 0:
			add(&c.At, "look whether the origin is whole; if it is meant: ubiquon origin compare "+name+" --delete", "origin %s does not have %d entries any more; they are kept", name, c.Done.Held)
		}
	}
	untaken, reasons, err := g.store.CountUntaken(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range sortedKeys(untaken) {
		if g.origins[name] == nil {
			continue // nobody tries to take them
		}
		last := reasons[name]
		add(&last.Since, "mend them in the origin, or its mapping: ubiquon origin show "+name, "%s of origin %s could not be taken over, as %s %s: %s", counted(untaken[name], "item", "items"), name, last.Type, last.Key, last.Reason)
	}
	owners, err := g.owners(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range sortedKeys(owners) {
		if g.origins[name] == nil {
			add(nil, "ubiquon origin retire "+name+", or ubiquon origin adopt "+name+" NEW", "%s from the origin %s, which is not in the configuration: nobody can edit them", counted(owners[name], "entry comes", "entries come"), name)
		}
	}
	for _, s := range sites {
		if i := slices.IndexFunc(s.Builds, func(b rebuild.Build) bool { return b.State == rebuild.Waiting || b.State == rebuild.Running }); i >= 0 {
			if b := s.Builds[i]; b.Failures > 0 || b.Error != "" {
				told = append(told, "of "+s.Name)
			}
			switch b := s.Builds[i]; {
			case b.Failures > 0:
				add(&b.FirstRequest, fmt.Sprintf("see to the builder; to try now: ubiquon build start %s --now", s.Name), "site %s: %s failed in a row, and the next waits", s.Name, counted(b.Failures, "build has", "builds have"))
			case b.State == rebuild.Running && b.Error != "":
				add(b.Called, "see to the builder; the call is made again by itself", "site %s: the builder does not take calls: %s", s.Name, b.Error)
			}
		}
	}
	down, err := g.Downstream(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range down {
		if d.Attempts > 0 {
			add(d.Told, "see to the cache; it is told again by itself", "the cache downstream %s does not take calls (%d tries): %s", d.Name, d.Attempts, d.Failed)
		}
	}
	if backlog.LateSchedules > 0 {
		add(backlog.LateSince, "ubiquon schedule list --state late", "%s late", counted(backlog.LateSchedules, "schedule is", "schedules are"))
	}
	if backlog.FailedSchedules > 0 {
		add(nil, "ubiquon schedule list --state failed", "%s failed within a day, for reasons in the content", counted(backlog.FailedSchedules, "schedule has", "schedules have"))
	}
	if backlog.WaitingEvents > 0 && time.Since(*backlog.WaitingSince) > time.Minute {
		add(backlog.WaitingSince, "ubiquon event list --state waiting", "%s to be processed", counted(backlog.WaitingEvents, "event waits", "events wait"))
	}
	if backlog.FailedEvents > 0 {
		add(nil, "ubiquon event list --state failed", "%s failed within a day", counted(backlog.FailedEvents, "event has", "events have"))
	}
	for what, since := range g.troubles.Lasting(lasting) {
		if slices.ContainsFunc(told, func(about string) bool { return strings.Contains(what, about) }) {
			continue // it has a line of its own
		}
		add(&since, "see the log", "again and again: %s", what)
	}
	slices.SortStableFunc(out, func(a, b Problem) int { return cmp.Compare(a.What, b.What) })
	return out, nil
}

// counted writes how many there are of something.
func counted(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}

// backlogGood is for how long what was counted of the backlog is good.
const backlogGood = 3 * time.Second

// Backlog counts what waits, is late or has failed, in all of the environment. It is
// counted anew every few seconds at most.
func (g *Gateway) Backlog(ctx context.Context) (store.Backlog, error) {
	g.backlog.Lock()
	defer g.backlog.Unlock()
	if time.Since(g.backlog.at) < backlogGood {
		return g.backlog.last, nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	b, err := g.store.Backlog(ctx)
	if err == nil {
		g.backlog.last, g.backlog.at = b, time.Now()
	}
	return b, err
}

// ownersGood is for how long it is good how many entries each origin has: all are counted.
const ownersGood = 10 * time.Second

// owners counts the entries of each origin.
func (g *Gateway) owners(ctx context.Context) (map[string]int, error) {
	g.owned.Lock()
	defer g.owned.Unlock()
	if time.Since(g.owned.at) < ownersGood {
		return g.owned.last, nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	counts, err := g.store.OriginsOfEntries(ctx)
	if err == nil {
		g.owned.last, g.owned.at = counts, time.Now()
	}
	return counts, err
}

// countAnew has the entries of the origins counted when that is asked for next.
func (g *Gateway) countAnew() {
	g.owned.Lock()
	defer g.owned.Unlock()
	g.owned.at = time.Time{}
}

// OriginState is an origin, and how reading it goes.
type OriginState struct {
	OriginStatus
	health.State
	// Compared is the last comparison on this node.
	Compared *comparison `json:"compared,omitempty"`
	// Entries is how many there are of it, Untaken how many items could not be taken over.
	Entries int `json:"entries"`
	Untaken int `json:"untaken"`
	// Missing says that it is not in the configuration, though entries come from it.
	Missing bool `json:"missing,omitempty"`
}

// Origins lists the origins, by name, also those that entries come from and that are not
// configured.
func (g *Gateway) Origins(ctx context.Context) ([]OriginState, error) {
	out := []OriginState{}
	untaken, _, err := g.store.CountUntaken(ctx)
	if err != nil {
		return nil, err
	}
	owners, err := g.owners(ctx)
	if err != nil {
		return nil, err
	}
	names := sortedKeys(g.origins)
	for name := range owners {
		if g.origins[name] == nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		o := OriginState{OriginStatus: OriginStatus{Name: name}, Entries: owners[name], Untaken: untaken[name], Missing: g.origins[name] == nil}
		if !o.Missing {
			o.State = g.origins[name].Health()
		}
		if o.LastEvent, o.LastRefused, err = g.store.LastHeard(ctx, name); err != nil {
			return nil, err
		}
		if held, known := g.compared.Load(name); known {
			o.Compared = held.(*comparison)
		}
		out = append(out, o)
	}
	return out, nil
}

// OriginFails tells whether an error is an origin's, which cannot be read at the moment.
func OriginFails(err error) bool {
	var trouble *origin.Trouble
	return errors.As(err, &trouble)
}
