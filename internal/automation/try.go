package automation

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/db"
)

// Rules lists the rules with how they stand, in the order in which they were made.
func (a *Service) Rules(ctx context.Context) ([]api.RuleState, error) {
	st := a.settings.State()
	names := make([]string, len(st.Rules))
	for i := range st.Rules {
		names[i] = st.Rules[i].Name
	}
	standings, err := a.store.Runs.Standings(ctx, names)
	if err != nil {
		return nil, err
	}
	clocks, _, err := a.store.Runs.Clocks(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]api.RuleState, len(st.Rules))
	for i, r := range st.Rules {
		saved, err := a.settings.Get(settings.KindRule, r.Name)
		if err != nil {
			return nil, err
		}
		one := api.RuleState{
			Rule: r, Version: saved.Version, By: saved.By, Changed: saved.At, Broken: st.Broken[r.Name],
			LastRun: standings[r.Name].Last, Fired: standings[r.Name].Fired, Warnings: saved.Warnings,
		}
		for _, c := range clocks {
			if c.Rule == r.Name && !r.Off {
				one.Next = &c.Next
			}
		}
		if one.LastRun == nil && !r.Off && r.At == "" && time.Since(saved.At) > quietRule {
			one.Warnings = append(one.Warnings, fmt.Sprintf("rule %q has not fired for 30 days", r.Name))
		}
		out[i] = one
	}
	return out, nil
}

// quietRule is for how long a rule does not fire that is warned about. Runs are kept as long.
const quietRule = 30 * 24 * time.Hour

// Runs lists what rules made of events, the newest first.
func (a *Service) Runs(ctx context.Context, f api.RuleRunFilter) ([]api.RuleRun, error) {
	return a.store.Runs.List(ctx, f)
}

// Run returns one run. Its error is db.ErrNotFound if there is none.
func (a *Service) Run(ctx context.Context, id int64) (api.RuleRun, error) {
	return a.store.Runs.Get(ctx, id)
}

// RunAgain has a step that has failed done again, -1 for the first of them. Its error is
// runs.ErrNotFailed if there is none.
func (a *Service) RunAgain(ctx context.Context, id int64, step int) (api.RuleRun, error) {
	if err := a.store.Runs.Again(ctx, id, step); err != nil {
		return api.RuleRun{}, err
	}
	background.Nudge(a.wakeSteps)
	a.news.Tell("runs")
	return a.store.Runs.Get(ctx, id)
}

// triedOn is how many of the last changes a rule is tried on if nothing else is said.
const triedOn = 10

// Try says what a rule would make of something, and does nothing.
func (a *Service) Try(ctx context.Context, in api.RuleTrial) (api.RuleTrialOutcome, error) {
	out := api.RuleTrialOutcome{Trials: []api.RuleVerdictOn{}, Warnings: []string{}, Problems: []rule.Mistake{}}
	c, problems, warnings, err := a.settings.CompileRule(in.Name, in.Rule)
	if err != nil {
		return out, err
	}
	if len(problems) > 0 {
		out.Problems = problems
		return out, nil
	}
	out.Warnings = append(out.Warnings, warnings...)
	all, err := a.occurrences(ctx, c, in)
	if err != nil {
		return out, err
	}
	if err := a.addRolesOf(ctx, c, all); err != nil {
		return out, err
	}
	for _, o := range all {
		v := api.RuleVerdictOn{About: *o, Decision: c.Decide(o, time.Now()), Steps: []api.StepPreview{}}
		for i := range c.Do {
			p, err := a.preview(ctx, c.Name, &c.Do[i], o)
			if err != nil {
				p = api.StepPreview{Kind: c.Do[i].Kind(), Says: err.Error()}
			}
			v.Steps = append(v.Steps, p)
		}
		out.Trials = append(out.Trials, v)
	}
	return out, nil
}

func (a *Service) addRolesOf(ctx context.Context, c *rule.Compiled, all []*rule.Occurrence) error {
	return a.addRoles(ctx, &settings.State{Compiled: []*rule.Compiled{c}}, all)
}

// occurrences are what a rule is tried on.
func (a *Service) occurrences(
	ctx context.Context, c *rule.Compiled, in api.RuleTrial,
) (out []*rule.Occurrence, err error) {
	var changes []content.Change
	switch {
	case in.Entry != "":
		return a.supposed(ctx, in.Entry, in.On)
	case in.Sequence > 0:
		changes, err = a.store.Changes.ChangesFrom(ctx, in.Sequence-1, 1)
		if err == nil && (len(changes) == 0 || changes[0].Sequence != in.Sequence) {
			err = fmt.Errorf("the change %d: %w", in.Sequence, db.ErrNotFound)
		}
		if err != nil {
			return nil, err
		}
	case in.Event != "":
		if changes, err = a.store.Changes.OfEvent(ctx, in.Event); err != nil {
			return nil, err
		}
		if len(changes) == 0 {
			return nil, fmt.Errorf("a change that came of the event %s: %w", in.Event, db.ErrNotFound)
		}
	case c.At != "":
		return []*rule.Occurrence{{Event: rule.Clock, At: c.Next(time.Now()), Origin: content.Local}}, nil
	default:
		if changes, err = a.store.Changes.Changes(ctx, "", 0, 10*triedOn); err != nil {
			return nil, err
		}
	}
	for i := range changes {
		if o := rule.OccurrenceOf(a.replica.Model(), &changes[i]); o != nil && len(out) < triedOn {
			out = append(out, o)
		}
	}
	return out, nil
}

