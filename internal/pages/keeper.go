package pages

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/background"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/rebuild"
	stored "ubiquon/internal/store/pages"
)

const (
	// claimEvery is how often a node says that it keeps a ledger still, or tries to take one over.
	claimEvery = time.Second
	// sweepEvery is how often what no page uses any more is forgotten.
	sweepEvery = time.Minute
	// keepRenders is how long a page is known that was not rendered again.
	keepRenders = 30 * 24 * time.Hour
	// mostQueued bounds the changes that wait to be looked at; beyond, everything is computed anew.
	mostQueued = 100_000
	// atOnce is how many reads are computed at once.
	atOnce = 4
	// mostTries is how often a read is tried before it counts as one that gives nothing.
	mostTries = 5
	// retryPause is the wait after reads could not be computed.
	retryPause = 200 * time.Millisecond
	// mostCauses bounds the causes that one read is stale by.
	mostCauses = 10
	// fewReads are so few that nobody notices how they are found.
	fewReads = 50
	// principal is whose turn it is when reads are computed.
	principal = "pages"
)

// read is a request that pages of a site make, and what it gives.
type read struct {
	stored.Read
	handle invalidation.Handle
	tries  int
	// since and causes are of the first change that it may give something else by, until that is known.
	since  int64
	causes []rebuild.Cause
	// served tells how often the answer was served that was held last; hits has those before it, the latest
	// counting most.
	served func() int
	hits   int64
}

// keeper keeps the ledger of one site.
type keeper struct {
	s     *Service
	site  string
	index *invalidation.Index[*read]
	reads map[int64]*read
	// todo are the reads of which it is not known what they give as of position.
	todo map[*read]bool
	// ends is when reads give something else by themselves, of those that do.
	ends     map[*read]time.Time
	position int64
	last     int64 // id of the newest read
	batch    int64 // up to which registrations are judged
	swept    int   // how many reads there were after what nobody uses was forgotten
	analysed int   // how many reads there were when the tables were last analysed
	probes   chan struct{}
	watched  bool // there are pages to look at, once what is found out is stored
	// whole are the types of which a change makes all of the site stale, and by the changes that have.
	whole []string
	by    []rebuild.Cause

	mu      sync.Mutex
	queue   []invalidation.Delta
	applied int64
	anew    bool
}

// add queues changes.
func (k *keeper) add(changes []invalidation.Delta) {
	k.mu.Lock()
	if k.queue = append(k.queue, changes...); len(k.queue) > mostQueued {
		k.queue, k.anew = nil, true
	}
	k.applied = changes[len(changes)-1].Sequence
	k.mu.Unlock()
	background.Nudge(k.s.wake(k.site))
}

// present is the index, for others than the keeper itself.
func (k *keeper) present() *invalidation.Index[*read] {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.index
}

func (k *keeper) reset() {
	k.mu.Lock()
	k.queue, k.anew, k.applied = nil, true, k.s.replica.Applied()
	k.mu.Unlock()
	background.Nudge(k.s.wake(k.site))
}

// keep keeps the ledger of a site whenever no other node does, until ctx ends.
func (s *Service) keep(ctx context.Context, site string) {
	for ctx.Err() == nil {
		c, ok, err := s.store.Pages.Claim(ctx, site, s.replica.Node.ID)
		if err == nil && ok {
			err = s.keepClaimed(ctx, site, c)
		}
		if err != nil && ctx.Err() == nil && !errors.Is(err, stored.ErrNotOurs) {
			s.work.Failures.Failed(
				s.log,
				"which pages are stale cannot be found out; trying on",
				"site",
				site,
				"error",
				err,
			)
		}
		background.Sleep(ctx, claimEvery, s.wake(site))
	}
	leaving, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	_ = s.store.Pages.Unclaim(leaving, site, s.replica.Node.ID) // else another node takes over a little later
}

