package gateway

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/graphql"
	"ubiquon/internal/store"
)

// firstModel takes up the stored model, or stores the first one; with apply the
// one that is configured, whatever is stored.
func (g *Gateway) firstModel(ctx context.Context, first *model.Model, apply bool) error {
	err := g.loadModel(ctx)
	differs := err == nil && first != nil && !sameModel(first, g.Model())
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return err
	case err == nil && !differs:
		return nil
	case differs && !apply:
		g.log.Warn("the configured model differs from the one in force, which stays; see it with: ubiquon model diff DIR, take it up with: ubiquon model apply DIR, or at start with --apply-model")
		return nil
	case first == nil:
		return errors.New("the environment has no model yet; name the directory of its files with model: in the configuration, or --model")
	}
	if err := g.store.ApplyModel(ctx, first, causeOfModel, store.ModelOptions{}); err != nil {
		return fmt.Errorf("applying the model: %w", err)
	}
	return g.loadModel(ctx)
}

func sameModel(a, b *model.Model) bool {
	x, _ := json.Marshal(a) // plain records
	y, _ := json.Marshal(b)
	return bytes.Equal(x, y)
}

// Consequence is a difference between two models with what it does to entries
// and to those who read them.
type Consequence struct {
	store.Consequence
	// Readers are the keys, and the sites behind them, that may read what goes or
	// is renamed.
	Readers []string `json:"readers"`
}

// ModelPlan is what applying a model would do.
type ModelPlan struct {
	// Version of the present model.
	Version int64 `json:"version"`
	// Consequences, the worst first; none when the model is the present one.
	Consequences []Consequence `json:"consequences"`
	// Loses is true when content would be lost.
	Loses bool `json:"loses"`
	// Model and YAML are the model as it would be.
	Model *model.Model `json:"model"`
	YAML  string       `json:"yaml"`
	// Conflicts says what else stands in the way: origins or rules that name what
	// would be gone.
	Conflicts []string `json:"conflicts"`
	// Breaks are requests that are in use and would not be answered any more, the first
	// hundred of them.
	Breaks []Breakage `json:"breaks"`
	// Warnings tell of what goes on, and may not be meant.
	Warnings []string `json:"warnings"`
}

// Breakage is a request that a model does not answer, though the present one does.
type Breakage struct {
	// What it is: a trusted document, a saved read, or what readers ask for at present.
	What    string `json:"what"`
	Request string `json:"request"`
	Reason  string `json:"reason"`
}

const (
	// mostBreaks bounds what a plan lists of them, mostTried how many requests that are held
	// are compiled for it.
	mostBreaks = 100
	mostTried  = 500
)

