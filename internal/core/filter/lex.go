package filter

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// The limits of a filter.
const (
	MaxLength     = 4000 // bytes
	MaxNesting    = 20   // brackets and NOTs
	MaxPredicates = 100
	MaxSteps      = 4 // references that a dotted name enters
)

// Error is what is wrong with a filter, and where: At counts characters from 1.
type Error struct {
	At           int
	Detail, Hint string
	// Types are those that the names up to the error enter.
	Types []string
}

// Error implements error.
func (e *Error) Error() string {
	text := fmt.Sprintf("at character %d: %s", e.At, e.Detail)
	if e.Hint != "" {
		text += "; " + e.Hint
	}
	return text
}

type tokenKind int

const (
	tokenEnd tokenKind = iota
	tokenName
	tokenQuoted // a name in double quotes
	tokenText
	tokenNumber
	tokenSign
)

type token struct {
	kind tokenKind
	text string // of a text or a quoted name, what it stands for
	at   int    // in bytes
}

// lex cuts a filter into tokens.
func lex(src string) ([]token, error) {
	var out []token
	for i := 0; i < len(src); {
		c := src[i]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case c == '\'' || c == '"':
			text, n, err := quoted(src, i)
			if err != nil {
				return nil, err
			}
			kind := tokenText
			if c == '"' {
				kind = tokenQuoted
			}
			out = append(out, token{kind, text, i})
			i = n
		case c >= '0' && c <= '9' || c == '.' && i+1 < len(src) && digit(src[i+1]) ||
			(c == '-' || c == '+') && i+1 < len(src) && (digit(src[i+1]) || src[i+1] == '.'):
			n := number(src, i)
			out = append(out, token{tokenNumber, src[i:n], i})
			i = n
		case letter(c):
			n := i
			for n < len(src) && (letter(src[n]) || digit(src[n]) || src[n] == '.' ||
				src[n] == '-' && n+1 < len(src) && letter(src[n+1])) {
				n++
			}
			out = append(out, token{tokenName, src[i:n], i})
			i = n
		default:
			sign := string(c)
			if i+1 < len(src) {
				if two := src[i : i+2]; two == "<>" || two == "<=" || two == ">=" || two == "!=" {
					sign = two
				}
			}
			if !strings.Contains("( ) , = < > <> <= >=", sign) {
				r, _ := utf8.DecodeRuneInString(src[i:])
				hint := ""
				if sign == "!=" {
					hint = "unequal is written <>"
				}
				return nil, &Error{
					At:     place(src, i),
					Detail: fmt.Sprintf("%q is nothing that a filter is made of", r),
					Hint:   hint,
				}
			}
			out = append(out, token{tokenSign, sign, i})
			i += len(sign)
		}
	}
	return append(out, token{kind: tokenEnd, at: len(src)}), nil
}

func digit(c byte) bool  { return c >= '0' && c <= '9' }
func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' }

// quoted reads what stands in quotes from i on; a quote within is written twice.
func quoted(src string, i int) (text string, next int, err error) {
	var b strings.Builder
	for n := i + 1; n < len(src); n++ {
		if src[n] != src[i] {
			b.WriteByte(src[n])
			continue
		}
		if n+1 < len(src) && src[n+1] == src[i] {
			b.WriteByte(src[i])
			n++
			continue
		}
		return b.String(), n + 1, nil
	}
	return "", 0, &Error{
		At:     place(src, i),
		Detail: "the text that begins here does not end",
		Hint:   "close it with " + string(src[i]) + "; within, write it twice",
	}
}

func number(src string, i int) int {
	n := i
	if src[n] == '-' || src[n] == '+' {
		n++
	}
	for n < len(src) && (digit(src[n]) || src[n] == '.') {
		n++
	}
	if n < len(src) && (src[n] == 'e' || src[n] == 'E') {
		m := n + 1
		if m < len(src) && (src[m] == '-' || src[m] == '+') {
			m++
		}
		if m < len(src) && digit(src[m]) {
			for n = m; n < len(src) && digit(src[n]); n++ {
			}
		}
	}
	return n
}

// place is where a byte is, in characters from 1.
func place(src string, at int) int { return utf8.RuneCountInString(src[:at]) + 1 }
