package delivery

import (
	"ubiquon/internal/core/model"
	"ubiquon/internal/graphql"
)

// compiledModel is a model with everything that is made from it to answer requests; it is
// replaced as a whole.
type compiledModel struct {
	model   *model.Model
	version int64
	schema  *graphql.Schema
	plans   *planCache
	seen    modelViews
}

// TakeModel makes a model the one that requests are compiled against.
func (d *Service) TakeModel(m *model.Model, version int64) error {
	schema, err := graphql.New(m, d.limits, d.Files)
	if err != nil {
		return err
	}
	d.compiled.Store(
		&compiledModel{model: m, version: version, schema: schema, plans: newPlanCache(int64(d.limits.Plans))},
	)
	return nil
}
