package filter

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// Parse reads a filter on the entries of a type. Its error is an *Error.
func Parse(src string, m *model.Model, t *model.Type) (*Filter, error) {
	switch {
	case len(src) > MaxLength:
		return nil, &Error{
			At:     MaxLength,
			Detail: fmt.Sprintf("the filter has %d bytes, at most %d are allowed", len(src), MaxLength),
		}
	case !utf8.ValidString(src) || strings.ContainsRune(src, 0):
		return nil, &Error{At: 1, Detail: "the filter is not valid UTF-8, or holds a NUL"}
	}
	tokens, err := lex(src)
	if err != nil {
		return nil, err
	}
	p := &parser{src: src, tokens: tokens, m: m, t: t}
	e, err := p.or()
	if err == nil && p.peek().kind != tokenEnd {
		err = p.wrong(p.peek(), "expected AND, OR or the end, not "+p.peek().says(), "")
	}
	if err != nil {
		return nil, err
	}
	return &Filter{Expr: e, Type: t.Name}, nil
}

type parser struct {
	src        string
	tokens     []token
	at         int
	m          *model.Model
	t          *model.Type
	depth      int
	predicates int
	entered    []string // types, by the names read so far
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != tokenEnd {
		p.at++
	}
	return t
}

func (t token) says() string {
	switch t.kind {
	case tokenEnd:
		return "the end"
	case tokenText:
		return "the text " + literal(t.text)
	}
	return strconv.Quote(t.text)
}

func (t token) is(word string) bool {
	return t.kind == tokenName && strings.EqualFold(t.text, word) || t.kind == tokenSign && t.text == word
}

// took takes the next token if it is the word or sign.
func (p *parser) took(word string) bool {
	if p.peek().is(word) {
		p.at++
		return true
	}
	return false
}

func (p *parser) wrong(at token, detail, hint string) error {
	return &Error{At: place(p.src, at.at), Detail: detail, Hint: strings.TrimPrefix(hint, "; "), Types: p.entered}
}

func (p *parser) expect(word string) error {
	if p.took(word) {
		return nil
	}
	return p.wrong(p.peek(), fmt.Sprintf("expected %s, not %s", word, p.peek().says()), "")
}

// nested counts a bracket or a NOT on the way down.
func (p *parser) nested(f func() (Expr, error)) (Expr, error) {
	if p.depth++; p.depth > MaxNesting {
		return nil, p.wrong(p.peek(), fmt.Sprintf("conditions are nested more than %d deep", MaxNesting), "")
	}
	defer func() { p.depth-- }()
	return f()
}

func (p *parser) or() (Expr, error) {
	return p.joined("OR", p.and, func(parts []Expr) Expr {
		var flat []Expr
		for _, e := range parts {
			if o, ok := e.(Or); ok {
				flat = append(flat, o.Parts...)
			} else {
				flat = append(flat, e)
			}
		}
		return Or{flat}
	})
}

func (p *parser) and() (Expr, error) {
	return p.joined("AND", p.not, func(parts []Expr) Expr {
		var flat []Expr
		for _, e := range parts {
			if a, ok := e.(And); ok {
				flat = append(flat, a.Parts...)
			} else {
				flat = append(flat, e)
			}
		}
		return And{flat}
	})
}

func (p *parser) joined(word string, one func() (Expr, error), join func([]Expr) Expr) (Expr, error) {
	e, err := one()
	if err != nil {
		return nil, err
	}
	parts := []Expr{e}
	for p.took(word) {
		if e, err = one(); err != nil {
			return nil, err
		}
		parts = append(parts, e)
	}
	if len(parts) == 1 {
		return e, nil
	}
	return join(parts), nil
}

func (p *parser) not() (Expr, error) {
	if !p.took("NOT") {
		return p.primary()
	}
	e, err := p.nested(p.not)
	return Not{e}, err
}

