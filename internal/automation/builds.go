package automation

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/pages"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/db"
)

// Rebuild asks for a build of a site, now or after the usual wait.
func (a *Service) Rebuild(ctx context.Context, site, by string, immediately bool) (rebuild.Build, error) {
	s, ok := a.settings.State().Sites[site]
	switch {
	case !ok || s.Build == nil:
		return rebuild.Build{}, fmt.Errorf("site %s with a build: %w", site, db.ErrNotFound)
	case s.Off:
		return rebuild.Build{}, api.BadParameter("site", "the site %s is off; switch it on first", site)
	}
	b, err := a.store.Builds.Request(ctx, site, []rebuild.Cause{{By: by}}, a.cache.Applied(), immediately)
	background.Nudge(a.wakeBuild(site))
	a.news.Tell("builds")
	return b, err
}

// orderCauses bounds the causes that an order names.
const orderCauses = 100

// Order is the body of a call to a builder.
type Order struct {
	Build    string `json:"build"`
	Number   int64  `json:"number"`
	Site     string `json:"site"`
	Sequence int64  `json:"sequence"` // read content at this state or later
	// Causes are the first hundred; Counts says how many there are in all, by what happened
	// (published, unpublished, deleted, moved, saved, and "asked for" by somebody).
	Causes []rebuild.Cause `json:"causes"`
	Counts map[string]int  `json:"counts"`
	// Report is where the builder posts {"state": "started"}, {"state":
	// "finished"} or {"state": "failed", "error": "why"} with the site's key.
	Report string `json:"report,omitempty"`
	// Pages are the paths that are to be rendered, "all" for all of them.
	Pages pages.Order `json:"pages"`
	// Test says that nothing is to be built.
	Test bool `json:"test,omitempty"`
}

// callBuilder calls a site's builder whenever a build is due.
func (a *Service) callBuilder(ctx context.Context, site string, is *rebuild.Site) {
	for {
		b, wait, err := a.store.Builds.NextCall(ctx, site, is)
		if ctx.Err() != nil {
			return
		}
		switch {
		case err != nil:
			a.work.Failures.Failed(a.log, "builds cannot be looked after; trying on", "site", site, "error", err)
			wait = time.Second
		case b != nil:
			a.news.Tell("builds")
			a.place(ctx, b, is.Build)
			continue
		}
		if !background.Sleep(ctx, wait, a.wakeBuild(site)) {
			return
		}
	}
}

func (a *Service) place(ctx context.Context, b *rebuild.Build, call *rebuild.Call) {
	order := Order{
		Build:    b.ID,
		Number:   b.Number,
		Site:     b.Site,
		Sequence: b.Sequence,
		Causes:   b.Causes[:min(len(b.Causes), orderCauses)],
		Counts:   b.Counts,
		Report:   a.address + "/control/v1/builds/" + b.ID + "/reports",
		Pages:    pages.Order(b.Pages),
	}
	if call.Silent() {
		order.Report = ""
	}
	failure, wait := "", time.Duration(0)
	if err := a.callSite(ctx, call, b.ID, order); err != nil {
		failure = err.Error()
		var answered *outbound.AnswerError
		if errors.As(err, &answered) {
			wait = answered.RetryAfter
		}
		a.work.Failures.Failed(
			a.log, "the builder of "+b.Site+" did not take the call; it will be made again", "build", b.Number,
			"attempt", b.Attempts, "error", err,
		)
	}
	if err := a.store.Builds.Called(ctx, b, call.Silent(), failure, wait); err != nil && ctx.Err() == nil {
		a.log.Error("a call cannot be noted; it will be made again", "site", b.Site, "build", b.Number, "error", err)
	}
	a.o.Pages.Wake(b.Site)
}

// callSite makes the call of a build, as the site says.
func (a *Service) callSite(ctx context.Context, call *rebuild.Call, id string, order Order) error {
	m := outbound.Message{Address: call.Call, ID: id, Payload: order, Headers: map[string]string{}}
	var err error
	if m.Secret, err = a.settings.Resolve(call.Secret); err != nil {
		return err
	}
	for name, value := range call.Headers {
		if m.Headers[name], err = a.settings.Resolve(value); err != nil {
			return err
		}
	}
	if call.Body != "" {
		m.Payload = call.FillBody(map[string]string{
			"build": order.Build, "number": strconv.FormatInt(order.Number, 10), "site": order.Site,
			"sequence": strconv.FormatInt(order.Sequence, 10), "report": order.Report,
		})
	}
	_, err = a.caller.Send(ctx, m)
	return err
}

