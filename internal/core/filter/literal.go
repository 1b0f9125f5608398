package filter

import (
	"math/big"
	"strconv"
	"strings"
	"time"
)

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
