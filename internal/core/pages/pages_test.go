package pages_test

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	"ubiquon/internal/core/pages"
)

func TestParseMark(t *testing.T) {
	for header, want := range map[string]pages.Mark{
		`"/dispatches/fog-week"; build="42"`: {Page: "/dispatches/fog-week", Run: "42"},
		`"/";build=42`:                       {Page: "/", Run: "42"},
		`""; build="42"`:                     {Run: "42"},
		`"/piers/\"x\""; render="r-1"`:       {Page: `/piers/"x"`, Run: "r-1", Render: true},
	} {
		if got, err := pages.ParseMark([]string{header}); err != nil || got != want {
			t.Errorf("%s: %+v, %v", header, got, err)
		}
	}
	for header, want := range map[string]string{
		``:                            "no structured field",
		`/x; build="1"`:               "no structured field",
		`42; build="1"`:               "no string",
		`"/x"`:                        "either the parameter build",
		`"/x"; build="1"; render="2"`: "either the parameter build",
		`"/x"; build=""`:              "1 to 64 bytes",
		`"x"; build="1"`:              "begin with a slash",
		`""; render="1"`:              "name its path",
		`"/` + strings.Repeat("x", 1100) + `"; build="1"`: "1101 bytes",
		`"/x"; build="` + strings.Repeat("1", 65) + `"`:   "1 to 64 bytes",
	} {
		if _, err := pages.ParseMark([]string{header}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", header, err)
		}
	}
}

// TestPlainMarksAreStructuredFields reads marks with what may be wrong with them twice: a space before makes
// them be read as a structured field.
func TestPlainMarksAreStructuredFields(t *testing.T) {
	r := rand.New(rand.NewPCG(8400, 9651))
	pieces := []string{`"`, `/x`, `; `, `;`, `build=`, `render=`, `"42"`, `42`, `\"`, `\`, `é`, "\x7f", ` `, `?1`, ``}
	good := 0
	for range 20_000 {
		v := `"/x"; build="42"`
		for range r.IntN(3) {
			at := r.IntN(len(v) + 1)
			to := min(len(v), at+r.IntN(3))
			v = v[:at] + pieces[r.IntN(len(pieces))] + v[to:]
		}
		a, errA := pages.ParseMark([]string{v})
		b, errB := pages.ParseMark([]string{" " + v})
		if (errA == nil) != (errB == nil) || errA == nil && a != b {
			t.Fatalf("%q is %+v (%v), and as a structured field %+v (%v)", v, a, errA, b, errB)
		}
		if errA == nil {
			good++
		}
	}
	if good < 5000 {
		t.Errorf("only %d were marks", good)
	}
}

func TestParseLine(t *testing.T) {
	l, err := pages.ParseLine([]byte(`{"page": "/x", "reads": ["/dispatches?limit=5"], "entries": ["abc"]}`))
	if err != nil || l.Page != "/x" || len(l.Reads) != 1 || len(l.Entries) != 1 {
		t.Errorf("%+v %v", l, err)
	}
	for src, want := range map[string]string{
		`nothing`:                        "no JSON object",
		`{"page": "x"}`:                  "begin with a slash",
		`{"page": "/x", "reads": ["d"]}`: `the read "d"`,
	} {
		if _, err := pages.ParseLine([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", src, err)
		}
	}
}

func TestOrder(t *testing.T) {
	for src, all := range map[string]bool{`"all"`: true, `["/x"]`: false, `["*"]`: true} {
		var o pages.Order
		if err := json.Unmarshal([]byte(src), &o); err != nil || pages.Asked(o).IsAll() != all {
			t.Errorf("%s: %v %v", src, o, err)
		}
		out, err := json.Marshal(o)
		if want := map[bool]string{true: `"all"`, false: src}[all]; err != nil || string(out) != want {
			t.Errorf("%s: %s %v", src, out, err)
		}
	}
}
