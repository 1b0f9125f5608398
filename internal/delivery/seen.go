package delivery

import (
	"strings"
	"sync"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
	"ubiquon/internal/graphql"
)

// ModelView is the model as a reader may know it, with its GraphQL side.
type ModelView struct {
	Model  *model.Model
	Schema *graphql.Schema
}

// modelViews holds what readers with fewer rights see of a model, by the types that they
// may read. It is safe for concurrent use.
type modelViews struct {
	mu   sync.Mutex
	held map[string]ModelView
}

// maxModelViews bounds how many views of a model are held.
const maxModelViews = 32

// ModelFor returns the present model as far as a reader with these rights may read it in
// the edition, in whatever locale.
func (d *Service) ModelFor(rights access.Rights, edition string) (ModelView, error) {
	st := d.compiled.Load()
	all := st.model.TypeNames()
	types := rights.Types(access.Read, edition, all)
	if len(types) == len(all) {
		return ModelView{st.model, st.schema}, nil
	}
	key := strings.Join(types, " ")
	st.seen.mu.Lock()
	defer st.seen.mu.Unlock()
	if held, ok := st.seen.held[key]; ok {
		return held, nil
	}
	m, err := st.model.Restrict(types)
	if err != nil {
		return ModelView{}, err
	}
	m.Shapes = shape.Readable(m)
	schema, err := graphql.New(m, d.limits, d.Files)
	if err != nil {
		return ModelView{}, err
	}
	if len(st.seen.held) >= maxModelViews || st.seen.held == nil {
		st.seen.held = map[string]ModelView{}
	}
	st.seen.held[key] = ModelView{m, schema}
	return ModelView{m, schema}, nil
}
