package store_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// The values that comparisons go wrong on.
var (
	oddTexts = []string{
		"a", "A", "b", "á", "a\u0301", "Å", "å", "ß", "SS", "İ", "i̇", "ΑΣ", "ας", "%", "_", `\`, "a%b", "a_b", `a\b`,
		"日本", "z", "a b", "it's", "e", "é", "É", "ø", "Ǆ", "ﬁ",
	}
	oddNumbers = []string{"-3", "0", "0.1", "0.10000000000001", "1000", "999999999999999", "7", "-0.5", "123456.789"}
	oddDays    = []string{"2026-11-23", "2026-11-24", "1999-12-31", "0001-01-01"}
	oddMoments = []string{
		"2026-11-23T08:00:00Z", "2026-11-23T08:00:00.000001Z", "2026-11-23T08:00:00.1Z", "1970-01-01T00:00:00Z",
		"2100-01-01T00:00:00Z",
	}
	choices = []string{"red", "green", "blue"}
)

// world generates models, documents and filters from one seed.
type filterWorld struct {
	*rand.Rand
	m    *model.Model
	docs map[string]*doc // by id
}

type doc struct {
	w      *filterWorld
	id     string
	typ    string
	fields map[string]any
	about  map[string]any
}

func (d *doc) Value(field string) any {
	if field == "id" {
		return d.id
	}
	if name, ok := strings.CutPrefix(field, "about."); ok {
		return d.about[name]
	}
	return d.fields[field]
}

func (d *doc) Enter(s filter.Step) []filter.Document {
	var out []filter.Document
	add := func(id any) {
		if o := d.w.docs[fmt.Sprint(id)]; o != nil && slices.Contains(s.Types, o.typ) {
			out = append(out, o)
		}
	}
	if s.Back {
		for _, o := range d.w.docs {
			list, _ := o.fields[s.Field].([]any)
			if o.fields[s.Field] == d.id || slices.Contains(list, any(d.id)) {
				add(o.id)
			}
		}
		return out
	}
	switch v := d.fields[s.Field].(type) {
	case string:
		add(v)
	case []any:
		for _, id := range v {
			add(id)
		}
	}
	return out
}

func pick[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

// model makes three types that refer to each other. A field of one name is of
// one kind everywhere.
func (w *filterWorld) model() string {
	var b strings.Builder
	b.WriteString("locales: {en: {}, nb: {fallback: [en]}}\ntypes:\n")
	for i, name := range []string{"a", "b", "c"} {
		fmt.Fprintf(&b, "  %s:\n    plural: %ss\n    fields:\n      slug: {kind: slug}\n", name, name)
		for _, f := range []string{
			"text1: {kind: text}", "text2: {kind: text, translated: true}",
			"texts: {kind: text, several: true}", "number: {kind: integer}", "decimal: {kind: decimal}",
			"numbers: {kind: decimal, several: true}",
			"flag: {kind: boolean}", "flags: {kind: boolean, several: true}", "day: {kind: date}",
			"moment: {kind: datetime}", "colour: {kind: choice, options: {red: R, green: G, blue: B}}",
			"price: {kind: money}",
			"box: {kind: record, fields: {text: {kind: text}, number: {kind: integer}}}", "prose: {kind: prose}",
		} {
			if w.IntN(5) > 0 {
				b.WriteString("      " + f + "\n")
			}
		}
		fmt.Fprintf(
			&b, "      one: {kind: reference, types: [%s], inverse: backOne%d}\n",
			strings.Join(pick(w.Rand, [][]string{{"a"}, {"b", "c"}, {"c"}, {"a", "b", "c"}}), ", "), i,
		)
		fmt.Fprintf(
			&b, "      many: {kind: reference, several: true, types: [%s], inverse: backMany%d}\n",
			strings.Join(pick(w.Rand, [][]string{{"a", "b"}, {"c"}, {"b"}}), ", "), i,
		)
	}
	return b.String()
}

func (w *filterWorld) number() any {
	v, _ := strconv.ParseFloat(pick(w.Rand, oddNumbers), 64)
	return v
}

func (w *filterWorld) entry(id string, t *model.Type) content.Fields {
	fields := content.Fields{"slug": id}
	some := func(one func() any) any {
		var out []any
		for range w.IntN(4) {
			out = append(out, one())
		}
		return out
	}
	text := func() any { return pick(w.Rand, oddTexts) }
	for _, f := range t.Fields {
		if w.IntN(3) == 0 {
			continue
		}
		switch f.Name {
		case "text1":
			fields[f.Name] = text()
		case "text2":
			fields[f.Name] = map[string]any{pick(w.Rand, []string{"en", "nb"}): text()}
		case "texts":
			fields[f.Name] = some(text)
		case "number":
			fields[f.Name] = float64(w.IntN(9) - 4)
		case "decimal":
			fields[f.Name] = w.number()
		case "numbers":
			fields[f.Name] = some(w.number)
		case "flag":
			fields[f.Name] = w.IntN(2) == 0
		case "flags":
			fields[f.Name] = some(func() any { return w.IntN(2) == 0 })
		case "day":
			fields[f.Name] = pick(w.Rand, oddDays)
		case "moment":
			fields[f.Name] = pick(w.Rand, oddMoments)
		case "colour":
			fields[f.Name] = pick(w.Rand, choices)
		case "price":
			fields[f.Name] = map[string]any{
				"amount":   float64(w.IntN(5) * 100),
				"currency": pick(w.Rand, []string{"NOK", "EUR"}),
			}
		case "box":
			fields[f.Name] = map[string]any{"text": text(), "number": float64(w.IntN(5))}
		case "prose":
			fields[f.Name] = "Words"
		case "one":
			fields[f.Name] = pick(w.Rand, f.Types) + strconv.Itoa(w.IntN(9))
		case "many":
			fields[f.Name] = some(func() any { return pick(w.Rand, f.Types) + strconv.Itoa(w.IntN(9)) })
		}
	}
	return fields
}

func quoteText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// name makes a property that entries of the type have, with the kind that its
// values compare as; steps says how far it may go.
func (w *filterWorld) name(t *model.Type, steps int) (string, string) {
	if steps > 0 && w.IntN(3) == 0 {
		var ways []string
		for _, f := range t.Fields {
			if f.Kind == model.Reference {
				ways = append(ways, f.Name)
			}
		}
		for _, b := range w.m.Backs(t.Name) {
			ways = append(ways, b.Name)
		}
		way := pick(w.Rand, ways)
		next := t
		if b, ok := w.m.Back(t.Name, way); ok {
			next = b.Type
		} else {
			next = w.m.Type(pick(w.Rand, t.Field(way).Types))
		}
		rest, kind := w.name(next, steps-1)
		return way + "." + rest, kind
	}
	if w.IntN(8) == 0 {
		return pick(w.Rand, []string{"published", "firstPublished", "updated"}), "moment"
	}
	if w.IntN(8) == 0 {
		return "id", "id"
	}
	f := pick(w.Rand, t.Fields)
	switch f.Name {
	case "price":
		return pick(w.Rand, []string{"price", "price.amount"}), "number"
	case "box":
		return "box.text", "text"
	case "text1", "text2", "slug":
		return f.Name, "text"
	case "number", "decimal":
		return f.Name, "number"
	}
	return f.Name, f.Name
}

func (w *filterWorld) value(kind string) string {
	switch kind {
	case "text":
		return quoteText(pick(w.Rand, oddTexts))
	case "number":
		return pick(w.Rand, oddNumbers)
	case "flag":
		return pick(w.Rand, []string{"TRUE", "FALSE"})
	case "day":
		return "DATE('" + pick(w.Rand, oddDays) + "')"
	case "moment":
		if w.IntN(4) == 0 {
			return "now()"
		}
		return "TIMESTAMP('" + pick(w.Rand, oddMoments) + "')"
	case "colour":
		return quoteText(pick(w.Rand, choices))
	}
	return quoteText(pick(w.Rand, []string{"a", "b", "c"}) + strconv.Itoa(w.IntN(9)))
}

func (w *filterWorld) values(kind string) string {
	var out []string
	for range w.IntN(3) {
		out = append(
			out,
			w.value(map[string]string{"texts": "text", "numbers": "number", "flags": "flag", "many": "id"}[kind]),
		)
	}
	return "(" + strings.Join(out, ", ") + ")"
}

func (w *filterWorld) expr(t *model.Type, depth int) string {
	if depth > 0 {
		switch w.IntN(5) {
		case 0:
			return "(" + w.expr(t, depth-1) + " AND " + w.expr(t, depth-1) + ")"
		case 1:
			return "(" + w.expr(t, depth-1) + " OR " + w.expr(t, depth-1) + ")"
		case 2:
			return "NOT " + w.expr(t, depth-1)
		}
	}
	name, kind := w.name(t, 2)
	not := pick(w.Rand, []string{"", "", "NOT "})
	switch kind {
	case "texts", "numbers", "flags", "many":
		if w.IntN(5) == 0 {
			return name + " IS " + not + "NULL"
		}
		sides := []string{name, w.values(kind)}
		if w.IntN(2) == 0 {
			slices.Reverse(sides)
		}
		return not + pick(
			w.Rand, []string{"A_EQUALS", "A_CONTAINS", "A_CONTAINEDBY", "A_OVERLAPS"},
		) + "(" + strings.Join(
			sides, ", ",
		) + ")"
	case "prose":
		return name + " IS " + not + "NULL"
	}
	op := pick(w.Rand, []string{"=", "<>", "<", "<=", ">", ">="})
	if kind == "flag" {
		op = pick(w.Rand, []string{"=", "<>"})
	}
	switch w.IntN(7) {
	case 0:
		return name + " IS " + not + "NULL"
	case 1:
		return name + " " + not + "IN (" + w.value(kind) + ", " + w.value(kind) + ")"
	case 2:
		if kind != "flag" {
			return name + " " + not + "BETWEEN " + w.value(kind) + " AND " + w.value(kind)
		}
	case 3:
		if kind == "text" {
			left := pick(w.Rand, []string{"%s", "CASEI(%s)", "ACCENTI(%s)", "CASEI(ACCENTI(%s))"})
			pattern := pick(w.Rand, oddTexts) + pick(w.Rand, []string{"", "%", "_"})
			return fmt.Sprintf(
				left, name,
			) + " " + not + "LIKE " + quoteText(
				pick(w.Rand, []string{"", "%"})+strings.ReplaceAll(pattern, `\`, `\\`),
			)
		}
	case 4:
		if kind == "text" {
			left := pick(w.Rand, []string{"CASEI(%s)", "ACCENTI(%s)", "ACCENTI(CASEI(%s))"})
			return fmt.Sprintf(left, name) + " " + op + " " + fmt.Sprintf(left, w.value(kind))
		}
	case 5:
		if kind == "number" && t.Field("number") != nil && t.Field("decimal") != nil && w.IntN(2) == 0 {
			return "number " + op + " decimal"
		}
	}
	if w.IntN(4) == 0 {
		return w.value(kind) + " " + op + " " + name
	}
	return name + " " + op + " " + w.value(kind)
}

// filtersAgree holds what SQL says against what is evaluated here, for so many
// filters on generated documents of a generated model.
func filtersAgree(t *testing.T, seed uint64, filters int) {
	w := &filterWorld{Rand: rand.New(rand.NewPCG(seed, 5)), docs: map[string]*doc{}}
	w.m = testkit.Model(t, w.model())
	s := testkit.Store(t, w.m)
	var edits []writing.Edit
	for _, typ := range w.m.OwnTypes() {
		for i := range 8 {
			id := typ.Name + strconv.Itoa(i)
			e := writing.Edit{ID: id, Type: typ.Name, Origin: content.Local, Save: w.entry(id, typ), Loose: true}
			if w.IntN(6) > 0 {
				e.Live = writing.PublishNewest
			}
			edits = append(edits, e)
		}
	}
	_, version, err := s.Changes.Model(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Writer.Apply(t.Context(), w.m, version, edits, "test", content.Cause{Kind: "user"}); err != nil {
		t.Fatal(err)
	}
	rows, err := s.DB.Pool.Query(
		t.Context(),
		`select entry, type, fields, about from document where environment = $1 and edition = 'published' and locale
			= 'nb'`,
		s.Environment,
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (int, error) {
		d := &doc{w: w}
		err := r.Scan(&d.id, &d.typ, &d.fields, &d.about)
		w.docs[d.id] = d
		return 0, err
	}); err != nil {
		t.Fatal(err)
	}
	matched := 0
	for range filters {
		typ := pick(w.Rand, w.m.OwnTypes())
		text := w.expr(typ, 3)
		f, err := filter.Parse(text, w.m, typ)
		for err != nil && strings.Contains(err.Error(), "behind a list of references") {
			text = w.expr(typ, 3) // some of what is asked of references behind others is refused
			f, err = filter.Parse(text, w.m, typ)
		}
		if err != nil {
			t.Fatalf("seed %d: %s: %v", seed, text, err)
		}
		again, err := filter.Parse(text, w.m, typ)
		if err != nil || again.String() != f.String() {
			t.Fatalf("seed %d: %s is not always %s", seed, text, f)
		}
		q := &query.Query{
			Edition: "published",
			Roots: []query.Root{
				{
					By: query.ByList, Type: typ.Name, Locale: "nb", Sort: query.DefaultSort, Limit: 200, Filter: f,
					Selection: query.Selection{Picks: []query.SelectedField{{As: "id", Kind: query.PickID}}},
				},
			},
		}
		res, err := s.Reader.Read(t.Context(), version, q, 1<<20)
		if err != nil {
			t.Fatalf("seed %d: %s: %v", seed, text, err)
		}
		var bySQL, here []string
		for _, r := range res.Roots[0].Rows {
			bySQL = append(bySQL, r.ID)
		}
		now := time.Now()
		for _, d := range w.docs {
			if d.typ == typ.Name && f.Match(d, now) {
				here = append(here, d.id)
			}
		}
		slices.Sort(bySQL)
		slices.Sort(here)
		matched += len(here)
		if !slices.Equal(bySQL, here) {
			t.Errorf("seed %d: %s\nSQL  %v\nhere %v", seed, text, bySQL, here)
			for _, id := range append(bySQL, here...) {
				if slices.Contains(bySQL, id) != slices.Contains(here, id) {
					t.Logf("%s: %v %v", id, w.docs[id].fields, w.docs[id].about)
				}
			}
			t.FailNow()
		}
	}
	if matched == 0 {
		t.Errorf("seed %d: no filter was true of anything", seed)
	}
}

// FuzzFiltersAgree holds both ways to run a filter against each other. For long:
// go test ./internal/store -run - -fuzz FiltersAgree -fuzztime 10m
func FuzzFiltersAgree(f *testing.F) {
	for seed := range uint64(8) {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, seed uint64) { filtersAgree(t, seed, 150) })
}
