package strictyaml

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/testkit/cost"
)

type harbour struct {
	Name   string            `yaml:"name"`
	Depth  int               `yaml:"depth"`
	Wait   Duration          `yaml:"wait"`
	Berths []berth           `yaml:"berths"`
	Boats  Ordered[boat]     `yaml:"boats"`
	Notes  map[string]string `yaml:"notes"`
	Crane  *struct {
		Lift int `yaml:"lift"`
	} `yaml:"crane"`
}

type berth struct {
	Side string `yaml:"side"`
}

type boat struct {
	Crew int `yaml:"crew"`
}

func TestDecodeKeepsOrderAndReadsSpans(t *testing.T) {
	var h harbour
	err := Decode(
		"h.yaml",
		[]byte(
			"name: Østra\nwait: 1d\nboats:\n  zeta: {crew: 3}\n  alpha:\n  mid: {crew: 1}\nberths: [{side: north}]\n",
		),
		&h,
	)
	if err != nil {
		t.Fatal(err)
	}
	if h.Name != "Østra" || time.Duration(h.Wait) != 24*time.Hour || h.Berths[0].Side != "north" {
		t.Errorf("read %+v", h)
	}
	if len(h.Boats) != 3 || h.Boats[0].Name != "zeta" || h.Boats[1].Name != "alpha" || h.Boats[2].Value.Crew != 1 ||
		h.Boats[2].Line != 6 {
		t.Errorf("boats %+v", h.Boats)
	}
}

func TestDecodeReportsEveryErrorWithPosition(t *testing.T) {
	for name, c := range map[string]struct {
		src  string
		want []string
	}{
		"unknown keys": {
			"nam: a\ncrane: {lfit: 3}\n",
			[]string{
				`h.yaml:1:1: unknown key "nam"; did you mean "name"?`,
				`h.yaml:2:9: unknown key "lfit" in crane; did you mean "lift"?`,
			},
		},
		"inside ordered": {
			"boats:\n  a: {crw: 1}\n",
			[]string{`h.yaml:2:7: unknown key "crw" in boats.a; did you mean "crew"?`},
		},
		"inside a list": {
			"berths:\n  - {sid: n}\n",
			[]string{`unknown key "sid" in berths[0]; did you mean "side"?`},
		},
		"key twice":        {"name: a\nname: b\n", []string{"name"}},
		"wrong kind":       {"depth: deep\n", []string{"h.yaml:1:8"}},
		"list wanted":      {"berths: north\n", []string{"berths wants a list"}},
		"mapping wanted":   {"boats: [a]\n", []string{"boats wants a mapping"}},
		"span":             {"wait: soon\n", []string{"90s, 5m, 2h or 1d"}},
		"not YAML":         {"name: [a\n", []string{"h.yaml:"}},
		"far from any key": {"quicksilver: 1\n", []string{"known are berths, boats, crane, depth, name, notes, wait"}},
	} {
		var h harbour
		err := Decode("h.yaml", []byte(c.src), &h)
		if err == nil {
			t.Errorf("%s: accepted", name)
			continue
		}
		for _, want := range c.want {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %q lacks %q", name, err, want)
			}
		}
	}
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "5m": 5 * time.Minute,
		"1d": 24 * time.Hour, "0s": 0, "0d": 0, "1h30m": 90 * time.Minute, "36500d": 36500 * 24 * time.Hour,
		"250ms": 250 * time.Millisecond,
	} {
		var d Duration
		if err := d.UnmarshalText([]byte(text)); err != nil || time.Duration(d) != want {
			t.Errorf("%s is read as %v, %v", text, time.Duration(d), err)
		}
		var again Duration
		if back, err := d.MarshalText(); err != nil || again.UnmarshalText(back) != nil || again != d {
			t.Errorf("%s is written as %s, %v", text, back, err)
		}
	}
	for _, text := range []string{
		"", "5", "-1s", "-1d", "d", "1.5d", "1 d", "two days", "999999d",
		"99999999999999999999d", "999999999h",
	} {
		var d Duration
		if err := d.UnmarshalText([]byte(text)); err == nil ||
			!strings.Contains(err.Error(), "write it as in 90s, 5m, 2h or 1d") {
			t.Errorf("%q is read as %v, %v", text, time.Duration(d), err)
		}
	}
	if Duration(0).Or(time.Second) != time.Second || Duration(time.Minute).Or(time.Second) != time.Minute {
		t.Error("another span instead of none")
	}
}

// TestOversizedYAMLIsRefused decodes small files that stand for huge ones.
func TestOversizedYAMLIsRefused(t *testing.T) {
	laughs := "a: &a [x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c < 'j'; c++ {
		laughs += fmt.Sprintf("%c: &%[1]c [*%[2]c, *%[2]c, *%[2]c, *%[2]c, *%[2]c, *%[2]c, *%[2]c, *%[2]c]\n", c, c-1)
	}
	for name, src := range map[string]string{
		"aliases": laughs, "an alias alone": "a: *b",
		"a merge key": "a: {<<: *b}", "brackets": strings.Repeat("[", 100_000),
		"braces": strings.Repeat("{a: ", 100_000),
		"dashes": strings.Repeat("- ", 100_000), "indents": func() (s string) {
			for i := range 2000 {
				s += strings.Repeat(" ", i) + "a:\n"
			}
			return s
		}(), "much": strings.Repeat("a", MaxBytes+1),
	} {
		t.Run(name, func(t *testing.T) {
			begin := time.Now()
			var into map[string]any
			if err := Decode("model.yaml", []byte(src), &into); err == nil || time.Since(begin) > 5*time.Second {
				t.Errorf("after %v: %v", time.Since(begin), err)
			}
		})
	}
	var into map[string]any
	if err := Decode("model.yaml",
		[]byte("a: {pattern: '[[[', help: \"it's {\", list: [{b: [c]}, {b: [c]}]}\n"+
			strings.Repeat("b: [{c: d}]\n", 1)), &into); err != nil {
		t.Errorf("an ordinary file: %v", err)
	}
}

// FuzzDecode reads what somebody sends as a file.
func FuzzDecode(f *testing.F) {
	f.Add([]byte("name: Mella\ndepth: 4\nberths: [{length: 12}]\n"))
	f.Add([]byte("a: &a [*a]\n<<: {b: !!binary x}\n? [c]\n: |\n  d\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		cost.Bound(t, func() {
			var loose map[string]any
			_ = Decode("model.yaml", src, &loose)
		})
	})
}
