package query

import "encoding/json"

func writeValue(b *Buffer, p *SelectedField, src []byte) {
	switch {
	case src == nil && p.Several:
		b.WriteString("[]")
	case src == nil:
		b.WriteString("null")
	case p.Text && p.words() == nil:
		writeText(b, src)
	case p.words() == nil:
		b.Write(src)
	case !p.Several:
		p.writeWord(b, p.options(src)[0])
	default:
		b.WriteByte('[')
		for i, v := range p.options(src) {
			if i > 0 {
				b.WriteByte(',')
			}
			p.writeWord(b, v)
		}
		b.WriteByte(']')
	}
}

// options are the values of a choice, as they were stored by us.
func (p *SelectedField) options(src []byte) (out []string) {
	switch {
	case src == nil:
	case p.Several:
		_ = json.Unmarshal(src, &out)
	case p.Text:
		out = []string{string(src)}
	default: // within a record: JSON as it came
		var v string
		_ = json.Unmarshal(src, &v)
		out = []string{v}
	}
	return out
}

// both are the parts of a choice whose value and label are asked for.
func (p *SelectedField) both() []Part {
	if p.Parts != nil {
		return p.Parts
	}
	return []Part{{As: "value", Name: "value"}, {As: "label", Name: "label"}}
}

// writeWord writes a value of a choice as the pick asks for it.
func (p *SelectedField) writeWord(b *Buffer, value string) {
	if !p.Both {
		writeNamed(b, p.words(), value)
		return
	}
	b.WriteByte('{')
	for i, part := range p.both() {
		if i > 0 {
			b.WriteByte(',')
		}
		writeName(b, part.As)
		switch part.Name {
		case "value":
			writeString(b, value)
		case "label":
			writeNamed(b, p.words(), value)
		default:
			writeString(b, part.Constant)
		}
	}
	b.WriteByte('}')
}
