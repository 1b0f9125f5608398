package pages

import (
	"context"
	"sync"
	"time"

	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/pages"
	"ubiquon/internal/delivery"
	store "ubiquon/internal/store/pages"
)

const (
	// flushPause is how long registrations are gathered before they are stored.
	flushPause = 100 * time.Millisecond
	// mostHeld bounds what a node holds of a site; beyond, registrations are lost, and the site is
	// stale as a whole.
	mostHeld = 200_000
	// mostRemembered bounds the registrations of a site that a node remembers, rememberFor how long:
	// what is deleted in the database meanwhile is registered again.
	mostRemembered = 50_000
	rememberFor    = time.Minute
	// perFlush bounds what is stored in one transaction.
	perFlush = 5_000
)

// buffer holds registrations of a site that are not stored yet.
type buffer struct {
	site string
	mu   sync.Mutex
	held []store.Registration
	// noted says that the database knows that this node holds some, so that they are missed if it
	// dies; lost that some were dropped.
	noted, lost bool
	// answers are what was registered last: that it comes again says nothing new.
	answers    map[registered]string
	remembered time.Time // since when
	// idle says that nothing came since the last flush.
	idle bool
	// noting is held while noted is made true or false, flushing while what is held is stored.
	noting, flushing sync.Mutex
}

// Note notes what a page has read, and what it got. It returns at once, but for the first one
// after a while.
func (s *Service) Note(ctx context.Context, site string, all ...store.Registration) {
	b := s.buffer(site)
	b.mu.Lock()
	noted := b.noted
	b.mu.Unlock()
	if !noted {
		s.noteHolding(ctx, b)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.idle = false
	if room := max(0, mostHeld-len(b.held)); len(all) > room {
		all, b.lost = all[:room], true
	}
	if now := time.Now(); len(b.answers) >= mostRemembered || now.Sub(b.remembered) > rememberFor {
		b.answers, b.remembered = map[registered]string{}, now
	}
	for _, r := range all {
		key := registered{r.Mark, r.Request, r.Rights}
		if b.answers[key] == r.Answer && r.Answer != "" {
			continue
		}
		b.answers[key] = r.Answer
		b.held = append(b.held, r)
	}
	if len(b.held) > 0 {
		background.Nudge(s.wakeFlush)
	}
}

// registered is a request that a page made in a run.
type registered struct {
	pages.Mark
	request, rights string
}

func (s *Service) buffer(site string) *buffer {
	b, _ := s.buffers.LoadOrStore(site, &buffer{site: site})
	return b.(*buffer)
}

// noteHolding lets the database know that this node holds registrations.
func (s *Service) noteHolding(ctx context.Context, b *buffer) {
	b.noting.Lock()
	defer b.noting.Unlock()
	b.mu.Lock()
	noted := b.noted
	b.mu.Unlock()
	if noted {
		return
	}
	err := s.store.Pages.Hold(context.WithoutCancel(ctx), b.site, s.replica.Node.ID)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.noted, b.lost = true, b.lost || err != nil
}

// flushLoop stores registrations as they come.
func (s *Service) flushLoop(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wakeFlush:
		}
		for again := true; again; {
			if !background.Sleep(ctx, flushPause, nil) {
				return
			}
			again = false
			s.buffers.Range(func(_, v any) bool {
				b := v.(*buffer)
				more, err := s.flush(ctx, b)
				if err != nil && ctx.Err() == nil {
					s.work.Failures.Failed(
						s.log,
						"what pages read cannot be noted; trying on",
						"site",
						b.site,
						"error",
						err,
					)
				}
				again = again || more || err != nil
				return true
			})
		}
	}
}

// Flush returns when everything that was noted of a site before the call is stored, and others
// know of it, unless more comes all the time.
func (s *Service) Flush(ctx context.Context, site string) error {
	v, ok := s.buffers.Load(site)
	if !ok {
		return nil
	}
	for range 3 {
		if more, err := s.flush(ctx, v.(*buffer)); err != nil || !more {
			return err
		}
	}
	return nil
}

// flush stores what is held of a site. more says that it is to be called again, if only to note
// that nothing is held any more.
func (s *Service) flush(ctx context.Context, b *buffer) (more bool, err error) {
	b.flushing.Lock()
	defer b.flushing.Unlock()
	b.mu.Lock()
	empty, noted, idle := len(b.held) == 0 && !b.lost, b.noted, b.idle
	b.mu.Unlock()
	switch {
	case empty && !noted:
		return false, nil
	case empty && idle:
		return s.release(ctx, b)
	case empty:
		b.mu.Lock()
		b.idle = true
		b.mu.Unlock()
		return true, nil
	}
	taken, err := s.store.Pages.Now(ctx)
	if err != nil {
		return true, err
	}
	b.mu.Lock()
	all, lost := b.held, b.lost
	b.held, b.lost, b.idle = nil, false, true
	b.mu.Unlock()
	for len(all) > 0 || lost {
		n := min(len(all), perFlush)
		if err := s.store.Pages.Register(ctx, b.site, s.replica.Node.ID, all[:n], taken, lost,
			s.delivery.TypesIn); err != nil {
			b.mu.Lock()
			b.held, b.lost = append(all, b.held...), b.lost || lost
			b.mu.Unlock()
			return true, err
		}
		all, lost = all[n:], false
	}
	background.Nudge(s.wake(b.site))
	return true, nil
}

// release lets the database know that nothing is held any more.
func (s *Service) release(ctx context.Context, b *buffer) (more bool, err error) {
	b.noting.Lock()
	defer b.noting.Unlock()
	b.mu.Lock()
	if len(b.held) > 0 || !b.idle {
		b.mu.Unlock()
		return true, nil
	}
	b.noted = false
	b.mu.Unlock()
	if err := s.store.Pages.Release(ctx, b.site, s.replica.Node.ID); err != nil {
		b.mu.Lock()
		b.noted = true
		b.mu.Unlock()
		return true, err
	}
	return false, nil
}

// flushAll stores everything, and takes leave.
func (s *Service) flushAll(ctx context.Context) error {
	var first error
	s.buffers.Range(func(_, v any) bool {
		if err := s.Flush(ctx, v.(*buffer).site); err != nil {
			first = err
		}
		return true
	})
	return first
}

// RegistrationOf is that of a page that has read a plan with these rights, and got the answer.
func RegistrationOf(m pages.Mark, p *delivery.Plan, a *delivery.Answer, rights access.Rights) store.Registration {
	out := store.Registration{
		Mark: m, Request: p.Request().Text(), Answer: delivery.NameOf(a.Response), Sequence: a.Sequence,
	}
	if a.Narrowed {
		out.Rights = rightsText(rights)
	}
	return out
}
