package gateway

import (
	"strings"
	"sync"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/graphql"
)

// Seen is the model as a reader may know it, with its GraphQL side.
type Seen struct {
	Model  *model.Model
	Schema *graphql.Schema
}

// seenModels holds what readers with fewer rights see of a model, by the types that they
// may read. It is safe for concurrent use.
type seenModels struct {
	mu   sync.Mutex
	held map[string]Seen
}

// seenHeld bounds how many views of a model are held.
const seenHeld = 32

// SeenBy returns the present model as far as a reader with these rights may read it in
// the edition, in whatever locale.
func (g *Gateway) SeenBy(rights access.Rights, edition string) (Seen, error) {
	st := g.state.Load()
	all := st.model.TypeNames()
	types := rights.Types(access.Read, edition, all)
	if len(types) == len(all) {
		return Seen{st.model, st.schema}, nil
	}
	key := strings.Join(types, " ")
	st.seen.mu.Lock()
	defer st.seen.mu.Unlock()
	if held, ok := st.seen.held[key]; ok {
		return held, nil
	}
	m, err := st.model.Restrict(types)
	if err != nil {
		return Seen{}, err
	}
	schema, err := graphql.New(m, g.limits)
	if err != nil {
		return Seen{}, err
	}
	if len(st.seen.held) >= seenHeld || st.seen.held == nil {
		st.seen.held = map[string]Seen{}
	}
	st.seen.held[key] = Seen{m, schema}
	return Seen{m, schema}, nil
}