// keepClaimed keeps a ledger until another node does.
func (s *Service) keepClaimed(ctx context.Context, site string, c stored.Claimed) error {
	k := &keeper{s: s, site: site, probes: make(chan struct{}, 1)}
	var probing sync.WaitGroup
	defer probing.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	probing.Go(func() { k.probe(ctx) })
	s.mu.Lock()
	k.begin()
	s.keepers[site] = k
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.keepers, site)
		s.mu.Unlock()
	}()
	claimed, swept := time.Now(), time.Now()
	for {
		more, err := k.round(ctx, c)
		if err != nil {
			return err
		}
		if time.Since(swept) > sweepEvery || len(k.reads) > max(stored.ReadsAPage*k.knownUpTo(), k.swept) {
			swept = time.Now()
			if err := k.sweep(ctx); err != nil {
				return err
			}
		}
		pause := claimEvery - time.Since(claimed)
		if more {
			pause = min(pause, retryPause)
		}
		if at := k.firstEnd(); !at.IsZero() {
			pause = min(pause, time.Until(at))
		}
		if pause > 0 && !background.Sleep(ctx, pause, s.wake(site)) {
			return ctx.Err()
		}
		was := c.Batch
		ok := false
		if c, ok, err = s.store.Pages.Claim(ctx, site, s.replica.Node.ID); err != nil || !ok {
			return err
		}
		if time.Since(claimed) >= claimEvery || c.Batch != was {
			claimed = time.Now()
			if lost, err := s.store.Pages.Lost(ctx, site, s.replica.Node.ID); err != nil {
				return err
			} else if lost {
				s.log.Warn("a node has gone that knew what pages read; the site counts as stale as a whole", "site", site)
				s.o.Judged(site)
			}
		}
	}
}

// begin forgets everything that is known of what reads give, and goes on from where this node is.
func (k *keeper) begin() {
	k.index, k.reads, k.todo = invalidation.NewIndex[*read](), map[int64]*read{}, map[*read]bool{}
	k.ends = map[*read]time.Time{}
	k.last, k.batch = 0, 0
	k.position = k.s.replica.Applied()
	k.applied = k.position
}

// take returns the changes that are queued, and the sequence that they lead to.
func (k *keeper) take() (changes []invalidation.Delta, to int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.anew {
		k.anew = false
		k.begin()
	}
	changes, k.queue = k.queue, nil
	return changes, k.applied
}

// round looks at what has changed, at what was registered and at builds that have ended. more says
// that there is something left to be tried again.
func (k *keeper) round(ctx context.Context, c stored.Claimed) (more bool, err error) {
	changes, to := k.take()
	begun := k.batch == 0
	for commit := range invalidation.Commits(changes) {
		k.match(commit)
	}
	k.position = max(k.position, to)
	if err := k.wholly(ctx, &c, begun); err != nil {
		return false, err
	}
	if begun || c.Batch > k.batch {
		if err := k.learn(ctx); err != nil {
			return false, err
		}
	}
	if len(k.reads) > 2*k.analysed {
		k.analysed = max(len(k.reads), fewReads)
		if err := k.s.store.Pages.Analyse(ctx); err != nil {
			return false, err
		}
	}
	now := time.Now()
	for r, at := range k.ends {
		if !now.Before(at) {
			delete(k.ends, r)
			k.suspect(r, k.position, []rebuild.Cause{{Sequence: k.position, What: causeTime}})
		}
	}
	answers, err := k.compute(ctx)
	if err != nil {
		return false, err
	}
	if len(k.todo) > 0 {
		// Nothing is said before all is known: those that are, are looked at again.
		for i := range answers {
			k.todo[k.reads[answers[i].Read]] = true
		}
		return true, nil
	}
	if !begun && len(answers) == 0 && c.Batch == k.batch && k.position == c.Position && !c.Ended {
		return false, nil
	}
	round := stored.Round{Position: k.position, Answers: answers, From: k.batch + 1, Batch: c.Batch, All: begun}
	if err := k.s.store.Pages.Commit(ctx, k.site, k.s.replica.Node.ID, round, k.follow(ctx)); err != nil {
		return false, err
	}
	for i := range answers {
		k.reads[answers[i].Read].Answer = answers[i].Answer
	}
	k.batch = c.Batch
	if err := k.s.store.Pages.Promote(ctx, k.site, k.s.replica.Node.ID, k.follow(ctx)); err != nil {
		return false, err
	}
	if k.watched {
		k.watched = false
		background.Nudge(k.probes)
	}
	k.s.o.Judged(k.site)
	return false, nil
}

