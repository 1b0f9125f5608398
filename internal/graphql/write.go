package graphql

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"

	"ubiquon/internal/core/query"
)

// Write renders the result as the body of the response. Its error is
// query.ErrTooLarge.
func (o *Operation) Write(res *query.Result) ([]byte, error) {
	return query.Render(res.MostBytes, func(b *query.Buffer) { o.write(b, res) })
}

func (o *Operation) write(b *query.Buffer, res *query.Result) {
	b.WriteString(`{"data":{`)
	for i, f := range o.fields {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(`"` + f.as + `":`)
		switch {
		case f.null:
			b.WriteString("null")
		case f.constant != "":
			b.WriteString(f.constant)
		case f.kind == rootList:
			query.WriteConnection(b, f.shape, o.names, &o.Query.Roots[f.root], &res.Roots[f.root])
		case len(res.Roots[f.root].Rows) == 0 || refusedRoot(&o.Query.Roots[f.root], &res.Roots[f.root]) != "":
			b.WriteString("null")
		default:
			query.WriteObject(b, o.Query.Roots[f.root].Selection.Picks, 0, res.Roots[f.root].Rows[0])
		}
	}
	b.WriteByte('}')
	if errs := append(slices.Clone(o.Errors), o.refusals(res)...); len(errs) > 0 {
		src, _ := json.Marshal(errs) // made of text and lists
		b.WriteString(`,"errors":`)
		b.Write(src)
	}
	b.WriteString(
		`,"extensions":{"effort":{"asked":` + strconv.Itoa(
			o.Query.Effort(),
		) + `,"limit":` + strconv.Itoa(
			query.MaxEffort,
		) + `}}}`,
	)
}

// Key is the canonical form of the operation, layout included.
func (o *Operation) Key() string {
	var b bytes.Buffer
	b.WriteString(o.Query.Key())
	for _, f := range o.fields {
		b.WriteString(" " + f.as + "=" + f.constant)
		shape, _ := json.Marshal(f.shape) // plain records
		b.Write(shape)
	}
	for _, e := range o.Errors {
		b.WriteString(" " + e.Path.String() + " " + e.Message)
	}
	return b.String()
}
