package shape_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/shape"
)

const line = `
types:
  person:
    fields: {name: {kind: text, required: true}, portrait: {kind: file}, friend: {kind: reference, types: [person]}}
  dispatch:
    path: /dispatches/{slug}
    fields:
      title: {kind: text, required: true}
      slug: {kind: slug, madeFrom: title}
      lead: {kind: prose}
      picture: {kind: file}
      writer: {kind: reference, types: [person]}
      minutes: {kind: integer}
  notice:
    fields: {title: {kind: text, required: true}, text: {kind: prose}, severity: {kind: choice, options: {low: Low, high: High}}}
shapes:
  card:
    of: [person]
    fields: {heading: name, image: "portrait[width=200](url,alt)"}
  teaser:
    help: What lists show
    of: [dispatch, notice]
    fields:
      heading: title
      summary: {dispatch: lead(plain), notice: "text(plain)"}
      image: {dispatch: "picture[width=600,height=400,fit=cover](url,alt)"}
      link: about(path)
      by: {dispatch: writer(shape=card)}
      level: {notice: severity, dispatch: minutes}
`

func read(t *testing.T, text string) *model.Model {
	t.Helper()
	m, err := model.Read(map[string][]byte{"m.yaml": []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestShapesCompile(t *testing.T) {
	m := read(t, line)
	again := read(t, string(m.YAML()))
	if string(again.YAML()) != string(m.YAML()) || len(again.Shapes) != 2 {
		t.Fatalf("written and read again:\n%s", m.YAML())
	}
	if wrong := shape.Check(m); wrong != nil {
		t.Fatal(wrong)
	}
	s := shape.Selecting(query.Selecting{Model: m, Locale: "en"})
	both, err := s.Shape("teaser", []*model.Type{m.Type("dispatch"), m.Type("notice")})
	if err != nil {
		t.Fatal(err)
	}
	src, _ := json.Marshal(both)
	for _, want := range []string{
		`{"as":"heading","kind":"value","field":"title","on":["dispatch","notice"],"text":true}`,
		`"as":"summary","kind":"parts","field":"lead","on":["dispatch"]`, `"flat":true`,
		`{"as":"image","kind":"null","on":["notice"]}`,
		`"as":"link","kind":"about","on":["dispatch","notice"]`,
		`"as":"by","kind":"link","field":"writer","on":["dispatch"]`, `"as":"heading","kind":"value","field":"name"`,
	} {
		if !strings.Contains(string(src), want) {
			t.Errorf("lacks %s:\n%s", want, src)
		}
	}
	// The rest depends on nothing that another type shows.
	notices, err := s.Shape("teaser", []*model.Type{m.Type("notice")})
	if src, _ := json.Marshal(notices); err != nil || strings.Contains(string(src), "lead") ||
		strings.Contains(string(src), "writer") {
		t.Errorf("of notices alone: %s, %v", src, err)
	}
	if _, err := s.Shape("teaser", []*model.Type{m.Type("person")}); err == nil ||
		!strings.Contains(err.Error(), "the shape teaser is not of person; it is of dispatch, notice") {
		t.Errorf("%v", err)
	}
}

func TestCheckNamesWhatIsWrongWithAShape(t *testing.T) {
	for from, c := range map[string][2]string{
		"heading: title":        {"heading: titel", `shape teaser, heading: of dispatch: fields: there is no field "titel"`},
		"link: about(path)":     {"link: \"about(path),title\"", "asks for 2 things"},
		"writer(shape=card)":    {"writer(shape=crad)", `there is no shape "crad"; did you mean "card"?`},
		"writer(shape=card)}\n": {"minutes(shape=card)}\n", "minutes leads to no entries"},
		"heading: name,":        {"heading: friend(shape=card),", "leads to itself again and again"},
		`"text(plain)"`:         {`"text(plian)"`, "plian"},
	} {
		text := strings.Replace(line, from, c[0], 1)
		if text == line {
			t.Fatalf("nothing replaced: %s", from)
		}
		if wrong := strings.Join(shape.Check(read(t, text)), "; "); !strings.Contains(wrong, c[1]) {
			t.Errorf("%s: %q, want %q", c[0], wrong, c[1])
		}
	}
	for from, c := range map[string][2]string{
		"of: [person]":   {"of: [persona]", `there is no type "persona"`},
		"link: about":    {"about: about", "the name about is taken"},
		"dispatch: lead": {"person: lead", `the shape is not of the type "person"`},
		"of: [dispatch":  {"off: [dispatch", "off"},
	} {
		_, err := model.Read(map[string][]byte{"m.yaml": []byte(strings.Replace(line, from, c[0], 1))})
		if err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v, want %q", c[0], err, c[1])
		}
	}
}

func TestFormOfAShape(t *testing.T) {
	m := read(t, line)
	f, err := shape.FormOf(m, "teaser", true)
	if err != nil {
		t.Fatal(err)
	}
	src, _ := json.Marshal(f.JSONSchema()["properties"])
	for _, want := range []string{
		`"heading":{"type":"string"}`,
		`"summary":{"anyOf":[{"type":"string"},{"type":"null"}]}`,
		`"image":{"anyOf":[{"properties":{"alt":`, `"level":{}`,
	} {
		if !strings.Contains(string(src), want) {
			t.Errorf("lacks %s:\n%s", want, src)
		}
	}
}

func TestModelsDifferInShapes(t *testing.T) {
	from := read(t, line)
	to := read(t, strings.NewReplacer("      link: about(path)\n", "", "  card:", "  person-card:").Replace(line))
	text := ""
	for _, d := range model.Compare(from, to) {
		text += d.Where + " " + d.What + " " + string(d.Severity) + " " + d.Text + "\n"
	}
	for _, want := range []string{
		"shape card removed breaks reads", "shape teaser changed breaks reads the member link goes",
		"shape person-card added safe",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("lacks %q:\n%s", want, text)
		}
	}
}

func TestShapesWithinShapesAreBounded(t *testing.T) {
	var shapes strings.Builder
	for i := range 8 {
		fmt.Fprintf(&shapes, "  wide-%d:\n    of: [person]\n    fields:\n", i)
		for j := range 20 {
			selection := "name"
			if i < 7 {
				selection = fmt.Sprintf("friend(shape=wide-%d)", i+1)
			}
			fmt.Fprintf(&shapes, "      m%d: %s\n", j, selection)
		}
	}
	wrong := shape.Check(read(t, line+shapes.String()))
	if len(wrong) == 0 || !strings.Contains(wrong[0], "one of too many within one another") {
		t.Errorf("%d problems: %.200v", len(wrong), wrong)
	}
}
