package automation

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/mailer"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/runs"
	"ubiquon/internal/store/writing"
)

func (a *Service) doRebuild(
	ctx context.Context, j *runs.Job,
) (string, time.Duration, func(pgx.Tx) error, error) {
	step := j.Steps[j.Step].Rebuild
	if _, is := a.settings.State().Sites[step.Site]; !is {
		return "", 0, nil, never("there is no site %q any more", step.Site)
	}
	return "asked for a build of " + step.Site, 0, func(tx pgx.Tx) error {
		causes := []rebuild.Cause{j.About.Cause(j.Rule)}
		_, err := a.store.Builds.RequestIn(ctx, tx, step.Site, causes, j.About.Sequence, step.Now)
		background.Nudge(a.wakeBuild(step.Site))
		return err
	}, nil
}

// StalePages is what a site that renders on a server is told: the data of a CloudEvent of the
// type pages-stale.
type StalePages struct {
	Site     string      `json:"site"`
	Sequence int64       `json:"sequence"`
	Pages    []StalePage `json:"pages"`
	// Reads are the requests of those pages that give something else now, as they were sent: of the
	// published edition what stands below it.
	Reads []string `json:"reads"`
	// All says that every page may be stale; Pages is empty then.
	All bool `json:"all"`
	// Test says that nothing is to be rendered.
	Test bool `json:"test,omitempty"`
}

// StalePage is one page, with the changes by which it is stale.
type StalePage struct {
	Path string `json:"path"`
	// Since is the first of these changes, if the page has said what it reads.
	Since  int64           `json:"since,omitempty"`
	Causes []rebuild.Cause `json:"causes"`
	// Gone says that what the page showed is not there any more.
	Gone bool `json:"gone,omitempty"`
}

// pagesPerCall bounds the pages that one call names.
const pagesPerCall = 200

func (a *Service) doRefresh(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Refresh
	site, is := a.settings.State().Sites[step.Site]
	switch {
	case !is || site.Refresh == nil:
		return "", never("the site %s does not say any more how it is refreshed", step.Site)
	case site.Off:
		return "the site is off: it was not called", nil
	}
	if slices.Contains(step.Pages, rule.AllPages) {
		if known, err := a.store.Pages.Knows(ctx, step.Site); err != nil {
			return "", err
		} else if known {
			return step.Site + " says what its pages read: it is told of those that are stale, not of all", nil
		}
	}
	secret, err := a.settings.Resolve(site.Refresh.Secret)
	if err != nil {
		return "", err
	}
	data := StalePages{Site: step.Site, Sequence: j.About.Sequence, Pages: []StalePage{}, Reads: []string{}}
	for _, path := range a.filling(j.Rule, &j.About).Pages(step.Pages) {
		data.Pages = append(data.Pages, StalePage{Path: path, Causes: []rebuild.Cause{j.About.Cause(j.Rule)}})
	}
	if slices.Contains(step.Pages, rule.AllPages) || len(data.Pages) == 0 || len(data.Pages) > pagesPerCall {
		data.Pages, data.All = []StalePage{}, true
	}
	id := a.callID(j)
	_, err = a.caller.Send(ctx, outbound.Message{
		Address: site.Refresh.Call, Secret: secret, ID: id, Payload: outbound.Event{
			Type: "pages-stale", Source: a.source(), ID: id, Time: j.About.At.UTC(), Data: data,
		},
	})
	if err != nil {
		return "", err
	}
	if data.All {
		return step.Site + " was told that all of its pages are stale", nil
	}
	paths := make([]string, len(data.Pages))
	for i, p := range data.Pages {
		paths[i] = p.Path
	}
	return fmt.Sprintf("%s was told of %s", step.Site, strings.Join(paths, ", ")), nil
}

// source is that of the CloudEvents that the environment sends.
func (a *Service) source() string { return a.address + "/content/" + a.replica.Environment() }

