package invalidation

import (
	"slices"
	"testing"
)

// TestLongIDsAreTakenWhole has two entries whose ids begin with the same 16 bytes: a
// change of one affects who read it, and nobody else; what has left leaves nothing.
func TestLongIDsAreTakenWhole(t *testing.T) {
	const mella, sula = "0123456789abcdef-mella", "0123456789abcdef-sula"
	x := NewIndex[string]()
	read := func(id string) *Set {
		return &Set{Edition: "published", Entries: []Entry{{ID: id, Locale: "en", Fields: []string{"title"}}}}
	}
	handles := map[string]Handle{mella: x.Add(mella, read(mella)), sula: x.Add(sula, read(sula))}
	again := x.Add("again", read(mella))
	for _, c := range []struct {
		id   string
		want []string
	}{
		{mella, []string{mella, "again"}},
		{sula, []string{sula}},
		{"0123456789abcdef", nil},
		{"0123456789abcdef-kari", nil},
	} {
		if got, _ := x.Match(changed(c.id, "pier", []string{"title"}, "a", "b")); !slices.Equal(got, c.want) {
			t.Errorf("a change of %s affects %v, not %v", c.id, got, c.want)
		}
	}
	if got := x.Set(handles[sula]).Entries; len(got) != 1 || got[0].ID != sula {
		t.Errorf("it is held as %+v", got)
	}
	x.Remove(handles[mella])
	x.Remove(again)
	if got, _ := x.Match(changed(mella, "pier", []string{"title"}, "a", "b")); got != nil {
		t.Errorf("those that have left are found: %v", got)
	}
	x.Remove(handles[sula])
	if len(x.long.number) != 0 {
		t.Errorf("ids are left: %v", x.long.number)
	}
}

// TestASetIsAddedElsewhere adds what one index knows of a subscriber to another one: it is taken
// up as if it were new, and goes without leaving anything behind.
func TestASetIsAddedElsewhere(t *testing.T) {
	list := List{Locale: "en", Type: "notice", Window: Window{Limit: 2, Rows: []SortKey{"a", "c"}, Ends: true}}
	x, y := NewIndex[int](), NewIndex[int]()
	h := x.Add(1, &Set{Edition: "published", Lists: []List{list}})
	w := x.windows.at(1)
	w.followed = true // as after a change that it went along with
	x.hide(w.hash, w.id)
	set := x.Set(h)
	w.Rows[0] = "b"
	if got := set.Lists[0].Window.Rows[0]; got != "a" {
		t.Errorf("the set changes with the index: %q", got)
	}
	for range 3 {
		y.Remove(y.Add(2, set))
	}
	if y.Len() != 0 || y.groups.len() != 0 || y.windows.len() != 0 || y.found.entered != 0 {
		t.Errorf("%d subscribers, %d groups, %d windows, %d entered", y.Len(), y.groups.len(), y.windows.len(),
			y.found.entered)
	}
}