// breaks compiles what is in use against a model: trusted documents, saved reads, and the
// requests whose answers are held, the most popular first.
func (g *Gateway) breaks(ctx context.Context, m *model.Model) ([]Breakage, error) {
	out := []Breakage{}
	schema, err := graphql.New(m, g.limits)
	if err != nil {
		return nil, err
	}
	try := func(what, text, shown string) {
		if len(out) == mostBreaks || g.replan == nil {
			return
		}
		compile, err := g.replan(text)
		if err != nil {
			return // it is none for the present model either
		}
		if _, err := compile(g.Model(), g.Schema()); err != nil {
			return
		}
		if _, err := compile(m, schema); err != nil {
			out = append(out, Breakage{What: what, Request: shown, Reason: err.Error()})
		}
	}
	check := func(what, text, shown string) {
		if errs := schema.Check(text); len(errs) > 0 && len(g.Schema().Check(text)) == 0 && len(out) < mostBreaks {
			out = append(out, Breakage{What: what, Request: shown, Reason: errs.Error()})
		}
	}
	documents, err := g.store.TrustedDocuments(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range documents {
		check("trusted document "+d.Name, d.Text, d.ID)
	}
	saved, err := g.store.SavedReads(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range saved {
		var q struct{ Request, Query, Edition string }
		if json.Unmarshal(r.Read, &q) != nil {
			continue
		}
		switch edition := cmp.Or(q.Edition, content.Published); {
		case q.Request != "":
			try("saved read "+r.Name, "/content/"+g.Environment()+"/"+edition+q.Request, q.Request)
		case q.Query != "":
			check("saved read "+r.Name, q.Query, q.Query)
		}
	}
	for _, r := range g.cache.First(mostTried, func(a, b *cache.Response) int { return cmp.Compare(b.Hits(), a.Hits()) }, func(r *cache.Response) bool { return r.Asked != "" && r.Status < 400 }) {
		try("asked for "+counted(int(r.Hits())+1, "time", "times"), r.Asked, asked(r.Asked))
	}
	return out, nil
}

// PlanModel works out what applying the model would do.
func (g *Gateway) PlanModel(ctx context.Context, m *model.Model) (ModelPlan, error) {
	present, version, err := g.store.Model(ctx)
	if err != nil {
		return ModelPlan{}, err
	}
	plan := ModelPlan{Version: version, Consequences: []Consequence{}, Conflicts: []string{}, Model: m, YAML: string(m.YAML())}
	found, err := g.store.Consequences(ctx, present, m)
	if err != nil {
		return plan, err
	}
	keys, err := g.store.Keys(ctx)
	if err != nil {
		return plan, err
	}
	for _, c := range found {
		one := Consequence{Consequence: c, Readers: []string{}}
		if c.Type != "" && (c.What == "removed" || c.What == "renamed") {
			one.Readers = readersOf(keys, c.Type)
		}
		plan.Loses = plan.Loses || c.Severity == model.Loses
		plan.Consequences = append(plan.Consequences, one)
	}
	if err := g.checkConfiguration(m); err != nil {
		plan.Conflicts = append(plan.Conflicts, err.Error())
	}
	plan.Warnings = []string{}
	for _, t := range m.Types {
		if present.Type(t.Name) != nil || t.Was != "" && present.Type(t.Was) != nil {
			continue
		}
		for i := range g.rules {
			if r := &g.rules[i]; len(r.Types) > 0 && !slices.Contains(r.Types, t.Name) {
				plan.Warnings = append(plan.Warnings, fmt.Sprintf("the rule %q names its types, and not the new type %s: publishing one of those does nothing there", r.Name, t.Name))
			}
		}
	}
	plan.Breaks, err = g.breaks(ctx, m)
	return plan, err
}

// readersOf lists the keys that may read entries of a type, by name.
func readersOf(keys []*access.Key, typ string) []string {
	out := []string{}
	for _, k := range keys {
		allowed := slices.ContainsFunc(content.Editions, func(edition string) bool {
			return slices.Contains(access.Rights{Own: k.Grants}.Types(access.Read, edition, []string{typ}), typ)
		})
		if !allowed || k.Revoked != nil || k.Grants.Allows(access.Administer) {
			continue
		}
		name := "key " + k.Name
		if k.Site != "" {
			name = "site " + k.Site
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// ConflictingConfigError is the error of a model that origins or rules do not
// fit.
type ConflictingConfigError struct{ Reason error }

func (e *ConflictingConfigError) Error() string {
	return "the configuration does not fit the model: " + e.Reason.Error()
}

// ApplyModel makes m the model on all nodes, and converts what is stored. When
// it returns, this node reads by it. Its errors are those of store.ApplyModel
// and *ConflictingConfigError.
func (g *Gateway) ApplyModel(ctx context.Context, m *model.Model, by string, o store.ModelOptions) error {
	if err := g.checkConfiguration(m); err != nil {
		return &ConflictingConfigError{err}
	}
	if err := g.store.ApplyModel(ctx, m, content.Cause{Kind: "model", Name: by}, o); err != nil {
		return err
	}
	if err := g.loadModel(ctx); err != nil {
		return err
	}
	return g.catchUp(ctx)
}

// EditLocales changes the model's locales, and nothing else of it.
func (g *Gateway) EditLocales(ctx context.Context, by string, o store.ModelOptions, change func([]model.Locale) ([]model.Locale, error)) error {
	present, version, err := g.store.Model(ctx)
	if err != nil {
		return err
	}
	next := *present
	if next.Locales, err = change(slices.Clone(present.Locales)); err != nil {
		return err
	}
	// Read checks fallbacks and tags.
	m, err := model.Read(map[string][]byte{"locales": next.YAML()})
	if err != nil {
		return err
	}
	o.IfVersion = version
	return g.ApplyModel(ctx, m, by, o)
}
