package query_test

import (
	"fmt"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// The canonical form of a selection does not depend on how it was spelled, and errors name the
// nearest field.
func ExampleSelecting() {
	m, err := model.Read(map[string][]byte{"model.yaml": []byte(`
locales: {en: {}}
types:
  pier: {fields: {name: {kind: text}, slug: {kind: slug}}}
  route: {fields: {name: {kind: text}, piers: {kind: reference, types: [pier], several: true}}}
`)})
	if err != nil {
		fmt.Println(err)
		return
	}
	s := query.Selecting{Model: m}
	selection, err := s.Fields([]*model.Type{m.Type("route")}, "name,piers(name)")
	fmt.Println(len(selection.Picks), err)
	_, err = s.Fields([]*model.Type{m.Type("route")}, "nmae")
	fmt.Println(err)
	// Output:
	// 3 <nil>
	// fields: there is no field "nmae" in route; did you mean "name"?
}