// TestSite calls a site's builder, or what refreshes it, with an order that says that it is a
// test, and returns what it answered.
func (a *Service) TestSite(ctx context.Context, name string) (api.CallAnswer, error) {
	site, ok := a.settings.State().Sites[name]
	if !ok {
		return api.CallAnswer{}, fmt.Errorf("site %s: %w", name, db.ErrNotFound)
	}
	m := outbound.Message{ID: "test-" + strconv.FormatInt(time.Now().UnixNano(), 36)}
	secret := ""
	switch {
	case site.Build != nil:
		m.Address, secret = site.Build.Call, site.Build.Secret
		m.Payload = Order{Site: name, Test: true, Causes: []rebuild.Cause{}, Counts: map[string]int{}}
	case site.Refresh != nil:
		m.Address, secret = site.Refresh.Call, site.Refresh.Secret
		m.Payload = outbound.Event{
			Type: "pages-stale", Source: a.source(), ID: m.ID, Time: time.Now().UTC(),
			Data: StalePages{Site: name, Pages: []StalePage{}, Reads: []string{}, Test: true},
		}
	default:
		return api.CallAnswer{}, api.BadParameter("site", "the site %s does not say what is called", name)
	}
	var err error
	if m.Secret, err = a.settings.Resolve(secret); err != nil {
		return api.CallAnswer{}, err
	}
	return a.answerOf(ctx, m), nil
}

// answerOf makes a call and says how it went.
func (a *Service) answerOf(ctx context.Context, m outbound.Message) api.CallAnswer {
	begin := time.Now()
	answer, err := a.caller.Send(ctx, m)
	out := api.CallAnswer{
		Address: m.Address, Status: answer.Status, Text: answer.Text, TookMs: time.Since(begin).Seconds() * 1000,
	}
	if err != nil {
		out.Error = err.Error()
	}
	return out
}

// CancelBuild takes a waiting build back. Its error is builds.ErrNotWaiting if it waits no more.
func (a *Service) CancelBuild(ctx context.Context, id, by string) (rebuild.Build, error) {
	b, err := a.store.Builds.Cancel(ctx, id, by)
	a.news.Tell("builds")
	return b, err
}

// ReportBuild takes a builder's word on a build: started, finished or failed, with what it says
// of it.
func (a *Service) ReportBuild(ctx context.Context, id string, r builds.Report) (rebuild.Build, error) {
	if known, err := a.store.Builds.Get(ctx, id); err == nil {
		// What was read through this node comes before the end of the build.
		if err := a.o.Pages.Flush(ctx, known.Site); err != nil {
			return known, err
		}
		defer a.o.Pages.Wake(known.Site)
	}
	b, err := a.store.Builds.Report(ctx, id, r)
	if errors.Is(err, builds.ErrNotRunning) {
		// It has ended for us; but whoever reports works.
		if known, heard := a.store.Builds.Get(ctx, id); heard == nil &&
			a.store.Builds.HeardOf(ctx, known.Site) == nil {
			background.Nudge(a.wakeBuild(known.Site))
		}
	}
	if err == nil {
		if b.State == rebuild.Failed {
			a.work.Failures.Failed(
				a.log, "builds of "+b.Site+" fail; they are tried again", "build", b.Number, "failures", b.Failures+1,
				"error", b.Error,
			)
		}
		background.Nudge(a.wakeBuild(b.Site))
		a.news.Tell("builds")
	}
	return b, err
}

// Build returns one build.
func (a *Service) Build(ctx context.Context, id string) (rebuild.Build, error) {
	return a.store.Builds.Get(ctx, id)
}

// Builds lists builds, the newest first.
func (a *Service) Builds(ctx context.Context, f api.BuildFilter) ([]rebuild.Build, error) {
	return a.store.Builds.List(ctx, f)
}

// Sites lists the sites, by name.
func (a *Service) Sites(ctx context.Context) ([]api.SiteInfo, error) {
	out := []api.SiteInfo{}
	st := a.settings.State()
	for _, name := range slices.Sorted(maps.Keys(st.Sites)) {
		last, err := a.store.Builds.List(ctx, api.BuildFilter{Site: name, Limit: 12})
		if err != nil {
			return nil, err
		}
		r, _ := st.Record(settings.KindSite, name)
		var live *api.Liveness
		if st.Sites[name].Live != nil {
			l, err := a.store.Live.Liveness(ctx, name, liveDays)
			if err != nil {
				return nil, err
			}
			live = &l
		}
		out = append(out, api.SiteInfo{
			Name: name, Site: st.Sites[name], Version: r.Version, By: r.By, Changed: r.At, Builds: last,
			Failing: failing(name, last), Reads: a.settings.TypesRead(name),
			Liveness: live,
		})
	}
	return out, nil
}

// liveDays is for how many days it is said how long changes took until they were live.
const liveDays = 14

// failing says how a site fails whose last builds have failed, and what to do; nil if they have
// not.
func failing(name string, last []rebuild.Build) *api.SiteFailure {
	for _, b := range last {
		if b.State == rebuild.Failed {
			out := &api.SiteFailure{Since: b.FirstRequest, Failures: b.Failures + 1, Error: b.Error}
			out.Mend = "Read the log of the build (ubiquon build show " + b.ID + "), set right what it says, then " +
				"ubiquon site rebuild " + name + " --now"
			if b.Called == nil || b.Started == nil {
				out.Mend = "See whether the builder is reachable (ubiquon site test " + name + "); it is tried again by itself"
			}
			return out
		}
		if b.State == rebuild.Finished {
			return nil
		}
	}
	return nil
}