// supposed is an event that is supposed of an entry as it stands.
func (a *Service) supposed(ctx context.Context, entry, on string) ([]*rule.Occurrence, error) {
	if on == "" {
		on = rule.Published
	}
	if !slices.Contains(rule.ContentEvents, on) {
		return nil, api.BadParameter("on", "there is no event %q%s", on, strictyaml.DidYouMean(on, rule.ContentEvents))
	}
	if _, err := a.store.Entries.Get(ctx, entry); err != nil {
		return nil, err
	}
	o := &rule.Occurrence{Event: on, At: time.Now(), Entry: entry, Origin: content.Local}
	if err := a.describe(ctx, o); err != nil {
		return nil, err
	}
	return []*rule.Occurrence{o}, nil
}

// preview says what a step would do.
func (a *Service) preview(ctx context.Context, name string, s *rule.Step, o *rule.Occurrence) (api.StepPreview, error) {
	f := a.filling(name, o)
	out := api.StepPreview{Kind: s.Kind()}
	switch {
	case s.Rebuild != nil:
		out.Says = "ask for a build of " + s.Rebuild.Site
	case s.Refresh != nil:
		out.Says = "tell " + s.Refresh.Site + " that these pages are stale: " + strings.Join(
			f.Pages(s.Refresh.Pages),
			", ",
		)
		if slices.Contains(s.Refresh.Pages, rule.AllPages) {
			out.Says = "tell " + s.Refresh.Site + " that all of its pages are stale"
		}
	case s.Purge != nil:
		out.Says = "throw away cached answers of all nodes: " +
			strings.Join(append(slices.Clone(s.Purge.Types), s.Purge.Filter), " ")
	case s.Warm != nil:
		out.Says = fmt.Sprintf("compute %s, and the %d hottest", strings.Join(s.Warm.Requests, ", "), s.Warm.Hottest)
	case s.Mail != nil:
		to, err := a.recipients(ctx, s.Mail.To)
		if err != nil {
			return out, err
		}
		out.Says = fmt.Sprintf("mail to %s: %s", strings.Join(to, ", "), f.Text(s.Mail.Subject))
		out.Text = f.Text(s.Mail.Text)
	case s.Call != nil:
		body, err := a.bodyOf(s.Call, name, o, "tried")
		if err != nil {
			return out, err
		}
		src, err := json.MarshalIndent(body, "", "  ")
		if err != nil {
			return out, err
		}
		out.Says, out.Text = "call "+s.Call.Address, string(src)
	case s.Publish != nil, s.Unpublish != nil, s.Schedule != nil:
		return a.previewWrite(ctx, s, o)
	case s.Wait != nil:
		out.Says = "wait for " + time.Duration(s.Wait.For).String()
	}
	return out, nil
}

func (a *Service) previewWrite(ctx context.Context, s *rule.Step, o *rule.Occurrence) (api.StepPreview, error) {
	out := api.StepPreview{Kind: s.Kind()}
	which := s.Publish
	switch {
	case s.Unpublish != nil:
		which = s.Unpublish
	case s.Schedule != nil:
		which = &s.Schedule.Of
	}
	found, err := a.meant(ctx, *which, o)
	if err != nil {
		return out, err
	}
	titles := make([]string, 0, len(found))
	for _, e := range found[:min(len(found), 20)] {
		titles = append(titles, e.Title)
	}
	out.Says = fmt.Sprintf("%s %d entries", s.Kind(), len(found))
	if s.Schedule != nil {
		out.Says = fmt.Sprintf("%s %d entries in %s", s.Schedule.Action, len(found), time.Duration(s.Schedule.In))
	}
	out.Text = strings.Join(titles, "\n")
	return out, nil
}

// Verdict is what a rule makes of a change, with the sites that it keeps fresh if it fires.
type Verdict struct {
	api.RuleVerdict
	Sites []string
}

// Verdicts says what each rule makes of a change.
func (a *Service) Verdicts(c *content.Change) (out []Verdict) {
	o := rule.OccurrenceOf(a.replica.Model(), c)
	if o == nil {
		return nil
	}
	for _, r := range a.settings.State().Compiled {
		d := r.Decide(o, time.Now())
		v := Verdict{RuleVerdict: api.RuleVerdict{Rule: r.Name, Fires: d.Fires, Why: d.Reason}}
		for i := range r.Do {
			if site := r.Do[i].Site(); site != "" && d.Fires {
				v.Sites = append(v.Sites, site)
			}
		}
		out = append(out, v)
	}
	return out
}
