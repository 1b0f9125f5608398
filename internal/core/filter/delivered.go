package filter

import "slices"

// A reference is compared as it is delivered: an id counts if the entry is there for
// readers of the edition and locale, and only for those who may read entries of its type.
// So a condition on a reference is written as one on the id of the entry that it leads to.

// entered is the id of the entry that the name's reference leads to.
func (n *Name) entered() *Name {
	out := *n
	out.Steps = append(slices.Clone(n.Steps), Step{Name: n.Field, Field: n.Field, Types: n.leads, Several: n.Several})
	out.Field, out.Kind, out.Several, out.leads = "id", Text, false, nil
	return &out
}

// isReference tells whether the name is that of a reference.
func (n *Name) isReference() bool { return n != nil && n.leads != nil }

func (o Operand) entered() Operand {
	if o.Name.isReference() {
		o.Name = o.Name.entered()
	}
	return o
}

// delivered is a predicate with its references entered.
func (p *parser) delivered(at token, e Expr) (Expr, error) {
	behind := func(n *Name) bool { return n.isReference() && n.Through() }
	switch e := e.(type) {
	case Compare:
		e.Left, e.Right = e.Left.entered(), e.Right.entered()
		return e, nil
	case Like:
		e.Of = e.Of.entered()
		return e, nil
	case Between:
		e.Of = e.Of.entered()
		return e, nil
	case In:
		e.Of = e.Of.entered()
		return e, nil
	case IsNull:
		switch {
		case behind(&e.Of):
			return nil, p.wrong(at, e.Of.String()+" lies behind a list of references; whether it is NULL cannot "+
				"be asked", "ask for entries that it leads to, as in "+e.Of.String()+".id = '…'")
		case e.Of.isReference() && e.Of.Several:
			return Not{anyAtAll(&e.Of)}, nil
		case e.Of.isReference():
			e.Of = *e.Of.entered()
		}
		return e, nil
	case Array:
		list, values, op := e.Left, e.Right, e.Op
		if !list.Name.isReference() {
			list, values, op = e.Right, e.Left, turned[e.Op]
		}
		if !list.Name.isReference() {
			return e, nil
		}
		switch {
		case values.Name != nil:
			return nil, p.wrong(at, list.String()+" holds references; they are compared with ids in brackets",
				"as in "+op+"("+list.String()+", ('…'))")
		case behind(list.Name) && op != "A_OVERLAPS" && (op != "A_CONTAINS" || len(values.Values) != 1):
			return nil, p.wrong(at, list.String()+" lies behind a list of references", "ask for one id with "+
				"A_CONTAINS, or for several with A_OVERLAPS")
		}
		return listed(op, list.Name, values.Values), nil
	}
	return e, nil
}

// turned has, for each comparison of lists, the one that says the same from the other
// side.
var turned = map[string]string{
	"A_EQUALS":      "A_EQUALS",
	"A_CONTAINS":    "A_CONTAINEDBY",
	"A_CONTAINEDBY": "A_CONTAINS",
	"A_OVERLAPS":    "A_OVERLAPS",
}

// anyAtAll is true when a list of references leads to an entry.
func anyAtAll(n *Name) Expr {
	return Compare{">=", Operand{Name: n.entered()}, Operand{Value: &Value{Text, ""}}}
}

// listed holds a list of references against ids.
func listed(op string, n *Name, ids []Value) Expr {
	of := Operand{Name: n.entered()}
	operands := make([]Operand, len(ids))
	for i := range ids {
		operands[i] = Operand{Value: &ids[i]}
	}
	switch op {
	case "A_CONTAINS":
		if len(ids) == 0 {
			return Truth(true)
		}
		var all []Expr
		for _, id := range operands {
			all = append(all, Compare{"=", of, id})
		}
		if len(all) == 1 {
			return all[0]
		}
		return And{all}
	case "A_OVERLAPS":
		if len(ids) == 0 {
			return Truth(false)
		}
		return In{Of: of, Values: operands}
	case "A_CONTAINEDBY":
		if len(ids) == 0 {
			return Not{anyAtAll(n)}
		}
		return Not{In{Of: of, Values: operands, Outside: true}}
	}
	return And{[]Expr{listed("A_CONTAINS", n, ids), listed("A_CONTAINEDBY", n, ids)}}
}
