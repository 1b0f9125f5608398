package contentapi

import (
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

// choose compiles what of the entries is asked for: fields, a shape, or everything; given tells whether
// that was said.
func choose(
	root *query.Root, selecting query.Selecting, types []*model.Type, p map[string]string,
) (given bool, err error) {
	fields, byFields := p["fields"]
	name, byShape := p["shape"]
	switch {
	case byFields && byShape:
		err = &query.Error{
			Parameter: "shape", Detail: "a shape says which fields there are", Hint: "take out fields, or shape",
		}
	case byFields:
		root.Selection, err = selecting.Fields(types, fields)
	case byShape:
		if root.Selection, err = selecting.Shape(name, types); err != nil {
			err = &query.Error{Parameter: "shape", Detail: err.Error()}
		}
	default:
		root.Selection = selecting.All(types)
	}
	return byFields || byShape, err
}
