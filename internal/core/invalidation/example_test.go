package invalidation_test

import (
	"fmt"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// A response that shows the name of the pier Mella is affected by a change of that name, and
// not by one of its berths.
func ExampleIndex() {
	index := invalidation.NewIndex[string]()
	index.Add("the page of Mella", &invalidation.Set{
		Edition: content.Published,
		Entries: []invalidation.Entry{{ID: "mella", Locale: "en", Fields: []string{"name"}}},
	})
	for _, field := range []string{"name", "berths"} {
		fields := content.Fields{"slug": "mella"}
		delta := invalidation.Delta{Change: content.Change{
			Kind: content.ContentChange, Edition: content.Published, Entry: "mella", Type: "pier",
			Fields: map[string][]string{"en": {field}},
			Before: map[string]content.Fields{"en": fields}, After: map[string]content.Fields{"en": fields},
		}}
		affected, _ := index.Match(&delta)
		fmt.Println(field, affected)
	}
	// Output:
	// name [the page of Mella]
	// berths []
}