func (p *parser) primary() (Expr, error) {
	t := p.peek()
	if t.is("(") {
		// A bracket holds a condition here; operands have none of their own.
		p.at++
		e, err := p.nested(p.or)
		if err != nil {
			return nil, err
		}
		return e, p.expect(")")
	}
	if p.predicates++; p.predicates > MaxPredicates {
		return nil, p.wrong(t, fmt.Sprintf("the filter has more than %d conditions", MaxPredicates), "")
	}
	for _, op := range []string{"A_EQUALS", "A_CONTAINS", "A_CONTAINEDBY", "A_OVERLAPS"} {
		if t.is(op) {
			p.at++
			e, err := p.array(op)
			if err != nil {
				return nil, err
			}
			return p.delivered(t, e)
		}
	}
	if (t.is("TRUE") || t.is("FALSE")) && !p.comparison(1) {
		p.at++
		return Truth(t.is("TRUE")), nil
	}
	return p.predicate()
}

// comparison tells whether a comparison sign stands so many tokens on.
func (p *parser) comparison(ahead int) bool {
	i := min(p.at+ahead, len(p.tokens)-1)
	return mirrored[p.tokens[i].text] != "" && p.tokens[i].kind == tokenSign
}

func (p *parser) predicate() (Expr, error) {
	begin := p.peek()
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	sign := p.next()
	switch {
	case sign.kind == tokenSign && mirrored[sign.text] != "":
		right, err := p.operand()
		if err != nil {
			return nil, err
		}
		e, err := p.compare(begin, left, sign.text, right)
		if err != nil {
			return nil, err
		}
		return p.delivered(begin, e)
	case sign.is("IS"):
		not := p.took("NOT")
		if err := p.expect("NULL"); err != nil {
			return nil, err
		}
		if left.Name == nil || left.CaseI || left.AccentI {
			return nil, p.wrong(begin, "only a property can be NULL", "")
		}
		e, err := p.delivered(begin, IsNull{*left.Name})
		return negated(e, not), err
	}
	not := sign.is("NOT")
	if not {
		sign = p.next()
	}
	if err := p.single(begin, left); err != nil {
		return nil, err
	}
	var e Expr
	switch {
	case sign.is("LIKE"):
		e, err = p.like(begin, left)
	case sign.is("BETWEEN"):
		e, err = p.between(begin, left)
	case sign.is("IN"):
		e, err = p.in(begin, left)
	default:
		hint := ""
		if left.Name != nil && left.Kind() == Boolean && !not {
			hint = "write " + left.Name.String() + " = TRUE"
		} else if near := strictyaml.Nearest(strings.ToUpper(sign.text), []string{"LIKE", "BETWEEN", "IN", "IS",
			"NOT"}); sign.kind == tokenName && near != "" {
			hint = "did you mean " + near + "?"
		}
		return nil, p.wrong(sign, "expected a comparison, LIKE, BETWEEN, IN or IS, not "+sign.says(), hint)
	}
	if err == nil {
		e, err = p.delivered(begin, e)
	}
	return negated(e, not), err
}

func negated(e Expr, not bool) Expr {
	if not && e != nil {
		return Not{e}
	}
	return e
}

// single refuses what cannot be compared: lists, and what is neither text nor
// number nor moment.
func (p *parser) single(at token, o Operand) error {
	if o.Name == nil {
		return nil
	}
	switch {
	case o.Name.Several:
		return p.wrong(at, o.Name.String()+" is a list", "compare it with A_CONTAINS("+o.Name.String()+", ('…'))")
	case o.Name.Kind == Other:
		return p.wrong(at, o.Name.String()+" cannot be compared", "ask whether it IS NULL")
	}
	return nil
}

// alike makes two operands comparable, or says why they are not.
func (p *parser) alike(at token, a, b *Operand) error {
	for _, o := range []*Operand{a, b} {
		if err := p.single(at, *o); err != nil {
			return err
		}
	}
	if a.Kind() != b.Kind() {
		return p.wrong(
			at, fmt.Sprintf("%s is a %s and %s a %s; they cannot be compared", a, a.Kind(), b, b.Kind()),
			hintFor(a, b),
		)
	}
	for _, pair := range [][2]*Operand{{a, b}, {b, a}} {
		name, v := pair[0], pair[1]
		if name.Name != nil && v.Value != nil && name.Name.options != nil && !name.CaseI && !name.AccentI &&
			!slices.Contains(name.Name.options, v.Value.Text) {
			return p.wrong(
				at, fmt.Sprintf("%s is none of the choices of %s", v, name),
				strictyaml.DidYouMean(v.Value.Text, name.Name.options),
			)
		}
		if name.Name != nil && v.Value != nil && (name.CaseI || name.AccentI) {
			folded := Value{Text, fold(v.Value.Text, name.CaseI, name.AccentI)}
			v.Value = &folded
		}
	}
	return nil
}

