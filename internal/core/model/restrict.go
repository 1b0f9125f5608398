package model

import (
	"encoding/json"
	"slices"
)

// Restrict returns the model as those see it who may read entries of these types alone:
// references lead to no others, and those that would lead nowhere are left out.
func (m *Model) Restrict(types []string) (*Model, error) {
	src, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	var out Model
	if err := json.Unmarshal(src, &out); err != nil {
		return nil, err
	}
	out.Types = slices.DeleteFunc(out.Types, func(t *Type) bool { return !slices.Contains(types, t.Name) })
	for _, t := range out.Types {
		t.restrict(types)
		t.Submissions = nil
	}
	if src, err = json.Marshal(&out); err != nil {
		return nil, err
	}
	seen, err := FromJSON(src)
	if err != nil || slices.Contains(types, FileType) {
		return seen, err
	}
	seen.Types = seen.OwnTypes()
	return seen, seen.reindex()
}

func (t *Type) restrict(types []string) {
	t.Fields = slices.DeleteFunc(t.Fields, func(f *Field) bool {
		for _, inner := range f.Inner {
			inner.restrict(types)
		}
		if f.Kind != Reference {
			return false
		}
		f.Types = slices.DeleteFunc(f.Types, func(name string) bool { return !slices.Contains(types, name) })
		return len(f.Types) == 0
	})
}
