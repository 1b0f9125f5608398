package demo_test

import (
	"image/jpeg"
	"net/http/httptest"
	"strings"
	"testing"

	"ubiquon/internal/core/content"
	"ubiquon/internal/demo"
)

func TestDemoContentIsComplete(t *testing.T) {
	s, err := admin().Status(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for typ, least := range map[string]int{
		"pier": 8, "route": 6, "notice": 12, "dispatch": 10, "person": 3,
		"page": 3, "fare": 3, "harbour-settings": 1,
	} {
		if s.Entries[typ] < least {
			t.Errorf("%d of type %s, want at least %d", s.Entries[typ], typ, least)
		}
	}
	// Whatever refers to something refers to something that is there.
	m, err := demo.Model()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, typ := range m.Types {
		for _, f := range typ.Fields {
			if len(f.Types) == 0 {
				continue
			}
			where := "/" + typ.Plural + "?limit=200&fields=" + f.Name + "(id)"
			a := get(t, reader(), where)
			if a.Status != 200 {
				t.Fatalf("%s: %d %s", where, a.Status, a.Body)
			}
			seen += strings.Count(string(a.Body), `"`+f.Name+`":[{`) + strings.Count(string(a.Body), `"`+f.Name+`":{`)
		}
	}
	if seen < 30 {
		t.Errorf("only %d entries refer to others", seen)
	}
	if a := get(t, reader(), "/routes/outer-ring?fields=piers(slug)"); !strings.Contains(
		string(a.Body), `"kvalholm"`,
	) ||
		strings.Count(string(a.Body), `"slug"`) != 5 {
		t.Errorf("the ring's piers, in order, its first one also last: %s", a.Body)
	}
	if a := get(t, reader(), "/notices?limit=200&fields=title"); strings.Contains(string(a.Body), "easter") {
		t.Error("the draft is published")
	}
	if _, err := admin().Entries().Get(t.Context(), content.MakeID(content.Local, "notice", "n13")); err != nil {
		t.Errorf("the draft: %v", err)
	}
}

func TestPicturesArePaintings(t *testing.T) {
	draw := func(name string) (int, string) {
		// The handler is mounted below a prefix that is taken off.
		req := httptest.NewRequest("GET", "/", nil)
		req.URL.Path = name
		w := httptest.NewRecorder()
		demo.Pictures().ServeHTTP(w, req)
		return w.Code, w.Body.String()
	}
	code, one := draw("kvalholm.jpg")
	_, again := draw("kvalholm.jpg")
	_, other := draw("mella.jpg")
	for _, bad := range []string{"", ".jpg", "kvalholm.png", "../x.jpg", "<b>.jpg"} {
		if code, _ := draw(bad); code != 404 {
			t.Errorf("%q: %d", bad, code)
		}
	}
	if code != 200 {
		t.Errorf("a picture: %d", code)
	}
	if one != again || one == other {
		t.Error("a name does not stand for one picture")
	}
	if img, err := jpeg.Decode(strings.NewReader(one)); err != nil || img.Bounds().Dx() != 1200 {
		t.Errorf("no picture: %v", err)
	}
}
