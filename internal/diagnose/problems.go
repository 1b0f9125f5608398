package diagnose

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
)

// lasting is how lately a failure must have come again to count as one that lasts.
const lasting = 2 * time.Minute

// problemList gathers problems. told are parts of failures that have a line of their own.
type problemList struct {
	items []api.ServiceProblem
	told  []string
}

func (l *problemList) add(since *time.Time, mend, format string, args ...any) {
	l.items = append(l.items, api.ServiceProblem{What: fmt.Sprintf(format, args...), Since: since, Mend: mend})
}

// problems lists what is wrong: what this node knows, and what the database says of all.
func (d *Service) problems(
	ctx context.Context, sites []api.SiteInfo, backlog api.Backlog,
) ([]api.ServiceProblem, error) {
	l := &problemList{items: []api.ServiceProblem{}}
	d.nodeProblems(l)
	if err := d.originProblems(ctx, l); err != nil {
		return nil, err
	}
	siteProblems(l, sites)
	down, err := d.automation.Downstream(ctx)
	if err != nil {
		return nil, err
	}
	for _, cache := range down {
		if cache.Attempts > 0 {
			l.add(
				cache.Told, "see to the cache; it is told again by itself",
				"the cache downstream %s does not take calls (%d tries): %s", cache.Name, cache.Attempts,
				cache.Failed,
			)
		}
	}
	backlogProblems(l, backlog)
	for what, since := range d.work.Failures.Lasting(lasting) {
		if slices.ContainsFunc(l.told, func(about string) bool { return strings.Contains(what, about) }) {
			continue // it has a line of its own
		}
		l.add(&since, "see the log", "again and again: %s", what)
	}
	slices.SortStableFunc(l.items, func(a, b api.ServiceProblem) int { return cmp.Compare(a.What, b.What) })
	return l.items, nil
}

// nodeProblems are those of this node.
func (d *Service) nodeProblems(l *problemList) {
	if d.work.Quiet() {
		l.add(
			&d.replica.Begun, "ubiquon wake",
			"this node is a quiet copy: no schedules, rules and builds, and nobody is called",
		)
	}
	if w := d.authoring.Writes(); w.Error != "" {
		l.add(w.Since, "see to the database; what is late is then carried out by itself", "writes fail: %s", w.Error)
	}
	if !d.replica.Position.Leased() {
		at := time.Now().Add(-d.replica.Position.Staleness())
		l.add(
			&at, "see to the database and the way to it",
			"this node cannot follow the change log, and answers nothing from its cache",
		)
	}
}

// originProblems are those of origins, and of entries of origins that are not configured.
func (d *Service) originProblems(ctx context.Context, l *problemList) error {
	for _, name := range d.ingest.Names() {
		if h := d.ingest.Source(name).Health(); h.Error != "" {
			l.told = append(l.told, "origin "+name)
			l.add(
				h.Since, "see to the origin; it is tried again by itself", "origin %s cannot be read: %s", name,
				h.Error,
			)
		}
		switch c := d.ingest.LastCompared(name); {
		case c == nil || c.Done == nil:
		case c.Done.Held > 0:
			l.add(
				&c.At, "look whether the origin is whole; if it is meant: ubiquon origin reconcile "+name+" --delete",
				"origin %s does not have %d entries any more; they are kept", name, c.Done.Held,
			)
		}
	}
	untaken, reasons, err := d.store.Rejected.Count(ctx)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(untaken)) {
		if d.ingest.Source(name) == nil {
			continue // nobody tries to take them
		}
		last := reasons[name]
		l.add(
			&last.Since, "mend them in the origin, or its mapping: ubiquon origin show "+name,
			"%s of origin %s could not be taken over, as %s %s: %s", counted(untaken[name], "item", "items"), name,
			last.Type, last.Key, last.Reason,
		)
	}
	owners, err := d.ingest.EntryCounts(ctx)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(owners)) {
		if d.ingest.Source(name) == nil {
			l.add(
				nil, "ubiquon origin retire "+name+", or ubiquon origin adopt "+name+" NEW",
				"%s from the origin %s, which is not in the configuration: nobody can edit them",
				counted(owners[name], "entry comes", "entries come"), name,
			)
		}
	}
	return nil
}

// siteProblems are those of sites and their builders.
func siteProblems(l *problemList, sites []api.SiteInfo) {
	for _, s := range sites {
		if i := slices.IndexFunc(s.Builds,
			func(b rebuild.Build) bool { return b.State == rebuild.Waiting || b.State == rebuild.Running }); i >= 0 {
			if b := s.Builds[i]; b.Failures > 0 || b.Error != "" {
				l.told = append(l.told, "of "+s.Name)
			}
			switch b := s.Builds[i]; {
			case b.Failures > 0:
				l.add(
					&b.FirstRequest,
					fmt.Sprintf("see to the builder; to try now: ubiquon build start %s --now", s.Name),
					"site %s: %s failed in a row, and the next waits", s.Name,
					counted(b.Failures, "build has", "builds have"),
				)
			case b.State == rebuild.Running && b.Error != "":
				l.add(
					b.Called, "see to the builder; the call is made again by itself",
					"site %s: the builder does not take calls: %s", s.Name, b.Error,
				)
			}
		}
	}
}

// backlogProblems are those of what waits in the database.
func backlogProblems(l *problemList, backlog api.Backlog) {
	if backlog.LateSchedules > 0 {
		l.add(
			backlog.LateSince, "ubiquon schedule list --state late", "%s late",
			counted(backlog.LateSchedules, "schedule is", "schedules are"),
		)
	}
	if backlog.FailedSchedules > 0 {
		l.add(
			nil, "ubiquon schedule list --state failed", "%s failed within a day, for reasons in the content",
			counted(backlog.FailedSchedules, "schedule has", "schedules have"),
		)
	}
	if backlog.WaitingEvents > 0 && time.Since(*backlog.WaitingSince) > time.Minute {
		l.add(
			backlog.WaitingSince, "ubiquon event list --state waiting", "%s to be processed",
			counted(backlog.WaitingEvents, "event waits", "events wait"),
		)
	}
	if backlog.FailedEvents > 0 {
		l.add(
			nil, "ubiquon event list --state failed", "%s failed within a day",
			counted(backlog.FailedEvents, "event has", "events have"),
		)
	}
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
// counted again every few seconds at most.
func (d *Service) Backlog(ctx context.Context) (api.Backlog, error) {
	d.backlog.Lock()
	defer d.backlog.Unlock()
	if time.Since(d.backlog.at) < backlogGood {
		return d.backlog.last, nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	b, err := d.store.Backlog(ctx)
	if err == nil {
		d.backlog.last, d.backlog.at = b, time.Now()
	}
	return b, err
}