func (a *Service) doPurge(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Purge
	var queries []api.CacheQuery
	for _, t := range step.Types {
		queries = append(queries, api.CacheQuery{Type: t})
	}
	if step.Filter != "" {
		found, err := a.selected(ctx, step.Filter)
		if err != nil {
			return "", err
		}
		for _, e := range found {
			queries = append(queries, api.CacheQuery{Entry: e.ID})
		}
	}
	if len(step.Types) == 0 && step.Filter == "" {
		queries = []api.CacheQuery{{}}
	}
	if err := a.settings.Purge(ctx, queries, a.ruleCause(j)); err != nil {
		return "", err
	}
	a.replica.Announce()
	return fmt.Sprintf("all nodes throw away what %d conditions mean", len(queries)), nil
}

func (a *Service) doWarm(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Warm
	done, err := a.o.Warm(ctx, slices.Clone(step.Requests), step.Hottest)
	if err != nil {
		return "", err
	}
	for _, w := range done {
		if w.Error != "" {
			return "", fmt.Errorf("%s: %s", w.Request, w.Error)
		}
	}
	return fmt.Sprintf("computed %d answers on this node", len(done)), nil
}

func (a *Service) doCall(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Call
	secret, err := a.settings.Resolve(step.Secret)
	if err != nil {
		return "", err
	}
	id := a.callID(j)
	m := outbound.Message{Address: step.Address, Secret: secret, ID: id}
	if m.Payload, err = a.bodyOf(step, j.Rule, &j.About, id); err != nil {
		return "", failure{err}
	}
	answer, err := a.caller.Send(ctx, m)
	return fmt.Sprintf("answered %d", answer.Status), err
}

// bodyOf is what a call sends: a CloudEvent, or what its template makes.
func (a *Service) bodyOf(step *rule.Call, name string, o *rule.Occurrence, id string) (any, error) {
	if step.Body != "" {
		return a.filling(name, o).JSON(step.Body)
	}
	return outbound.Event{Type: o.Event, Source: a.source(), ID: id, Time: o.At.UTC(), Data: o}, nil
}

func (a *Service) doMail(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Mail
	server, err := a.mailServer()
	if err != nil {
		return "", err
	}
	to, err := a.recipients(ctx, step.To)
	if err != nil {
		return "", err
	}
	if len(to) == 0 {
		return "nobody is meant: no account has the role", nil
	}
	f := a.filling(j.Rule, &j.About)
	for i, address := range to {
		m := mailer.Message{
			ID: a.messageID(fmt.Sprintf("%s-%d", a.callID(j), i)), To: address,
			Subject: f.Text(step.Subject), Text: f.Text(step.Text),
		}
		if err := a.sendOnce(ctx, server, m); err != nil {
			return "", fmt.Errorf("to %s: %w", address, err)
		}
	}
	return "sent to " + strings.Join(to, ", "), nil
}

// ruleCause is the cause of what a step changes.
func (a *Service) ruleCause(j *runs.Job) content.Cause {
	return content.Cause{Kind: "rule", Name: j.Rule, Chain: append(slices.Clone(j.About.Chain), j.Rule)}
}

// maxSelected bounds the entries that one step changes.
const maxSelected = 10_000

// selected are the entries that a filter of a step means, as their drafts stand.
func (a *Service) selected(ctx context.Context, text string) ([]api.EntryInfo, error) {
	v := a.settings.State().Vocabulary
	if v == nil {
		return nil, errors.New("there is no model yet")
	}
	of, err := v.Select(text)
	if err != nil {
		return nil, failure{err}
	}
	f := api.EntryFilter{
		Type: of.Type, Locale: a.replica.Model().Default(), Limit: 500, Sort: "title",
	}
	var out []api.EntryInfo
	for {
		found, total, err := a.store.Entries.List(ctx, f, of.Filter)
		if err != nil {
			return nil, err
		}
		if total > maxSelected {
			return nil, never("%d entries are meant, at most %d are changed at once", total, maxSelected)
		}
		out = append(out, found...)
		if f.Offset += len(found); len(found) == 0 || f.Offset >= total {
			return out, nil
		}
	}
}

