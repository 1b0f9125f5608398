package invalidation

import (
	"encoding/binary"
	"encoding/json"
	"math"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// Sort is one part of an order. Entries without a value come last either way;
// the id breaks ties.
type Sort struct {
	By         string     `json:"by"` // a field, or about.published, about.firstPublished, about.updated
	Kind       model.Kind `json:"kind"`
	Descending bool       `json:"descending,omitempty"`
}

// Indexed tells whether an index has an order of a type's entries: by one field that the model says is indexed, or by
// published or firstPublished, descending.
func Indexed(t *model.Type, order []Sort) bool {
	f := t.Field(order[0].By)
	return len(order) == 1 && (f != nil && f.Indexed ||
		order[0].Descending && (order[0].By == "about.published" || order[0].By == "about.firstPublished"))
}

// SortKey is where an entry stands in an order, as bytes that compare as the entries
// do: what PostgreSQL's ORDER BY and Go agree on. The zero Place is none.
type SortKey string

// NewSortKey returns the place of an entry by its sort values as texts, nil for no
// value.
func NewSortKey(order []Sort, values []*string, id string) SortKey {
	var room [keyRoom]byte
	b := room[:0]
	for i, s := range order {
		if v := values[i]; v != nil {
			b = appendValue(b, s, *v)
		} else {
			b = append(b, noValue)
		}
	}
	return SortKey(append(append(b, 0), id...))
}

// SortKeyOf is NewSortKey for values as the database gives them; those that are missing at the end are none.
func SortKeyOf(order []Sort, values [][]byte, id string) SortKey {
	var room [keyRoom]byte
	b := room[:0]
	for i, s := range order {
		if i < len(values) && values[i] != nil {
			b = appendValue(b, s, values[i])
		} else {
			b = append(b, noValue)
		}
	}
	return SortKey(append(append(b, 0), id...))
}

const (
	// keyRoom is enough for most keys.
	keyRoom = 128
	// noValue stands behind all values.
	noValue = 0xff
)

// sortKeyIn is PlaceOf for what a change says of the entry.
func sortKeyIn(order []Sort, values content.Fields, id string) SortKey {
	b := make([]byte, 0, 9*len(order)+1+len(id))
	for _, s := range order {
		v := values[s.By]
		if money, ok := v.(map[string]any); ok && s.Kind == model.Money {
			v = money["amount"]
		}
		if text := textOf(v); text != nil {
			b = appendValue(b, s, *text)
		} else {
			b = append(b, noValue)
		}
	}
	return SortKey(append(append(b, 0), id...))
}

func textOf(v any) *string {
	var out string
	switch v := v.(type) {
	case string:
		out = v
	case float64:
		out = strconv.FormatFloat(v, 'g', -1, 64)
	case json.Number:
		out = v.String()
	case bool:
		out = strconv.FormatBool(v)
	default:
		return nil
	}
	return &out
}

// appendValue writes a value so that bytes compare as values do. Texts compare by
// their bytes and have no NUL.
func appendValue[T string | []byte](b []byte, s Sort, v T) []byte {
	b = append(b, 1)
	from := len(b)
	switch s.Kind {
	case model.Integer, model.Decimal, model.Money:
		n, _ := strconv.ParseFloat(string(v), 64) // checked when it was written
		bits := math.Float64bits(n)
		if bits>>63 == 1 {
			bits = ^bits
		} else {
			bits |= 1 << 63
		}
		b = binary.BigEndian.AppendUint64(b, bits)
	case model.DateTime:
		at, _ := time.Parse(time.RFC3339, string(v))
		b = binary.BigEndian.AppendUint64(b, uint64(at.UnixMicro())^1<<63)
	default: // false comes before true by its letters
		b = append(append(b, v...), 0)
	}
	if s.Descending {
		for i := from; i < len(b); i++ {
			b[i] = ^b[i]
		}
	}
	return b
}

// id is whose place it is. Ids have no NUL.
func (p SortKey) id() string { return string(p[strings.LastIndexByte(string(p), 0)+1:]) }

// isOf tells whether the place is that of the entry.
func (p SortKey) isOf(id string) bool {
	n := len(p) - len(id)
	return n > 0 && p[n-1] == 0 && string(p[n:]) == id
}
