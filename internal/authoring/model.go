package authoring

import (
	"context"
	"errors"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
	"ubiquon/internal/store/writing"
)

// ModelChecks are what others say of a model before it is applied.
type ModelChecks struct {
	// Fits returns why origins, sites and rules do not fit the model; nil if they do.
	Fits func(*model.Model) error
	// NewType warns of what does not know of a type that the model adds.
	NewType func(name string) []string
	// Breaks lists requests in use that the model would not answer.
	Breaks func(context.Context, *model.Model) ([]api.Breakage, error)
}

// PlanModel works out what applying the model would do.
func (a *Service) PlanModel(ctx context.Context, m *model.Model) (api.ModelPlan, error) {
	present, version, err := a.store.Changes.Model(ctx)
	if err != nil {
		return api.ModelPlan{}, err
	}
	plan := api.ModelPlan{
		Version:      version,
		Consequences: []api.PlannedConsequence{},
		Conflicts:    []string{},
		Model:        m,
		YAML:         string(m.YAML()),
	}
	found, err := a.store.Writer.Consequences(ctx, present, m)
	if err != nil {
		return plan, err
	}
	keys, err := a.store.Keys.Keys(ctx)
	if err != nil {
		return plan, err
	}
	for _, c := range found {
		one := api.PlannedConsequence{Consequence: c, Readers: []string{}}
		if c.Type != "" && (c.What == "removed" || c.What == "renamed") {
			one.Readers = readersOf(keys, c.Type)
		}
		plan.Loses = plan.Loses || c.Severity == model.Loses
		plan.Consequences = append(plan.Consequences, one)
	}
	if err := a.fits(m); err != nil {
		plan.Conflicts = append(plan.Conflicts, err.Error())
	}
	plan.Warnings = []string{}
	for _, t := range m.Types {
		if present.Type(t.Name) != nil || t.Was != "" && present.Type(t.Was) != nil {
			continue
		}
		plan.Warnings = append(plan.Warnings, a.checks.NewType(t.Name)...)
	}
	plan.Breaks, err = a.checks.Breaks(ctx, m)
	return plan, err
}

// readersOf lists the keys that may read entries of a type, by name.
func readersOf(keys []*access.Key, typ string) []string {
	out := []string{}
	for _, k := range keys {
		allowed := slices.ContainsFunc(content.Editions, func(edition string) bool {
			return access.Rights{Own: k.Grants}.Some(access.Read, edition, typ)
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

// Error implements error.
func (e *ConflictingConfigError) Error() string {
	return "the configuration does not fit the model: " + e.Reason.Error()
}

// fits returns why a model cannot be: shapes that ask for what it does not have, or what is configured
// beside it.
func (a *Service) fits(m *model.Model) error {
	if wrong := shape.Check(m); len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "\n"))
	}
	return a.checks.Fits(m)
}

// ApplyModel makes m the model on all nodes, and converts what is stored. When
// it returns, this node reads by it. Its errors are those of writing.Writer.ApplyModel
// and *ConflictingConfigError.
func (a *Service) ApplyModel(ctx context.Context, m *model.Model, by string, o writing.ModelOptions) error {
	if err := a.fits(m); err != nil {
		return &ConflictingConfigError{err}
	}
	if err := a.store.Writer.ApplyModel(ctx, m, content.Cause{Kind: "model", Name: by}, o); err != nil {
		return err
	}
	if err := a.replica.ReloadModel(ctx); err != nil {
		return err
	}
	return a.replica.CatchUp(ctx)
}

// EditLocales changes the model's locales, and nothing else of it.
func (a *Service) EditLocales(
	ctx context.Context, by string, o writing.ModelOptions, change func([]model.Locale) ([]model.Locale, error),
) error {
	present, version, err := a.store.Changes.Model(ctx)
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
	return a.ApplyModel(ctx, m, by, o)
}
