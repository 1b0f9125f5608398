package cli

import (
	"encoding/json"
	"testing"
)

// TestTheCacheOnATerminal looks at what is held, at the log, and at what a publish
// would do.
func TestTheCacheOnATerminal(t *testing.T) {
	run(t, "cache", "purge", "--yes")
	run(t, "read", "/fares?fields=name&limit=2")
	run(t, "read", "/fares?fields=name&limit=2")
	_, held, _ := run(t, "cache", "list", "--type", "fare", "-o", "json")
	var list struct{ Items []struct{ Key string } }
	if err := json.Unmarshal([]byte(held), &list); err != nil || len(list.Items) != 1 {
		t.Fatalf("%v %s", err, held)
	}
	_, changes, _ := run(t, "change", "list", "--limit", "1", "-o", "json")
	var log struct{ Items []struct{ Entry string } }
	if err := json.Unmarshal([]byte(changes), &log); err != nil || len(log.Items) != 1 {
		t.Fatalf("%v %s", err, changes)
	}
	_, fares, _ := run(t, "entry", "list", "--type", "fare", "-o", "json")
	var entries struct{ Items []struct{ ID string } }
	if err := json.Unmarshal([]byte(fares), &entries); err != nil || len(entries.Items) == 0 {
		t.Fatalf("%v %s", err, fares)
	}
	runAll(t, []invocation{
		{[]string{"cache", "stats"}, 0, []string{"responses", "thrown away", "node", "leased, this one"}},
		{
			[]string{"cache", "list", "--search", "fares"},
			0,
			[]string{list.Items[0].Key, "/fares?fields=name&limit=2"},
		},
		{[]string{"cache", "list", "--sort", "colour"}, 1, []string{"hits, bytes, age"}},
		{
			[]string{"cache", "explain", list.Items[0].Key},
			0,
			[]string{"the list of fare in en, by -about.firstPublished: 2 shown", "hits"},
		},
		{[]string{"cache", "explain", "nothing"}, exitNotFound, []string{"an answer with the key nothing"}},
		{[]string{"change", "show", "1"}, 0, []string{"model"}},
		{[]string{"change", "show", "0"}, 2, []string{"ubiquon change list"}},
		{[]string{"change", "show", "999999"}, exitNotFound, []string{"999999"}},
		{
			[]string{"change", "simulate", entries.Items[0].ID, "--do", "unpublish"},
			0,
			[]string{"expires", "answers held", "does not fire", "this is a fare"},
		},
		{
			[]string{"change", "simulate", entries.Items[0].ID, "--do", "burn"},
			1,
			[]string{"neither publish nor unpublish"},
		},
		{[]string{"change", "simulate"}, 2, []string{"--change"}},
		{[]string{"cache", "purge"}, 1, []string{"nothing was done"}},
		{[]string{"cache", "purge", list.Items[0].Key}, 0, []string{"1 answer thrown away"}},
		{[]string{"cache", "warm"}, 2, []string{"--hottest"}},
		{
			[]string{"cache", "warm", "/fares?fields=name&limit=2", "/fares?fields=nam"},
			1,
			[]string{"1 answer held now", "name"},
		},
		{[]string{"cache", "purge", "--type", "fare"}, 0, []string{"1 answer thrown away"}},
	})
}
