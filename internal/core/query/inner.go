package query

import (
	"encoding/json"

	"ubiquon/internal/core/model"
)

// Inner makes rows of the record or the blocks in a cell, so that they are laid
// out, and followed on, like entries. Their Type is the kind of block.
func (p *SelectedField) Inner(cell []byte) []*Row {
	if cell == nil {
		return nil
	}
	var objects []map[string]json.RawMessage
	if p.Several {
		_ = json.Unmarshal(cell, &objects) // stored by us: a list of objects
	} else {
		var one map[string]json.RawMessage
		_ = json.Unmarshal(cell, &one) // stored by us: an object
		objects = append(objects, one)
	}
	rows := make([]*Row, len(objects))
	for i, o := range objects {
		rows[i] = innerRow(p.Link, o)
	}
	return rows
}

func innerRow(sel *Selection, object map[string]json.RawMessage) *Row {
	n := len(sel.Picks)
	row := &Row{Cells: make([][][]byte, n), Asked: make([][]string, n), Linked: make([][]*Row, n)}
	_ = json.Unmarshal(object[model.BlockName], &row.Type) // a text, if it is there
	for i := range sel.Picks {
		p := &sel.Picks[i]
		v := object[p.Field]
		whole, members := p.Columns()
		if whole {
			row.Cells[i] = [][]byte{v}
		} else if p.Kind == PickParts {
			var parts map[string]json.RawMessage
			_ = json.Unmarshal(v, &parts) // stored by us: an object, if it is there
			row.Cells[i] = append(row.Cells[i], v)
			for _, m := range members {
				row.Cells[i] = append(row.Cells[i], parts[m.Name])
			}
		}
		switch p.Kind {
		case PickLink:
			row.Asked[i] = IDs(v)
		case PickInner:
			row.Linked[i] = p.Inner(v)
		}
	}
	return row
}

// IDs reads a JSON text or list of texts that are entries' ids.
func IDs(src []byte) []string {
	// Ids need no unescaping: what stands between quotes is theirs.
	var out []string
	for start, i := -1, 0; i < len(src); i++ {
		if src[i] != '"' {
			continue
		}
		if start < 0 {
			start = i + 1
		} else {
			out = append(out, string(src[start:i]))
			start = -1
		}
	}
	return out
}

// asJSON says that the values of a selection come as JSON, texts included: they
// are parts of a larger value.
func (s *Selection) asJSON() {
	for i := range s.Picks {
		p := &s.Picks[i]
		p.Text = false
		for j := range p.Parts {
			p.Parts[j].Text = false
		}
		if p.Kind == PickInner {
			p.Link.asJSON()
		}
	}
}

// InnerPick finishes a pick of a record or of blocks; the selection is what is
// asked of them.
func InnerPick(p SelectedField, sel *Selection) SelectedField {
	sel.asJSON()
	p.Kind, p.Link = PickInner, sel
	return p
}
