package authoring

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"unicode/utf8"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/writing"
)

type importing struct {
	g        *Service
	by       string
	o        api.ImportOptions
	tell     func(api.ImportProgress)
	progress api.ImportProgress
	edits    []writing.Edit
	lines    []int
	atOnce   int
	analyse  int // how many entries make the database look at its tables again
	running  []importBatch
	mu       sync.Mutex     // guards progress, atOnce and analyse
	seen     map[string]int // lines by entry
	wanted   map[string]int // lines by the entry that they refer to
}

func (i *importing) bad(line int, entry, reason string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.progress.Bad++
	i.progress.BadLines = append(i.progress.BadLines, api.BadLine{Line: line, Entry: entry, Reason: reason})
}

func (i *importing) report(done bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.progress.Done = done
	i.tell(i.progress)
	i.progress.BadLines = nil
}

// nextLine reads a line, without its end, into a buffer; of one that is longer than maxLine
// nothing but that. Its error is io.EOF behind the last one.
func nextLine(in *bufio.Reader, into []byte) (line []byte, long bool, err error) {
	for {
		part, err := in.ReadSlice('\n')
		if long = long || len(into)+len(part) > maxLine; !long {
			into = append(into, part...)
		}
		switch {
		case err == bufio.ErrBufferFull:
		case err == io.EOF && (len(into) > 0 || long), err == nil:
			return into, long, nil
		default:
			return into, long, err
		}
	}
}

// line takes in one line, or says that it is too long.
func (i *importing) line(ctx context.Context, n int, src []byte, long bool) error {
	var edit writing.Edit
	reason := fmt.Sprintf("the line is longer than %d bytes", maxLine)
	if !long {
		edit, reason = i.read(n, src)
	}
	if reason == "" {
		if first, twice := i.seen[edit.ID]; twice {
			reason = fmt.Sprintf("entry %s stands in line %d already", edit.ID, first)
		}
	}
	if reason != "" {
		i.bad(n, edit.ID, reason)
		if i.o.Bad == "stop" {
			if err := errors.Join(i.flush(ctx), i.settle(2)); err != nil {
				return err
			}
			i.report(false)
			return fmt.Errorf("%w: line %d: %s", ErrBadLine, n, reason)
		}
		return nil
	}
	i.seen[edit.ID] = n
	i.edits, i.lines = append(i.edits, edit), append(i.lines, n)
	i.mu.Lock()
	full := len(i.edits) >= i.atOnce
	i.mu.Unlock()
	if full {
		return i.flush(ctx)
	}
	return nil
}

// read turns a line into an edit, or says what is wrong with it.
func (i *importing) read(n int, src []byte) (edit writing.Edit, reason string) {
	if !utf8.Valid(src) || bytes.Contains(src, []byte(`\u0000`)) {
		return edit, "it is not valid UTF-8, or holds a NUL"
	}
	var l Line
	dec := json.NewDecoder(bytes.NewReader(src))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&l); err != nil {
		return edit, "it is no JSON object of the wanted form: " + err.Error()
	}
	edit.ID = l.ID
	m := i.g.replica.Model()
	t := m.Type(l.Type)
	switch {
	case !content.ValidID(l.ID):
		return edit, fmt.Sprintf("%q is no id; use a-z, 0-9 and hyphens, 64 at most", l.ID)
	case t == nil:
		return edit, fmt.Sprintf("there is no type %q%s", l.Type, strictyaml.DidYouMean(l.Type, m.TypeNames()))
	case l.Fields == nil:
		return edit, "it has no fields"
	}
	edit = writing.Edit{
		ID:      l.ID,
		Type:    l.Type,
		Origin:  content.Local,
		Save:    l.Fields,
		Message: "imported",
		Loose:   true,
		History: l.Revisions,
	}
	if l.Published != nil {
		edit.Live, edit.Published = writing.PublishGiven, l.Live
		edit.PublishedAt, edit.FirstPublishedAt = l.Published, l.FirstPublished
		if edit.Published == nil {
			edit.Published = l.Fields
		}
	}
	for _, state := range []struct {
		fields content.Fields
		want   content.For
	}{{edit.Save, content.For{}}, {edit.Published, content.For{Publish: true}}} {
		if state.fields == nil {
			continue
		}
		if p := content.Check(m, t, l.ID, content.Normalise(m, t, l.ID, state.fields), state.want); len(p) > 0 {
			return edit, p.Error()
		}
		for _, leaf := range content.Leaves(t, state.fields, false) {
			if id, ok := leaf.Value.(string); ok && leaf.Field.Kind == model.Reference {
				if _, known := i.wanted[id]; !known {
					i.wanted[id] = n
				}
			}
		}
	}
	return edit, ""
}
