package pages

import (
	"bytes"
	"encoding/json"
)

// MostListed bounds the pages that a build is asked for one by one.
const MostListed = 1000

// Asked are the pages that a build is to render; nil or Every means all of them.
type Asked []string

// Every stands for all pages of a site.
const Every = "*"

// All is the Asked that asks for all pages.
func All() Asked { return Asked{Every} }

// IsAll tells whether all pages are asked for.
func (a Asked) IsAll() bool { return len(a) == 0 || len(a) == 1 && a[0] == Every }

// Order is what a builder is told: a list of paths, or the word "all".
type Order Asked

var allWord = []byte(`"all"`)

// MarshalJSON implements json.Marshaler.
func (o Order) MarshalJSON() ([]byte, error) {
	if Asked(o).IsAll() {
		return allWord, nil
	}
	return json.Marshal([]string(o))
}

// UnmarshalJSON implements json.Unmarshaler.
func (o *Order) UnmarshalJSON(src []byte) error {
	if bytes.Equal(src, allWord) {
		*o = Order(All())
		return nil
	}
	return json.Unmarshal(src, (*[]string)(o))
}

// MarshalJSON implements json.Marshaler: it is never null.
func (a Asked) MarshalJSON() ([]byte, error) {
	if a == nil {
		return []byte("[]"), nil
	}
	return json.Marshal([]string(a))
}
