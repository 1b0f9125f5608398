package authoring

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
)

// Line is one entry as import and export write it, one JSON object a line
// (NDJSON).
type Line struct {
	ID   string `json:"id"`
	Type string `json:"type"`
	// Fields are the newest saved state.
	Fields content.Fields `json:"fields"`
	// Published is when it was published last, FirstPublished when for the first
	// time; without Published it is a draft.
	Published      *time.Time `json:"published,omitempty"`
	FirstPublished *time.Time `json:"firstPublished,omitempty"`
	// Live is what readers get, where that is not Fields.
	Live content.Fields `json:"live,omitempty"`
	// Revisions are the earlier saved states, the oldest first.
	Revisions []content.Revision `json:"revisions,omitempty"`
}

// BadLine is a line of an import that was not taken.
type BadLine struct {
	Line   int    `json:"line"`
	Entry  string `json:"entry,omitempty"`
	Reason string `json:"reason"`
}

// ImportProgress is how far an import has come.
type ImportProgress struct {
	// Line up to which everything is dealt with: go on behind it.
	Line int `json:"line"`
	// Written entries differ from what was held, Same do not.
	Written int `json:"written"`
	Same    int `json:"same"`
	Bad     int `json:"bad"`
	// BadLines are those since the last progress.
	BadLines []BadLine `json:"badLines,omitempty"`
	Done     bool      `json:"done,omitempty"`
}

// ImportOptions say how an import goes.
type ImportOptions struct {
	// Check reads everything and writes nothing.
	Check bool
	// After is the line that was dealt with last, by an earlier call.
	After int
	// StopAtBad ends the import at the first bad line.
	StopAtBad bool
}

const (
	// maxLine bounds one line.
	maxLine = 4 << 20
	// importAtOnce, importAtLeast and importSpan bound what one transaction of an import writes,
	// so that it is not in the way of publishers.
	importAtOnce  = 200
	importAtLeast = 10
	importSpan    = 50 * time.Millisecond
)

// ErrBadLine is the error of an import that was told to stop at a bad line.
var ErrBadLine = errors.New("the import has stopped at a bad line")

// Import writes the entries of an NDJSON text, telling how far it has come. An
// entry that is held in the same state already is left alone, so an import may
// be run again.
func (a *Service) Import(
	ctx context.Context, in io.Reader, by string, o ImportOptions, tell func(ImportProgress),
) error {
	i := importing{
		g:       a,
		by:      by,
		o:       o,
		tell:    tell,
		atOnce:  25,
		analyse: 200,
		seen:    map[string]int{},
		wanted:  map[string]int{},
	}
	lines := bufio.NewReaderSize(in, 64<<10)
	var line []byte
	n := 0
	for {
		var long bool
		var err error
		if line, long, err = nextLine(lines, line[:0]); err == io.EOF {
			break
		} else if err != nil {
			// What has come whole is written before the rest is given up.
			return errors.Join(fmt.Errorf("behind line %d: %w", n, err), i.flush(ctx), i.settle(len(i.running)))
		}
		n++
		if n <= o.After || !long && len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if err := i.line(ctx, n, line, long); err != nil {
			return err
		}
	}
	if err := i.flush(ctx); err != nil {
		return err
	}
	if err := i.settle(len(i.running)); err != nil {
		return err
	}
	if err := i.danglers(ctx); err != nil {
		return err
	}
	if err := a.replica.CatchUp(ctx); err != nil {
		return err
	}
	i.mu.Lock()
	i.progress.Line = n
	i.mu.Unlock()
	i.report(true)
	return nil
}

type importing struct {
	g        *Service
	by       string
	o        ImportOptions
	tell     func(ImportProgress)
	progress ImportProgress
	edits    []writing.Edit
	lines    []int
	atOnce   int
	analyse  int // how many entries make the database look at its tables anew
	running  []importBatch
	mu       sync.Mutex     // guards progress, atOnce and analyse
	seen     map[string]int // lines by entry
	wanted   map[string]int // lines by the entry that they refer to
}

