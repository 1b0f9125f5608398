package graphql

import (
	"bytes"
	"encoding/json"
	"strconv"

	"ubiquon/internal/core/query"
)

// Write lays the result out as the body of the response.
func (o *Operation) Write(res *query.Result) []byte {
	var b bytes.Buffer
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
			writeConnection(&b, f.shape, o.typeName(f), &o.Query.Roots[f.root], &res.Roots[f.root])
		case len(res.Roots[f.root].Rows) == 0:
			b.WriteString("null")
		default:
			query.WriteObject(&b, o.Query.Roots[f.root].Selection.Picks, 0, res.Roots[f.root].Rows[0])
		}
	}
	b.WriteByte('}')
	if len(o.Errors) > 0 {
		src, _ := json.Marshal(o.Errors) // made of text and lists
		b.WriteString(`,"errors":`)
		b.Write(src)
	}
	b.WriteByte('}')
	return b.Bytes()
}

func (o *Operation) typeName(f field) string { return pascal(o.Query.Roots[f.root].Type) }

func writeConnection(b *bytes.Buffer, shape []connectionPart, typ string, root *query.Root, res *query.RootResult) {
	members(b, shape, func(p connectionPart) {
		switch p.name {
		case "__typename":
			quoted(b, typ+"Connection")
		case "totalCount":
			b.WriteString(strconv.Itoa(res.Total))
		case "nodes":
			each(b, res.Rows, func(i int, row *query.Row) {
				query.WriteObject(b, root.Selection.Picks[p.first:p.end], p.first, row)
			})
		case "edges":
			each(b, res.Rows, func(i int, row *query.Row) {
				members(b, p.inner, func(e connectionPart) {
					switch e.name {
					case "__typename":
						quoted(b, typ+"Edge")
					case "cursor":
						quoted(b, root.Cursor(row.Position()))
					case "node":
						query.WriteObject(b, root.Selection.Picks[e.first:e.end], e.first, row)
					}
				})
			})
		case "pageInfo":
			members(b, p.inner, func(e connectionPart) {
				n := len(res.Rows)
				switch {
				case e.name == "__typename":
					quoted(b, "PageInfo")
				case e.name == "hasNextPage":
					_, next := root.Around(res)
					b.WriteString(strconv.FormatBool(next != ""))
				case e.name == "hasPreviousPage":
					prev, _ := root.Around(res)
					b.WriteString(strconv.FormatBool(prev != ""))
				case n == 0:
					b.WriteString("null")
				case e.name == "startCursor":
					quoted(b, root.Cursor(res.Rows[0].Position()))
				case e.name == "endCursor":
					quoted(b, root.Cursor(res.Rows[n-1].Position()))
				}
			})
		}
	})
}

func members(b *bytes.Buffer, parts []connectionPart, value func(connectionPart)) {
	b.WriteByte('{')
	for i, p := range parts {
		if i > 0 {
			b.WriteByte(',')
		}
		quoted(b, p.as)
		b.WriteByte(':')
		value(p)
	}
	b.WriteByte('}')
}

func each(b *bytes.Buffer, rows []*query.Row, one func(int, *query.Row)) {
	b.WriteByte('[')
	for i, row := range rows {
		if i > 0 {
			b.WriteByte(',')
		}
		one(i, row)
	}
	b.WriteByte(']')
}

// quoted writes a name or a cursor, which need no escaping.
func quoted(b *bytes.Buffer, s string) {
	b.WriteByte('"')
	b.WriteString(s)
	b.WriteByte('"')
}

// Key is the canonical form of the operation, layout included.
func (o *Operation) Key() string {
	var b bytes.Buffer
	b.WriteString(o.Query.Key())
	var parts func(p []connectionPart)
	parts = func(p []connectionPart) {
		for _, one := range p {
			b.WriteString(" " + one.as + ":" + one.name + strconv.Itoa(one.first) + "-" + strconv.Itoa(one.end) + "{")
			parts(one.inner)
			b.WriteByte('}')
		}
	}
	for _, f := range o.fields {
		b.WriteString(" " + f.as + "=" + f.constant)
		parts(f.shape)
	}
	return b.String()
}
