package query

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"sync"
)

// Columns says what the store fetches for a pick: the members of the object,
// the whole value, or nothing. Whole is also what an object that comes in a
// list is fetched as.
func (p *SelectedField) Columns() (whole bool, members []Part) {
	switch p.Kind {
	case PickValue, PickLink, PickInner, PickFile:
		return true, nil
	case PickParts:
		if p.Several {
			return true, nil
		}
		members = p.members()
	case PickAbout:
		members = p.members()
	}
	return false, members
}

func (p *SelectedField) members() []Part {
	var out []Part
	for _, part := range p.Parts {
		if !part.isFixed() {
			out = append(out, part)
		}
	}
	return out
}

// ErrTooLarge is the error of an answer with more bytes than are allowed.
var ErrTooLarge = errors.New("the answer would be too large")

// Buffer is what an answer is rendered into. It takes so many bytes and no more.
type Buffer struct {
	bytes.Buffer
	most int
}

// overflow leaves the rendering of an answer that is too large; Render recovers it.
type overflow struct{}

// check ends the rendering when there is too much. It is called after each value, so
// a buffer exceeds its bound by one value at most.
func (b *Buffer) check() {
	if b.Len() > b.most {
		panic(overflow{})
	}
}

var buffers = sync.Pool{New: func() any { return new(Buffer) }}

// pooledBytes bounds the buffers that are kept for the next answer.
const pooledBytes = 1 << 20

// Render returns what write writes, in a slice of just that length: bodies are held
// for long. Its error is ErrTooLarge if that is more than most bytes.
func Render(most int, write func(*Buffer)) (out []byte, err error) {
	b := buffers.Get().(*Buffer)
	b.Reset()
	b.most = most
	defer func() {
		if p := recover(); p != nil {
			if _, is := p.(overflow); !is {
				panic(p)
			}
			out, err = nil, ErrTooLarge
		}
		if b.Cap() <= pooledBytes {
			buffers.Put(b)
		}
	}()
	write(b)
	b.check()
	return bytes.Clone(b.Bytes()), nil
}

// WriteObject lays a row out as a JSON object of the picks, which are some
// consecutive ones of the selection that the row was read for; first is the
// index of the first.
func WriteObject(b *Buffer, picks []SelectedField, first int, row *Row) {
	b.WriteByte('{')
	comma := false
	for i := 0; i < len(picks); i++ {
		p := &picks[i]
		within := i + 1 // of a group
		i += p.Members
		if p.On != nil && !slices.Contains(p.On, row.Type) {
			continue
		}
		if comma {
			b.WriteByte(',')
		}
		comma = true
		writeName(b, p.As)
		var cells [][]byte
		if first+i < len(row.Cells) {
			cells = row.Cells[first+i]
		}
		switch p.Kind {
		case PickID:
			writeString(b, row.ID)
		case PickGroup:
			WriteObject(b, picks[within:i+1], first+within, row)
		case PickType:
			writeNamed(b, p.Names, row.Type)
		case PickAbout:
			writeParts(b, p.Parts, p.Flat, cells)
		case PickValue:
			writeValue(b, p, cells[0])
		case PickParts:
			switch {
			case p.Several:
				writePartsList(b, p.Parts, p.Flat, cells[0])
			case cells[0] == nil:
				b.WriteString("null")
			default:
				writeParts(b, p.Parts, p.Flat, cells[1:])
			}
		case PickFile:
			writeFiles(b, p, cells[0])
		case PickNull:
			b.WriteString("null")
		case PickBack:
			WriteList(b, p, row.Lists[first+i])
		case PickLink, PickInner:
			linked := row.Linked[first+i]
			if p.Several {
				b.WriteByte('[')
				for j, l := range linked {
					if j > 0 {
						b.WriteByte(',')
					}
					WriteObject(b, p.Link.Picks, 0, l)
				}
				b.WriteByte(']')
			} else if len(linked) == 0 {
				b.WriteString("null")
			} else {
				WriteObject(b, p.Link.Picks, 0, linked[0])
			}
		}
		b.check()
	}
	b.WriteByte('}')
}

// WriteList lays out the entries that refer to another one: as a list, or in the
// form that the pick asks for.
func WriteList(b *Buffer, p *SelectedField, found *RootResult) {
	if p.Shape != nil {
		WriteConnection(b, p.Shape, p.Names, p.List, found)
		return
	}
	writeRows(b, found.Rows, func(row *Row) { WriteObject(b, p.List.Selection.Picks, 0, row) })
}