func hintFor(a, b *Operand) string {
	for _, pair := range [][2]*Operand{{a, b}, {b, a}} {
		if pair[1].Value != nil && pair[1].Value.Kind == Text {
			switch pair[0].Kind() {
			case Number:
				return "write the number without quotes"
			case Date:
				return "write DATE('2026-11-23')"
			case Timestamp:
				return "write TIMESTAMP('2026-11-23T08:00:00Z'), or now()"
			case Boolean:
				return "write TRUE or FALSE"
			}
		}
	}
	return ""
}

func (p *parser) compare(at token, left Operand, op string, right Operand) (Expr, error) {
	if err := p.alike(at, &left, &right); err != nil {
		return nil, err
	}
	if left.Name == nil {
		left, op, right = right, mirrored[op], left
	}
	if left.Name == nil {
		return nil, p.wrong(at, "a condition compares a property", "")
	}
	if right.Name != nil && (left.Name.Through() || right.Name.Through()) {
		return nil, p.wrong(at, "two properties are compared only where neither lies behind a list of references", "")
	}
	if left.Kind() == Boolean && op != "=" && op != "<>" {
		return nil, p.wrong(at, "TRUE and FALSE are equal or not, and neither is greater", "")
	}
	return Compare{op, left, right}, nil
}

func (p *parser) like(at token, left Operand) (Expr, error) {
	if left.Name == nil || left.Kind() != Text {
		return nil, p.wrong(at, "LIKE is for properties that are text", "")
	}
	begin := p.peek()
	pattern, err := p.operand()
	if err != nil {
		return nil, err
	}
	if pattern.Value == nil || pattern.Value.Kind != Text {
		return nil, p.wrong(begin, "LIKE takes a pattern in quotes", "as in title LIKE 'Fog%'")
	}
	out := fold(pattern.Value.Text, left.CaseI, left.AccentI)
	if n := len(out) - len(strings.TrimRight(out, `\`)); n%2 == 1 {
		return nil, p.wrong(begin, "the pattern ends in a backslash that nothing follows", `write \\ for one`)
	}
	return Like{left, out}, nil
}

func (p *parser) between(at token, left Operand) (Expr, error) {
	low, err := p.operand()
	if err == nil {
		err = p.expect("AND")
	}
	if err != nil {
		return nil, err
	}
	high, err := p.operand()
	if err != nil {
		return nil, err
	}
	if left.Name == nil || low.Name != nil || high.Name != nil {
		return nil, p.wrong(at, "BETWEEN holds a property between two values", "")
	}
	for _, o := range []*Operand{&low, &high} {
		if err := p.alike(at, &left, o); err != nil {
			return nil, err
		}
	}
	if left.Kind() == Boolean {
		return nil, p.wrong(at, "TRUE and FALSE are equal or not, and neither is greater", "")
	}
	return Between{left, low, high}, nil
}

func (p *parser) in(at token, left Operand) (Expr, error) {
	if left.Name == nil {
		return nil, p.wrong(at, "IN looks for a property among values", "")
	}
	if err := p.expect("("); err != nil {
		return nil, err
	}
	out := In{Of: left}
	for {
		v, err := p.operand()
		if err != nil {
			return nil, err
		}
		if v.Name != nil {
			return nil, p.wrong(at, "IN takes values", "")
		}
		if err := p.alike(at, &left, &v); err != nil {
			return nil, err
		}
		if out.Values = append(out.Values, v); len(out.Values) > MaxPredicates {
			return nil, p.wrong(at, fmt.Sprintf("IN takes at most %d values", MaxPredicates), "")
		}
		if !p.took(",") {
			return out, p.expect(")")
		}
	}
}

func (p *parser) array(op string) (Expr, error) {
	at := p.peek()
	if err := p.expect("("); err != nil {
		return nil, err
	}
	left, err := p.list()
	if err == nil {
		err = p.expect(",")
	}
	if err != nil {
		return nil, err
	}
	right, err := p.list()
	if err == nil {
		err = p.expect(")")
	}
	if err != nil {
		return nil, err
	}
	if left.Name == nil && right.Name == nil {
		return nil, p.wrong(at, "one side of "+op+" is a property", "")
	}
	if left.Name != nil && right.Name != nil && (left.Name.Through() || right.Name.Through()) {
		return nil, p.wrong(at, "two properties are compared only where neither lies behind a list of references", "")
	}
	for _, pair := range [][2]List{{left, right}, {right, left}} {
		if pair[0].Name == nil {
			continue
		}
		for _, v := range pair[1].Values {
			if v.Kind != pair[0].Name.Kind {
				return nil, p.wrong(
					at, fmt.Sprintf("%s holds %ss, and %s is a %s", pair[0].Name, pair[0].Name.Kind, v, v.Kind), "",
				)
			}
		}
		if pair[1].Name != nil && pair[1].Name.Kind != pair[0].Name.Kind {
			return nil, p.wrong(
				at,
				fmt.Sprintf(
					"%s holds %ss, and %s %ss", pair[0].Name, pair[0].Name.Kind, pair[1].Name, pair[1].Name.Kind,
				),
				"",
			)
		}
	}
	return Array{op, left, right}, nil
}

// list reads a property that is a list, or values in brackets.
func (p *parser) list() (List, error) {
	at := p.peek()
	if !p.took("(") {
		o, err := p.operand()
		if err != nil {
			return List{}, err
		}
		if o.Name == nil || !o.Name.Several || o.CaseI || o.AccentI {
			return List{}, p.wrong(
				at, "expected a property that is a list, or values in brackets", "as in ('ferry', 'bread')",
			)
		}
		if o.Name.Kind == Other {
			return List{}, p.wrong(at, o.Name.String()+" cannot be compared", "ask whether it IS NULL")
		}
		return List{Name: o.Name}, nil
	}
	out := List{Values: []Value{}}
	if p.took(")") {
		return out, nil
	}
	for {
		v, err := p.operand()
		if err != nil {
			return List{}, err
		}
		if v.Value == nil || v.Value.Kind == Date || v.Value.Kind == Timestamp {
			return List{}, p.wrong(at, "a list holds texts, numbers, TRUE or FALSE", "")
		}
		if out.Values = append(out.Values, *v.Value); len(out.Values) > MaxPredicates {
			return List{}, p.wrong(at, fmt.Sprintf("a list has at most %d values", MaxPredicates), "")
		}
		if !p.took(",") {
			return out, p.expect(")")
		}
	}
}

// operand reads a property, a literal or a function of one.
func (p *parser) operand() (Operand, error) {
	t := p.next()
	switch t.kind {
	case tokenText:
		return Operand{Value: &Value{Text, t.text}}, nil
	case tokenNumber:
		return p.number(t)
	case tokenQuoted:
		return p.name(t)
	case tokenName:
		return p.word(t)
	}
	return Operand{}, p.wrong(t, "expected a property or a value, not "+t.says(), "")
}

// reserved are the words that no property is read as without quotes.
var reserved = []string{
	"AND", "OR", "NOT", "LIKE", "BETWEEN", "IN", "IS", "NULL", "TRUE", "FALSE", "DATE", "TIMESTAMP", "CASEI",
	"ACCENTI",
}

func (p *parser) word(t token) (Operand, error) {
	switch {
	case t.is("TRUE") || t.is("FALSE"):
		return Operand{Value: &Value{Boolean, strings.ToLower(t.text)}}, nil
	case t.is("CASEI") || t.is("ACCENTI"):
		return p.folded(t)
	case (t.is("DATE") || t.is("TIMESTAMP")) && p.peek().is("("):
		return p.moment(t)
	case t.is("now") && p.peek().is("("):
		p.at++
		return Operand{Now: true}, p.expect(")")
	case p.peek().is("("):
		return Operand{}, p.wrong(
			t,
			fmt.Sprintf("there is no function %s", t.text),
			strictyaml.DidYouMean(
				strings.ToUpper(t.text),
				[]string{
					"CASEI", "ACCENTI", "DATE", "TIMESTAMP", "NOW", "A_CONTAINS", "A_CONTAINEDBY", "A_EQUALS",
					"A_OVERLAPS",
				},
			),
		)
	case slices.ContainsFunc(reserved, t.is):
		return Operand{}, p.wrong(
			t, "expected a property or a value, not "+t.says(), `a property of that name is written "`+t.text+`"`,
		)
	}
	return p.name(t)
}

func (p *parser) name(t token) (Operand, error) {
	n, err := find(p.m, p.t, t.text)
	for _, s := range n.Steps {
		p.entered = append(p.entered, s.Types...)
	}
	p.entered = append(p.entered, n.leads...)
	if err != nil {
		detail, hint, _ := strings.Cut(err.Error(), "; ")
		return Operand{}, p.wrong(t, detail, hint)
	}
	return Operand{Name: n}, nil
}

func (p *parser) folded(t token) (Operand, error) {
	if err := p.expect("("); err != nil {
		return Operand{}, err
	}
	if p.depth++; p.depth > MaxNesting {
		return Operand{}, p.wrong(t, fmt.Sprintf("conditions are nested more than %d deep", MaxNesting), "")
	}
	at := p.peek()
	o, err := p.operand()
	p.depth--
	if err == nil {
		err = p.expect(")")
	}
	if err != nil {
		return o, err
	}
	if o.Kind() != Text || o.Name != nil && o.Name.Several {
		return o, p.wrong(at, t.text+" is for text", "")
	}
	if o.Value != nil {
		folded := Value{Text, fold(o.Value.Text, t.is("CASEI"), t.is("ACCENTI"))}
		return Operand{Value: &folded}, nil
	}
	o.CaseI, o.AccentI = o.CaseI || t.is("CASEI"), o.AccentI || t.is("ACCENTI")
	return o, nil
}

func (p *parser) moment(t token) (Operand, error) {
	p.at++
	v := p.next()
	if v.kind != tokenText {
		return Operand{}, p.wrong(v, t.text+" takes a text in quotes", "")
	}
	if err := p.expect(")"); err != nil {
		return Operand{}, err
	}
	if t.is("DATE") {
		if _, err := time.Parse(time.DateOnly, v.text); err != nil {
			return Operand{}, p.wrong(v, literal(v.text)+" is no day", "write it as in DATE('2026-11-23')")
		}
		return Operand{Value: &Value{Date, v.text}}, nil
	}
	at, err := time.Parse(time.RFC3339, v.text)
	if err != nil || !strings.HasSuffix(v.text, "Z") || at.Nanosecond()%1000 != 0 || at.Year() < 1 {
		return Operand{}, p.wrong(
			v, literal(v.text)+" is no moment in UTC, to the microsecond",
			"write it as in TIMESTAMP('2026-11-23T08:00:00Z')",
		)
	}
	return Operand{Value: &Value{Timestamp, at.UTC().Format(time.RFC3339Nano)}}, nil
}

// number reads a number that is kept exactly, in its shortest form.
func (p *parser) number(t token) (Operand, error) {
	bad := p.wrong(t, t.text+" is no number of at most 15 digits", "")
	f, err := strconv.ParseFloat(t.text, 64)
	if err != nil || len(t.text) > 40 {
		return Operand{}, bad
	}
	short := strconv.FormatFloat(f, 'f', -1, 64)
	mantissa, _, _ := strings.Cut(strings.ToLower(t.text), "e")
	if len(short) > 40 || f == 0 && strings.ContainsAny(mantissa, "123456789") {
		return Operand{}, bad // also: its exact value might fill the memory
	}
	exact, ok := new(big.Rat).SetString(strings.TrimPrefix(t.text, "+"))
	shortest, okShort := new(big.Rat).SetString(short)
	if !ok || !okShort || exact.Cmp(shortest) != 0 ||
		len(strings.Trim(strings.NewReplacer(".", "", "-", "").Replace(short), "0")) > 15 {
		return Operand{}, bad
	}
	if short == "-0" {
		short = "0"
	}
	return Operand{Value: &Value{Number, short}}, nil
}
