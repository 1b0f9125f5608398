package automation

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"ubiquon/internal/background"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/pages"
)

// refreshOf is the name by which the refreshing of a site is woken.
func refreshOf(site string) string { return "refresh " + site }

const (
	// mostDone bounds the answer that lists the pages that are done, in bytes.
	mostDone = 256 << 10
	// donePatience is how long it is asked at a Location whether pages are done, donePause how often.
	donePatience = time.Minute
	donePause    = 500 * time.Millisecond
)

// refreshSite tells a site of its pages that are stale, as they become so.
func (a *Service) refreshSite(ctx context.Context, name string, site rebuild.Site) {
	for failures := 0; ; {
		wait, err := a.refreshOnce(ctx, name, site)
		if ctx.Err() != nil {
			return
		}
		wake := a.wakeBuild(refreshOf(name))
		if failures++; err == nil {
			failures = 0
		} else {
			a.work.Failures.Failed(a.log, "stale pages cannot be looked after; trying on", "site", name, "error", err)
			wait, wake = rebuild.Backoff(failures), nil
		}
		if !background.Sleep(ctx, wait, wake) {
			return
		}
	}
}

// refreshOnce tells of all pages that are stale now, in several calls if need be, and returns
// when to look again.
func (a *Service) refreshOnce(ctx context.Context, name string, site rebuild.Site) (time.Duration, error) {
	if site.Build == nil { // else all of it is built
		if lost, err := a.store.Pages.LostAt(ctx, name); err != nil {
			return 0, err
		} else if lost != nil {
			return 0, a.tellAll(ctx, name, site, *lost)
		}
	}
	var mu sync.Mutex
	var first error
	var calls sync.WaitGroup
	for range cmp.Or(site.Refresh.AtOnce, rebuild.DefaultCallsAtOnce) {
		taken, err := a.store.Pages.TakeStale(ctx, name, cmp.Or(site.Refresh.AtMost, rebuild.DefaultPagesACall),
			site.RefreshedUpTo())
		if err != nil {
			return 0, err
		}
		if len(taken.Pages) == 0 {
			break
		}
		calls.Go(func() {
			err := a.tellOfPages(ctx, name, site, taken)
			mu.Lock()
			defer mu.Unlock()
			first = errors.Join(first, err)
		})
	}
	calls.Wait()
	if first != nil {
		return 0, first
	}
	return a.store.Pages.NextRefresh(ctx, name)
}

// tellOfPages makes one call. Pages of which the site does not take the call again and again make
// all of it stale.
func (a *Service) tellOfPages(ctx context.Context, name string, site rebuild.Site, taken *pages.Taken) error {
	data := StalePages{Site: name, Sequence: taken.Position, Pages: []StalePage{}, Reads: []string{}}
	attempts := 0
	for _, p := range taken.Pages {
		attempts = max(attempts, p.Attempts)
		data.Pages = append(data.Pages, StalePage{Path: p.Page, Since: *p.StaleSince, Causes: p.Causes, Gone: p.Gone})
	}
	for _, text := range taken.Reads {
		data.Reads = append(data.Reads, a.o.Pages.Shown(text))
	}
	switch {
	case attempts > rebuild.MaxAttempts && site.Build != nil:
		causes := []rebuild.Cause{{Sequence: taken.Position, What: "refresh fails"}}
		if _, err := a.store.Builds.Request(ctx, name, causes, taken.Position, false); err != nil {
			return err
		}
		background.Nudge(a.wakeBuild(name))
		return taken.Told(ctx, nil, fmt.Sprintf("it was not taken %d times; the site is built", attempts-1))
	case attempts > rebuild.MaxAttempts:
		data.Pages, data.All = []StalePage{}, true
	}
	done, err := a.callRefreshOf(ctx, taken, site.Refresh, data)
	if err != nil {
		a.work.Failures.Failed(a.log, "a site does not take it that pages are stale; it is told again", "site", name,
			"pages", len(taken.Pages), "attempt", attempts, "error", err)
		return taken.NotTold(ctx, err.Error(), rebuild.Backoff(attempts))
	}
	if err := taken.Told(ctx, done, ""); err != nil {
		return err
	}
	a.log.Info("told a site of stale pages", "site", name, "pages", len(taken.Pages), "all", data.All)
	a.news.Tell("pages")
	return nil
}

// tellAll tells a site that all of its pages may be stale.
func (a *Service) tellAll(ctx context.Context, name string, site rebuild.Site, lost time.Time) error {
	data := StalePages{Site: name, Sequence: a.cache.Applied(), Pages: []StalePage{}, Reads: []string{}, All: true}
	if _, err := a.callRefresh(ctx, site.Refresh, data); err != nil {
		return fmt.Errorf("that all pages are stale: %w", err)
	}
	return a.store.Pages.ToldAll(ctx, name, lost)
}

// callRefreshOf is callRefresh; no other node takes the pages while it takes.
func (a *Service) callRefreshOf(
	ctx context.Context, taken *pages.Taken, r *rebuild.Refresh, data StalePages,
) (done []string, err error) {
	renewing, stop := context.WithCancel(ctx)
	var renewed sync.WaitGroup
	defer renewed.Wait()
	defer stop()
	renewed.Go(func() {
		for background.Sleep(renewing, pages.TakenFor/3, nil) {
			_ = taken.Renew(renewing) // else another node may tell of them too
		}
	})
	return a.callRefresh(ctx, r, data)
}

// callRefresh makes a call, and returns the pages that the site says are done.
func (a *Service) callRefresh(ctx context.Context, r *rebuild.Refresh, data StalePages) (done []string, err error) {
	id, err := uuid.NewV7()
	if err != nil {
		return nil, err
	}
	secret, err := a.settings.Resolve(r.Secret)
	if err != nil {
		return nil, err
	}
	answer, err := a.caller.Send(ctx, outbound.Message{
		Address: r.Call, Secret: secret, ID: id.String(), Most: mostDone, Payload: outbound.Event{
			Type: "pages-stale", Source: a.source(), ID: id.String(), Time: time.Now().UTC(), Data: data,
		},
	})
	if err != nil {
		return nil, err
	}
	body := []byte(answer.Text)
	if answer.Status == http.StatusAccepted && answer.Location != "" {
		if body, err = a.awaitDone(ctx, answer.Location); err != nil {
			return nil, err
		}
	}
	var says struct{ Done []string }
	_ = json.Unmarshal(body, &says) // most say nothing
	return says.Done, nil
}

// awaitDone asks at the address that a site gave until it says what is done.
func (a *Service) awaitDone(ctx context.Context, address string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, donePatience)
	defer cancel()
	for {
		body, err := a.caller.Get(ctx, address)
		var says struct{ Done []string }
		if err == nil && json.Unmarshal(body, &says) == nil && says.Done != nil {
			return body, nil
		}
		if !background.Sleep(ctx, donePause, nil) {
			return nil, errors.Join(errors.New("it was not said in time which pages are done"), err)
		}
	}
}