// firstEnd is when the first read gives something else by itself; zero for never.
func (k *keeper) firstEnd() (first time.Time) {
	for _, at := range k.ends {
		if first.IsZero() || at.Before(first) {
			first = at
		}
	}
	return first
}

// follow asks for a build of what has become stale, in the transaction that says so.
func (k *keeper) follow(ctx context.Context) func(pgx.Tx, []stored.Judged) error {
	return func(tx pgx.Tx, judged []stored.Judged) error {
		site := k.s.o.Settings.State().Sites[k.site]
		if site.Off {
			return nil
		}
		if err := k.watch(ctx, tx, &site, judged); err != nil {
			return err
		}
		if site.Build == nil || site.Build.OnlyWhenAsked {
			return nil
		}
		var causes []rebuild.Cause
		seen := map[string]bool{}
		news := false
		for i := range judged {
			j := &judged[i]
			if !j.News() {
				continue
			}
			news = true
			for _, c := range j.Causes {
				if key := c.Entry + " " + c.What; len(causes) < mostBuildCauses && !seen[key] {
					seen[key] = true
					causes = append(causes, c)
				}
			}
		}
		if !news {
			return nil
		}
		if stale, err := k.s.store.Pages.StaleIn(ctx, tx, k.site); err != nil || !stale.Built(site.RefreshedUpTo()) {
			return err // it is refreshed
		}
		return k.s.o.Request(ctx, tx, k.site, causes, k.position)
	}
}

// wholly says that all of the site is stale if a change of one of the types has made it so, or may have
// before it was known that they are.
func (k *keeper) wholly(ctx context.Context, c *stored.Claimed, begun bool) error {
	if c.Unasked && k.s.builtByItself(k.site) {
		causes := []rebuild.Cause{{Sequence: k.position, What: causeLost}}
		if err := pgx.BeginFunc(ctx, k.s.store.DB.Conns(ctx), func(tx pgx.Tx) error {
			return k.s.requestAll(ctx, tx, k.site, causes, k.position)
		}); err != nil {
			return err
		}
		k.s.o.Judged(k.site)
	}
	if !slices.Equal(k.whole, c.Whole) || begun && len(c.Whole) > 0 {
		k.whole = c.Whole
		k.by = append(k.by, rebuild.Cause{Sequence: k.position, What: causeMany})
	}
	if len(k.by) == 0 {
		return nil
	}
	if err := k.s.store.Pages.Whole(ctx, []string{k.site}, func(tx pgx.Tx) error {
		return k.s.requestAll(ctx, tx, k.site, k.by, k.position)
	}); err != nil {
		return err
	}
	k.by = nil
	k.s.o.Judged(k.site)
	return nil
}

// requestAll asks for a build of a site that is stale as a whole, if it is built by itself.
func (s *Service) requestAll(
	ctx context.Context,
	tx pgx.Tx,
	site string,
	causes []rebuild.Cause,
	sequence int64,
) error {
	if !s.builtByItself(site) {
		return nil
	}
	return s.o.Request(ctx, tx, site, causes, sequence)
}

func (s *Service) builtByItself(site string) bool {
	is := s.o.Settings.State().Sites[site]
	return is.Build != nil && !is.Off && !is.Build.OnlyWhenAsked
}

// mostBuildCauses bounds the causes that one request for a build names.
const mostBuildCauses = 200

func (k *keeper) knownUpTo() int {
	site := k.s.o.Settings.State().Sites[k.site]
	return cmp.Or(site.KnownUpTo, rebuild.DefaultKnownUpTo)
}

// sweep forgets what no page uses any more.
func (k *keeper) sweep(ctx context.Context) error {
	gone, err := k.s.store.Pages.Sweep(ctx, k.site, k.s.replica.Node.ID, keepRenders, k.knownUpTo())
	if err != nil {
		return err
	}
	for _, id := range gone {
		if r := k.reads[id]; r != nil {
			k.index.Remove(r.handle)
			delete(k.todo, r)
			delete(k.ends, r)
			delete(k.reads, id)
		}
	}
	k.swept = len(k.reads)
	return nil
}