func (i *importing) bad(line int, entry, reason string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.progress.Bad++
	i.progress.BadLines = append(i.progress.BadLines, BadLine{Line: line, Entry: entry, Reason: reason})
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
		if i.o.StopAtBad {
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
		edit.Live, edit.Published, edit.PublishedAt, edit.FirstPublishedAt = writing.PublishGiven, l.Live, l.Published, l.FirstPublished
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

// flush sends off what has gathered. Two batches are under way at once: while
// one is committed the other is laid out.
func (i *importing) flush(ctx context.Context) error {
	if len(i.edits) == 0 {
		return nil
	}
	if len(i.running) == 2 {
		if err := i.settle(1); err != nil {
			return err
		}
	}
	b := importBatch{edits: i.edits, lines: i.lines, done: make(chan error, 1)}
	i.edits, i.lines = nil, nil
	i.running = append(i.running, b)
	go func() {
		if i.o.Check {
			b.done <- nil
		} else {
			b.done <- i.write(ctx, b.edits, b.lines)
		}
	}()
	return nil
}

type importBatch struct {
	edits []writing.Edit
	lines []int
	done  chan error
}

// settle waits for the first n batches under way, in their order.
func (i *importing) settle(n int) error {
	for ; n > 0 && len(i.running) > 0; n-- {
		b := i.running[0]
		i.running = i.running[1:]
		if err := <-b.done; err != nil {
			// The other one must not go on behind our back.
			for _, other := range i.running {
				<-other.done
			}
			i.running = nil
			return err
		}
		i.mu.Lock()
		i.progress.Line = b.lines[len(b.lines)-1]
		i.mu.Unlock()
		i.report(false)
	}
	return nil
}

// importPatience bounds how long an import waits for trouble of the database to pass.
const importPatience = 5 * time.Minute

func (i *importing) write(ctx context.Context, edits []writing.Edit, lines []int) error {
	done, err := i.g.write(ctx, edits, i.by, content.Cause{Kind: "import", Name: i.by})
	for begin, wait := time.Now(), time.Second; db.Passing(err) && ctx.Err() == nil &&
		time.Since(begin) < importPatience; wait = min(2*wait, 15*time.Second) {
		i.g.log.Warn("an import waits for the database", "error", err, "again", wait)
		if !background.Sleep(ctx, wait, nil) {
			break
		}
		done, err = i.g.write(ctx, edits, i.by, content.Cause{Kind: "import", Name: i.by})
	}
	if err == nil {
		return i.written(ctx, edits, done)
	}
	if ctx.Err() != nil || db.Passing(err) || errors.Is(err, db.ErrModelMoved) {
		return err
	}
	if len(edits) == 1 {
		i.bad(lines[0], edits[0].ID, err.Error())
		if i.o.StopAtBad {
			i.report(false)
			return fmt.Errorf("%w: line %d: %w", ErrBadLine, lines[0], err)
		}
		return nil
	}
	// One of them is to blame: halve until it is alone.
	half := len(edits) / 2
	if err := i.write(ctx, edits[:half], lines[:half]); err != nil {
		return err
	}
	return i.write(ctx, edits[half:], lines[half:])
}

// written counts what a batch came to. The next ones are larger or smaller, as
// this one was quick or slow.
func (i *importing) written(ctx context.Context, edits []writing.Edit, done writing.Applied) error {
	entries := map[string]bool{}
	for _, c := range done.Changes {
		entries[c.Entry] = true
	}
	i.mu.Lock()
	if done.Took > importSpan && len(edits) >= i.atOnce {
		i.atOnce = max(importAtLeast, i.atOnce*3/4)
	} else if done.Took < importSpan/2 {
		i.atOnce = min(importAtOnce, i.atOnce*3/2)
	}
	i.progress.Written += len(entries)
	i.progress.Same += len(edits) - len(entries)
	grown := i.progress.Written >= i.analyse
	if grown {
		i.analyse = max(1000, 8*i.progress.Written)
	}
	i.mu.Unlock()
	if grown {
		// Plans that were made for small tables are no good for large ones.
		return i.g.store.Entries.Analyse(ctx)
	}
	return nil
}

// danglers tells of references to entries that are neither in the text nor here.
func (i *importing) danglers(ctx context.Context) error {
	var ids []string
	for id := range i.wanted {
		if _, here := i.seen[id]; !here {
			ids = append(ids, id)
		}
	}
	for batch := range slices.Chunk(ids, 5000) {
		there, err := i.g.store.Entries.Existing(ctx, batch)
		if err != nil {
			return err
		}
		for _, id := range batch {
			if !there[id] {
				i.bad(
					i.wanted[id], "",
					fmt.Sprintf("a reference leads to %q, which is neither in the text nor here", id),
				)
			}
		}
	}
	return nil
}

// Export writes entries as NDJSON, those of all types or of some, with all
// revisions if wanted; it returns how many there were. Without an origin it
// writes those of our own.
func (a *Service) Export(
	ctx context.Context, out io.Writer, types []string, origin string, revisions bool,
) (int, error) {
	for _, name := range types {
		if m := a.replica.Model(); m.Type(name) == nil {
			return 0, fmt.Errorf("type %q%s: %w", name, strictyaml.DidYouMean(name, m.TypeNames()), db.ErrNotFound)
		}
	}
	if origin == "" {
		origin = content.Local
	}
	n := 0
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	err := a.store.Entries.EachEntry(ctx, types, origin, revisions, func(e *entries.Exported) error {
		n++
		l := Line{ID: e.ID, Type: e.Type, Fields: e.Newest, Revisions: e.Revisions}
		if e.PublishedRevision != 0 {
			l.Published, l.FirstPublished = e.Published, e.FirstPublished
			if e.Behind {
				l.Live = e.Live
			}
		}
		return enc.Encode(l)
	})
	return n, err
}
