package filter

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
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
