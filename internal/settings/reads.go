package settings

import (
	"context"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/background"
)

// readsKept is how long a type counts as read by a site after its last read.
const readsKept = 90 * 24 * time.Hour

func (s *Service) loadReads(ctx context.Context) error {
	reads, err := s.store.Settings.SiteReads(ctx, readsKept)
	if err == nil {
		s.reads.Store(&reads)
	}
	return err
}

// siteReads has, by site, the types that its key has read.
func (s *Service) siteReads() map[string][]string {
	if reads := s.reads.Load(); reads != nil {
		return *reads
	}
	return nil
}

// TypesRead lists the types that a site has read with its key.
func (s *Service) TypesRead(site string) []string {
	return append([]string{}, s.siteReads()[site]...)
}

// noted are types that were read with the keys of sites and that are not stored yet, by site and
// the groups of an answer.
type noted struct {
	mu   sync.Mutex
	seen map[[2]string]bool
	more map[[2]string]bool
}

const (
	// maxNoted bounds the pairs of a site and groups that a node remembers.
	maxNoted = 10_000
	// flushEvery is how often they are stored, and how soon others know of them.
	flushEvery = 5 * time.Second
	// forgetEvery is how often what is stored is noted again, so that its time moves on.
	forgetEvery = time.Hour
)

// NoteRead notes that an answer was read with the key of a site. groups is its header
// Cache-Groups, which names the types that it shows.
func (s *Service) NoteRead(site, groups string) {
	pair := [2]string{site, groups}
	s.noted.mu.Lock()
	defer s.noted.mu.Unlock()
	if !s.noted.seen[pair] && len(s.noted.seen) < maxNoted {
		s.noted.seen[pair], s.noted.more[pair] = true, true
	}
}

// Start begins to store what sites read.
func (s *Service) Start() {
	s.replica.Work().Go(func(ctx context.Context) {
		forget := time.Now()
		for background.Sleep(ctx, flushEvery, nil) {
			if err := s.flushReads(ctx); err != nil && ctx.Err() == nil {
				s.replica.Work().Failures.Failed(s.log, "what sites read cannot be noted; trying on", "error", err)
			}
			if time.Since(forget) > forgetEvery {
				forget = time.Now()
				s.noted.mu.Lock()
				s.noted.seen = map[[2]string]bool{}
				s.noted.mu.Unlock()
			}
		}
	})
}

// flushReads stores what was noted, and takes up what others have.
func (s *Service) flushReads(ctx context.Context) error {
	s.noted.mu.Lock()
	more := s.noted.more
	s.noted.more = map[[2]string]bool{}
	s.noted.mu.Unlock()
	var sites, types []string
	for pair := range more {
		for group := range strings.SplitSeq(pair[1], ",") {
			if name, err := strconv.Unquote(strings.TrimSpace(group)); err == nil {
				sites, types = append(sites, pair[0]), append(types, name)
			}
		}
	}
	if len(sites) > 0 {
		if err := s.store.Settings.AddSiteReads(ctx, sites, types); err != nil {
			return err
		}
	}
	before := s.siteReads()
	err := s.loadReads(ctx)
	if err == nil && !reflect.DeepEqual(before, s.siteReads()) {
		s.replica.News().Tell("sites")
	}
	return err
}