// meant are the entries that a step is about.
func (a *Service) meant(ctx context.Context, w rule.Which, o *rule.Occurrence) ([]api.EntryInfo, error) {
	if !w.This {
		return a.selected(ctx, w.Filter)
	}
	if o.Entry == "" {
		return nil, never("the event is about no entry")
	}
	found, _, err := a.store.Entries.List(ctx, api.EntryFilter{IDs: []string{o.Entry}, Limit: 1}, nil)
	if err == nil && len(found) == 0 {
		return nil, never("the entry is not there any more")
	}
	return found, err
}

// editsPerStep is how many entries a step changes in one transaction.
const editsPerStep = 200

func (a *Service) doWrite(ctx context.Context, j *runs.Job) (string, error) {
	s := &j.Steps[j.Step]
	which, live, said := s.Publish, writing.PublishNewest, "published"
	if s.Unpublish != nil {
		which, live, said = s.Unpublish, writing.TakeBack, "unpublished"
	}
	found, err := a.meant(ctx, *which, &j.About)
	if err != nil {
		return "", err
	}
	var edits []writing.Edit
	foreign := 0
	for _, e := range found {
		switch {
		case e.Origin != content.Local:
			foreign++
		case live == writing.TakeBack && e.PublishedRevision == 0,
			live == writing.PublishNewest && e.PublishedRevision == e.Revision && !e.Behind:
		default:
			edits = append(edits, writing.Edit{ID: e.ID, Origin: content.Local, Live: live})
		}
	}
	for part := range slices.Chunk(edits, editsPerStep) {
		if _, err := a.o.Apply(ctx, part, "rule "+j.Rule, a.ruleCause(j)); err != nil {
			if writing.ContentReason(err) {
				return "", failure{err}
			}
			return "", err
		}
	}
	result := fmt.Sprintf("%s %d of %d entries", said, len(edits), len(found))
	if foreign > 0 {
		result += fmt.Sprintf("; %d belong to origins, where they are published", foreign)
	}
	return result, nil
}

func (a *Service) doSchedule(ctx context.Context, j *runs.Job) (string, error) {
	step := j.Steps[j.Step].Schedule
	found, err := a.meant(ctx, step.Of, &j.About)
	if err != nil {
		return "", err
	}
	at := j.Due.Add(time.Duration(step.In))
	var all []api.Schedule
	for _, e := range found {
		if e.Origin == content.Local {
			all = append(all, api.Schedule{Entry: e.ID, Action: step.Action, At: at, Zone: "UTC", By: "rule " + j.Rule})
		}
	}
	if len(all) == 0 {
		return "no entry is meant that is edited here", nil
	}
	_, err = a.o.Schedule(ctx, all...)
	var problems content.Problems
	if errors.As(err, &problems) || errors.Is(err, entries.ErrPast) {
		return "", failure{err}
	}
	return fmt.Sprintf("%s of %d entries at %s", step.Action, len(all), at.UTC().Format(time.RFC3339)), err
}

// describe adds to an event about an entry what the entry holds, published and newest.
func (a *Service) describe(ctx context.Context, o *rule.Occurrence) error {
	if o.Entry == "" {
		return nil
	}
	e, err := a.store.Entries.Get(ctx, o.Entry)
	if err != nil {
		return nil // it is gone by now; there is nothing more to say
	}
	m := a.replica.Model()
	t := m.Type(e.Type)
	if t == nil {
		return nil
	}
	o.Type, o.Title = e.Type, e.Title
	o.After, o.Before = inLocale(m, t, e.Newest), inLocale(m, t, e.Shown)
	for _, d := range content.Compare(m, t, e.Shown, e.Newest) {
		if !slices.Contains(o.Changed, d.Field) {
			o.Changed = append(o.Changed, d.Field)
		}
		if d.Locale != "" && !slices.Contains(o.Locales, d.Locale) {
			o.Locales = append(o.Locales, d.Locale)
		}
	}
	return nil
}
