package filter

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/model"
)

func harbour(t testing.TB) *model.Model {
	t.Helper()
	m, err := model.Read(map[string][]byte{"m.yaml": []byte(`
locales: {en: {}}
types:
  pier:
    fields: {name: {kind: text}, slug: {kind: slug}, number: {kind: text}, stepFree: {kind: boolean}}
  route:
    fields:
      slug: {kind: slug}
      number: {kind: integer}
      piers: {kind: reference, types: [pier], several: true, inverse: routes}
      start: {kind: reference, types: [pier, route], inverse: begins}
  notice:
    fields:
      title: {kind: text, translated: true}
      slug: {kind: slug}
      severity: {kind: choice, options: {delay: D, cancelled: C}}
      topics: {kind: text, several: true}
      routes: {kind: reference, types: [route], several: true, inverse: notices}
      validUntil: {kind: datetime}
      day: {kind: date}
      price: {kind: money}
      text: {kind: prose}
      urgent: {kind: boolean}
      place: {kind: record, fields: {town: {kind: text}, floor: {kind: integer}}}
`)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestCanonicalForm(t *testing.T) {
	m := harbour(t)
	for _, same := range [][]string{
		{"severity = 'delay' AND urgent = TRUE", "urgent = true and severity='delay'", "(TRUE = urgent) AND " +
			"('delay' = severity AND severity = 'delay')"},
		{"price > 100", "100 < price.amount", "price > 1e2", "price > +100.0"},
		{"severity IN ('delay', 'cancelled')", "severity in ('cancelled','delay','delay')"},
		{"title LIKE 'Fog%' OR (day = DATE('2026-11-23') OR topics IS NULL)", "topics IS NULL OR title LIKE " +
			"'Fog%' OR day = DATE('2026-11-23')"},
		{"CASEI(title) = CASEI('FOG')", "CASEI(title) = 'fog'", "CASEI('Fog') = CASEI(title)"},
		{"ACCENTI(CASEI(title)) = 'a'", "CASEI(ACCENTI(title)) = 'Á'"},
		{"validUntil > TIMESTAMP('2026-11-23T08:00:00.500Z')", "validUntil > TIMESTAMP('2026-11-23T08:00:00.500000Z')"},
		{`"title" = 'it''s'`, "title = 'it''s'"},
		{"A_CONTAINS(topics, ('b', 'a'))", "a_contains(topics, ('a','b','a'))"},
		{"title NOT LIKE 'a'", "NOT title LIKE 'a'"},
	} {
		first := ""
		for _, src := range same {
			f, err := Parse(src, m, m.Type("notice"))
			if err != nil {
				t.Errorf("%s: %v", src, err)
				continue
			}
			if again, err := Parse(f.String(), m, m.Type("notice")); err != nil || again.String() != f.String() {
				t.Errorf("%s: its canonical form %s is read as %v, %v", src, f, again, err)
			}
			if first == "" {
				first = f.String()
			}
			if f.String() != first {
				t.Errorf("%s is %s, not %s", src, f, first)
			}
		}
	}
	for _, different := range [][2]string{
		{"title = 'a'", "title = 'b'"},
		{"price > 1", "price >= 1"},
		{"title = 'a' AND urgent = TRUE", "title = 'a' OR urgent = TRUE"},
		{"NOT title = 'a'", "title = 'a'"},
		{"title = 'a'' OR urgent'", "title = 'a' OR urgent = TRUE"},
	} {
		a, errA := Parse(different[0], m, m.Type("notice"))
		b, errB := Parse(different[1], m, m.Type("notice"))
		if errA != nil || errB != nil || a.String() == b.String() {
			t.Errorf("%v: %v %v %v %v", different, a, b, errA, errB)
		}
	}
}

func TestProblemsHaveLocations(t *testing.T) {
	m := harbour(t)
	for src, want := range map[string]struct {
		at   int
		says string
	}{
		"":                                {1, "expected a property or a value, not the end"},
		"titel = 'x'":                     {1, `notice has no property "titel"; did you mean "title"?`},
		"urgent = TRUE AND titel = 'x'":   {19, `did you mean "title"?`},
		"title = 'æøå' AND titel = 'x'":   {19, "titel"}, // characters, not bytes
		"routes.nummer = 3":               {1, `route has no property "nummer"; did you mean "number"?`},
		"routes = 'x'":                    {1, "routes is a list; compare it with A_CONTAINS(routes, ('…'))"},
		"routes.piers = 'x'":              {1, "is a list"},
		"text = 'x'":                      {1, "text cannot be compared; ask whether it IS NULL"},
		"severity = 'late'":               {1, `'late' is none of the choices of severity; known are delay, cancelled`},
		"price = 'x'":                     {1, "write the number without quotes"},
		"day > '2026-11-23'":              {1, "write DATE('2026-11-23')"},
		"validUntil > DATE('2026-11-23')": {1, "they cannot be compared"},
		"urgent":                          {7, "write urgent = TRUE"},
		"urgent > FALSE":                  {1, "neither is greater"},
		"title LIKE title":                {12, "a pattern in quotes"},
		`title LIKE 'a\'`:                 {12, "backslash"},
		"title = 'x":                      {9, "does not end"},
		"title == 'x'":                    {8, "expected a property or a value"},
		"title != 'x'":                    {7, "unequal is written <>"},
		"title ~ 'x'":                     {7, "nothing that a filter is made of"},
		"title = 'x' AND":                 {16, "not the end"},
		"title = 'x' urgent = TRUE":       {13, "expected AND, OR or the end"},
		"(title = 'x'":                    {13, "expected )"},
		"LOWER(title) = 'x'":              {1, "there is no function LOWER"},
		"CASEI(price) = 'x'":              {7, "CASEI is for text"},
		"day = DATE('2026-02-30')":        {12, "is no day"},
		"validUntil = TIMESTAMP('2026-11-23T08:00:00+01:00')": {24, "in UTC"},
		"price = 0.1234567890123456":                          {9, "at most 15 digits"},
		"price = 1e-999999999":                                {9, "at most 15 digits"},
		"price = 1e999999999":                                 {9, "at most 15 digits"},
		"title LIK 'x'":                                       {7, "did you mean LIKE?"},
		"'a' = 'a'":                                           {1, "compares a property"},
		"routes.number = price":                               {1, "neither lies behind a list"},
		"A_CONTAINS(title, ('x'))":                            {12, "a property that is a list"},
		"A_CONTAINS(topics, (1))":                             {11, "topics holds texts, and 1 is a number"},
		"A_EQUALS(('x'), ('x'))":                              {9, "one side of A_EQUALS is a property"},
		"place.twon = 'x'":                                    {1, `place has nothing named "twon"`},
		"price.tax = 1":                                       {1, "price has no parts"},
		"title.x = 1":                                         {1, "title has no parts"},
		"routes.start.number = 1": {1, "number is not the same in every type that " +
			"routes.start may lead to"},
		strings.Repeat("NOT ", 30) + "urgent = TRUE":                {85, "nested more than 20 deep"},
		strings.Repeat("(", 30) + "urgent = TRUE":                   {22, "nested more than 20 deep"},
		strings.Repeat("urgent = TRUE OR ", 101) + "urgent = FALSE": {1701, "more than 100 conditions"},
		strings.Repeat(" ", 5000):                                   {4000, "at most 4000"},
		"title = '\x00'":                                            {1, "NUL"},
		"title = '\xff'":                                            {1, "UTF-8"},
		"AND = 'x'":                                                 {1, `"AND"`},
	} {
		_, err := Parse(src, m, m.Type("notice"))
		var wrong *Error
		if !errors.As(err, &wrong) || wrong.At != want.at || !strings.Contains(err.Error(), want.says) {
			t.Errorf("%.60s: %v", src, err)
		}
	}
}

type fields map[string]any

func (f fields) Value(name string) any { return f[name] }
func (f fields) Enter(s Step) []Document {
	list, _ := f[s.Field].([]any)
	var out []Document
	for _, one := range list {
		out = append(out, fields(one.(map[string]any)))
	}
	return out
}

func TestThreeValuedLogic(t *testing.T) {
	m := harbour(t)
	d := fields{
		"id":         "n1",
		"title":      "Fog",
		"price":      map[string]any{"amount": 100.0, "currency": "NOK"},
		"topics":     []any{"ice", "fog"},
		"validUntil": "2026-11-23T08:00:00Z",
		"place":      map[string]any{"town": "Mella"},
		"routes":     []any{map[string]any{"number": 1.0, "slug": "ring"}, map[string]any{"number": 2.0}},
	}
	now := time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)
	for src, want := range map[string]bool{
		"TRUE": true, "FALSE": false, "NOT FALSE": true,
		"severity = 'delay'": false, "NOT severity = 'delay'": false, "severity = 'delay' OR title = " +
			"'Fog'": true, "severity IS NULL": true, "severity <> 'delay'": false,
		"NOT (severity = 'delay' AND title = 'Ice')": true, "severity NOT IN ('delay')": false,
		"price = 100": true, "price.currency = 'NOK'": true, "price BETWEEN 100 AND 100": true,
		"topics IS NULL": false, "A_CONTAINS(topics, ('ice'))": true, "A_EQUALS(topics, ('fog', " +
			"'ice'))": true, "A_CONTAINEDBY(topics, ('ice'))": false, "A_OVERLAPS(topics, ('x', " +
			"'fog'))": true, "A_CONTAINS(topics, ())": true,
		"validUntil > now()": true, "now() >= validUntil": false, "place.town LIKE " +
			"'M%a'": true, "place.floor IS NULL": true,
		"routes.number = 2": true, "NOT routes.number = 3": true, "routes.number <> 1": true, "routes.slug IS " +
			"NULL": true, "routes.number = 1 AND routes.slug = 'ring'": true,
		"title LIKE 'F_g'": true, "title LIKE 'f%'": false, "CASEI(title) LIKE 'F%'": true, `title LIKE 'F\og'`: true,
	} {
		f, err := Parse(src, m, m.Type("notice"))
		if err != nil || f.Match(d, now) != want {
			t.Errorf("%s: %v, want %v", src, err, want)
		}
	}
	f, _ := Parse("validUntil > now() AND routes.notices.day IS NULL AND price > 3 AND id = 'x'", m, m.Type("notice"))
	if held := f.HeldAgainstNow(); len(held) != 1 || held[0].Names[0].Field != "validUntil" {
		t.Errorf("held against now: %v", held)
	}
	reads := f.Reads()
	if len(reads) != 2 || reads[0].Type != "notice" ||
		strings.Join(reads[0].Fields, " ") != "validUntil routes day price" ||
		reads[1].Type != "route" ||
		len(reads[1].Fields) != 0 {
		t.Errorf("reads %+v", reads)
	}
}

// TestExplainNamesDecidingValue explains why a filter leaves an entry out.
func TestExplainNamesDecidingValue(t *testing.T) {
	m := harbour(t)
	d := fields{
		"id":         "n1",
		"title":      "Fog",
		"severity":   "delay",
		"validUntil": "2026-11-23T08:00:00Z",
		"routes":     []any{map[string]any{"slug": "ring"}, map[string]any{"slug": "line"}},
	}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for src, want := range map[string]string{
		"title = 'Fog'":                            "",
		"title = 'Ice'":                            `title = 'Ice': title is "Fog"`,
		"title = 'Fog' AND severity = 'delay'":     "",
		"title = 'Ice' AND severity = 'delay'":     `title = 'Ice': title is "Fog"`,
		"title = 'Ice' AND urgent = TRUE":          `title = 'Ice': title is "Fog"; urgent = TRUE: urgent is NULL`,
		"title = 'Ice' OR severity = 'cancelled'":  `(severity = 'cancelled' OR title = 'Ice'): title is "Fog", severity is "delay"`,
		"validUntil > now() AND title = 'Fog'":     `validUntil > now(): validUntil is "2026-11-23T08:00:00Z"`,
		"routes.slug = 'outer'":                    `routes.slug = 'outer': routes.slug is "ring", "line"`,
		"routes.number = 3 AND title IS NULL":      `routes.number = 3: routes.number is NULL; title IS NULL: title is "Fog"`,
		"NOT severity = 'delay' AND price IS NULL": `NOT severity = 'delay': severity is "delay"`,
	} {
		f, err := Parse(src, m, m.Type("notice"))
		if err != nil {
			t.Fatalf("%s: %v", src, err)
		}
		var got []string
		for _, p := range f.Untrue(d, now) {
			got = append(got, p.Text+": "+strings.Join(p.Values, ", "))
		}
		if slices.Sort(got); strings.Join(got, "; ") != want {
			t.Errorf("%s\n got %s\nwant %s", src, strings.Join(got, "; "), want)
		}
		if (len(got) == 0) != f.Match(d, now) {
			t.Errorf("%s: untrue %v, and it is true: %t", src, got, f.Match(d, now))
		}
	}
	// A filter is kept as text, and comes back as it was read.
	f, _ := Parse("title = 'Fog' AND routes.slug = 'ring'", m, m.Type("notice"))
	src, err := f.MarshalText()
	if again, wrong := Parse(string(src), m, m.Type("notice")); err != nil || wrong != nil ||
		again.String() != f.String() {
		t.Errorf("%s, %v, %v", src, err, wrong)
	}
}

// FuzzParse holds that nothing makes the parser panic, and that what it accepts
// it accepts in its canonical form too.
func FuzzParse(f *testing.F) {
	for _, s := range []string{
		"title = 'x'", "CASEI(title) LIKE 'a%' AND NOT (price > 3 OR day IS NULL)",
		"A_CONTAINS(topics, ('a', 'b'))", "validUntil BETWEEN now() AND TIMESTAMP('2026-11-23T08:00:00Z')", "'",
		"((", "1e999", "price = 1e-999999999", "\"a\".b", "routes.notices.routes.slug IN ('x')", "-.5 < price",
	} {
		f.Add(s)
	}
	m := harbour(f)
	f.Fuzz(func(t *testing.T, src string) {
		got, err := Parse(src, m, m.Type("notice"))
		if err != nil {
			var wrong *Error
			if !errors.As(err, &wrong) || wrong.At < 1 || wrong.Detail == "" {
				t.Fatalf("%q: %#v", src, err)
			}
			return
		}
		got.Match(fields{}, time.Now())
		if len(got.String()) > MaxLength {
			return // folding may make a text longer
		}
		again, err := Parse(got.String(), m, m.Type("notice"))
		if err != nil || again.String() != got.String() {
			t.Fatalf("%q is %s, which is read as %v, %v", src, got, again, err)
		}
	})
}
