package filter

import (
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/core/strictyaml"
)

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
		} else if near := strictyaml.Nearest(strings.ToUpper(sign.text), []string{
			"LIKE", "BETWEEN", "IN", "IS",
			"NOT",
		}); sign.kind == tokenName && near != "" {
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
// number nor time.
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
