package authoring

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
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
	ctx context.Context, in io.Reader, by string, o api.ImportOptions, tell func(api.ImportProgress),
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

// flush sends off what has gathered. Two batches are under way at once: while
// one is committed the other is rendered.
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
		if i.o.Bad == "stop" {
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
	come, grown := i.progress.Written, i.progress.Written >= i.analyse
	if grown {
		i.analyse = max(1000, 8*i.progress.Written)
	}
	i.mu.Unlock()
	if grown {
		// Plans that were made for small tables do not suit large ones.
		return i.g.store.Entries.Analyse(ctx, come)
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