// WriteConnection lays out a list as the Cursor Connections Specification of
// GraphQL has it. Names holds the names of types.
func WriteConnection(b *Buffer, shape []ListPart, names map[string]string, root *Root, found *RootResult) {
	picks := root.Selection.Picks
	writeMembers(b, shape, func(p ListPart) {
		switch p.Name {
		case "__typename":
			writeString(b, names[root.Type]+"Connection")
		case "totalCount":
			b.WriteString(strconv.Itoa(found.Total))
		case "nodes":
			writeRows(b, found.Rows, func(row *Row) { WriteObject(b, picks[p.First:p.End], p.First, row) })
		case "edges":
			writeRows(b, found.Rows, func(row *Row) {
				writeMembers(b, p.Inner, func(e ListPart) {
					switch e.Name {
					case "__typename":
						writeString(b, names[root.Type]+"Edge")
					case "cursor":
						writeString(b, root.Cursor(row.Position()))
					case "node":
						WriteObject(b, picks[e.First:e.End], e.First, row)
					}
				})
			})
		case "pageInfo":
			writeMembers(b, p.Inner, func(e ListPart) { writePageInfo(b, e.Name, root, found) })
		}
	})
}

func writePageInfo(b *Buffer, name string, root *Root, found *RootResult) {
	prev, next := root.PageCursors(found)
	n := len(found.Rows)
	switch {
	case name == "__typename":
		b.WriteString(`"PageInfo"`)
	case name == "hasNextPage":
		b.WriteString(strconv.FormatBool(next != ""))
	case name == "hasPreviousPage":
		b.WriteString(strconv.FormatBool(prev != ""))
	case n == 0:
		b.WriteString("null")
	case name == "startCursor":
		writeString(b, root.Cursor(found.Rows[0].Position()))
	case name == "endCursor":
		writeString(b, root.Cursor(found.Rows[n-1].Position()))
	}
}

func writeMembers(b *Buffer, parts []ListPart, value func(ListPart)) {
	b.WriteByte('{')
	for i, p := range parts {
		if i > 0 {
			b.WriteByte(',')
		}
		writeName(b, p.As)
		value(p)
	}
	b.WriteByte('}')
}

func writeRows(b *Buffer, rows []*Row, one func(*Row)) {
	b.WriteByte('[')
	for i, row := range rows {
		if i > 0 {
			b.WriteByte(',')
		}
		one(row)
	}
	b.WriteByte(']')
}

func writeNamed(b *Buffer, names map[string]string, v string) {
	if other, ok := names[v]; ok {
		v = other
	}
	writeString(b, v)
}

// writeParts writes an object whose members come one per cell; constants take
// no cell. A flat one is written as its only member.
func writeParts(b *Buffer, parts []Part, flat bool, cells [][]byte) {
	if !flat {
		b.WriteByte('{')
	}
	next := 0
	for i, part := range parts {
		if i > 0 {
			b.WriteByte(',')
		}
		if !flat {
			writeName(b, part.As)
		}
		if part.Constant != "" {
			writeString(b, part.Constant)
			continue
		}
		if part.Texts != nil {
			src, _ := json.Marshal(part.Texts) // texts
			b.Write(src)
			continue
		}
		switch {
		case cells[next] == nil:
			b.WriteString("null")
		case part.Text:
			writeText(b, cells[next])
		default:
			b.Write(cells[next])
		}
		next++
	}
	if !flat {
		b.WriteByte('}')
	}
}

func writePartsList(b *Buffer, parts []Part, flat bool, src []byte) {
	var objects []map[string]json.RawMessage
	if src != nil {
		_ = json.Unmarshal(src, &objects) // stored by us: a list of objects
	}
	b.WriteByte('[')
	for i, o := range objects {
		if i > 0 {
			b.WriteByte(',')
		}
		writePartsOf(b, parts, flat, o)
	}
	b.WriteByte(']')
}

// writePartsOf writes an object whose members come as JSON, texts included.
func writePartsOf(b *Buffer, parts []Part, flat bool, o map[string]json.RawMessage) {
	asJSON := slices.Clone(parts)
	var cells [][]byte
	for i := range asJSON {
		if asJSON[i].Text = false; !asJSON[i].isFixed() {
			cells = append(cells, o[asJSON[i].Name])
		}
	}
	writeParts(b, asJSON, flat, cells)
}

func writeName(b *Buffer, name string) {
	b.WriteByte('"')
	b.WriteString(name) // letters and digits only
	b.WriteString(`":`)
}

func writeString(b *Buffer, s string) { writeText(b, []byte(s)) }

// writeText writes a JSON string. Most texts need no escaping; those that do go
// the long way.
func writeText(b *Buffer, s []byte) {
	for _, c := range s {
		if c < ' ' || c == '"' || c == '\\' || c == 0xe2 { // 0xe2 begins U+2028, which JSON in scripts cannot have
			writeEscaped(b, string(s))
			return
		}
	}
	b.WriteByte('"')
	b.Write(s)
	b.WriteByte('"')
}

func writeEscaped(b *Buffer, s string) {
	enc := json.NewEncoder(b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // text into a buffer cannot fail
	b.Truncate(b.Len() - 1)
}
