package store_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/events"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

type bench struct {
	t *testing.T
	*store.Store
	m *model.Model
	v int64
}

func open(t *testing.T) bench {
	t.Helper()
	m := testkit.Model(t, testkit.Ferries)
	s := testkit.Store(t, m)
	_, v, err := s.Changes.Model(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return bench{t, s, m, v}
}

func (b bench) apply(edits ...writing.Edit) (writing.Applied, error) {
	return b.Writer.Apply(b.t.Context(), b.m, b.v, edits, "tester", content.Cause{Kind: "user", Name: "tester"})
}

func (b bench) must(edits ...writing.Edit) writing.Applied {
	b.t.Helper()
	done, err := b.apply(edits...)
	if err != nil {
		b.t.Fatal(err)
	}
	return done
}

func pier(id, name string) writing.Edit {
	return writing.Edit{
		ID:     id,
		Type:   "pier",
		Origin: content.Local,
		Save:   content.Fields{"name": name},
		Live:   writing.PublishNewest,
	}
}

func route(id string, fields content.Fields) writing.Edit {
	return writing.Edit{ID: id, Type: "route", Origin: content.Local, Save: fields, Live: writing.PublishNewest}
}

// list reads a list and returns its ids.
func (b bench) list(edition string, root query.Root) []string {
	b.t.Helper()
	q := &query.Query{Edition: edition, Roots: []query.Root{root}}
	res, err := b.Reader.Read(b.t.Context(), b.v, q, 1<<20)
	if err != nil {
		b.t.Fatal(err)
	}
	out := []string{}
	for _, row := range res.Roots[0].Rows {
		out = append(out, row.ID)
	}
	return out
}

func (b bench) root(typ string, sort ...string) query.Root {
	b.t.Helper()
	t := b.m.Type(typ)
	root := query.Root{
		By:        query.ByList,
		Type:      typ,
		Locale:    "en",
		Limit:     200,
		Selection: query.Selecting{Model: b.m, Locale: "en"}.All([]*model.Type{t}),
	}
	if err := root.SortBy(t, sort); err != nil {
		b.t.Fatal(err)
	}
	return root
}

func TestEntryLifecycle(t *testing.T) {
	b := open(t)
	draft := pier("mella", "Mella")
	draft.Live = writing.KeepLive
	steps := []struct {
		name               string
		edit               writing.Edit
		what               map[string]string // by edition
		published, preview []string
		state              content.State
	}{
		{"save a draft", draft, map[string]string{"preview": "saved"}, []string{}, []string{"mella"}, content.Draft},
		{"save it unchanged", draft, nil, []string{}, []string{"mella"}, content.Draft},
		{
			"publish",
			writing.Edit{ID: "mella", Live: writing.PublishNewest},
			map[string]string{"published": "published", "preview": "published"},
			[]string{"mella"},
			[]string{"mella"},
			content.IsPublished,
		},
		{
			"publish again",
			writing.Edit{ID: "mella", Live: writing.PublishNewest},
			nil,
			[]string{"mella"},
			[]string{"mella"},
			content.IsPublished,
		},
		{
			"save a newer draft",
			writing.Edit{ID: "mella", Type: "pier", Save: content.Fields{"name": "Mella Quay", "slug": "mella"}},
			map[string]string{"preview": "saved"},
			[]string{"mella"},
			[]string{"mella"},
			content.Revised,
		},
		{
			"take back",
			writing.Edit{ID: "mella", Live: writing.TakeBack},
			map[string]string{"published": "unpublished", "preview": "unpublished"},
			[]string{},
			[]string{"mella"},
			content.Draft,
		},
		{
			"delete",
			writing.Edit{ID: "mella", Delete: true},
			map[string]string{"preview": "deleted"},
			[]string{},
			[]string{},
			"",
		},
	}
	last := int64(1) // the model
	for _, s := range steps {
		done := b.must(s.edit)
		got := map[string]string{}
		for _, c := range done.Changes {
			got[c.Edition] = c.What
			if c.Sequence != last+1 {
				t.Errorf("%s: sequence %d follows %d", s.name, c.Sequence, last)
			}
			last = c.Sequence
		}
		if len(got) != len(s.what) || len(got) > 0 && !reflect.DeepEqual(got, s.what) {
			t.Errorf("%s: changes %v, want %v", s.name, got, s.what)
		}
		if got := b.list("published", b.root("pier")); !slices.Equal(got, s.published) {
			t.Errorf("%s: published shows %v", s.name, got)
		}
		if got := b.list("preview", b.root("pier")); !slices.Equal(got, s.preview) {
			t.Errorf("%s: preview shows %v", s.name, got)
		}
		info, err := b.Entries.Get(t.Context(), "mella")
		if s.state == "" {
			if !errors.Is(err, db.ErrNotFound) {
				t.Errorf("%s: %v", s.name, err)
			}
		} else if err != nil || info.State != s.state {
			t.Errorf("%s: state %s, %v", s.name, info.State, err)
		}
	}
}

func TestWritesAreAtomic(t *testing.T) {
	b := open(t)
	_, err := b.apply(pier("a", "A"), route("r", content.Fields{"number": 100.0}), pier("b", strings.Repeat("x", 41)))
	var problems content.Problems
	if !errors.As(err, &problems) || len(problems) != 3 || problems[0].Entry != "b" ||
		problems[2].Rule != "required" {
		t.Fatalf("got %v, want the problems of both entries", err)
	}
	if items, total, _ := b.Entries.List(t.Context(), api.EntryFilter{}, nil); total != 0 {
		t.Errorf("%v is there all the same", items)
	}
	if mark, _ := b.Changes.Head(t.Context()); mark.Sequence != 1 {
		t.Errorf("the log is at %d", mark.Sequence)
	}
	if _, err := b.apply(pier("a", "A"), pier("a", "B")); err == nil {
		t.Error("one entry twice in a write is accepted")
	}
	if _, err := b.apply(writing.Edit{ID: "nobody", Live: writing.PublishNewest}); !errors.Is(err, db.ErrNotFound) {
		t.Errorf("publishing nothing: %v", err)
	}
	b.must(pier("a", "Quay"))
	if _, err := b.apply(pier("b", "Quay")); !errors.As(err, &problems) || problems[0].Rule != "unique" ||
		problems[0].Entry != "b" {
		t.Errorf("a slug that is taken: %v", err)
	}
	var conflict *writing.ConflictError
	if _, err := b.apply(writing.Edit{
		ID: "a", Type: "pier", Save: content.Fields{"name": "C"},
		IfRevision: 7,
	}); !errors.As(
		err, &conflict,
	) ||
		conflict.Present != 1 {
		t.Errorf("another revision: %v", err)
	}
	b.must(
		writing.Edit{ID: "f", Type: "pier", Origin: "office", OriginVersion: "2", Save: content.Fields{"name": "F"}},
	)
	if _, err := b.apply(writing.Edit{
		ID: "f", Type: "pier", Origin: content.Local,
		Save: content.Fields{"name": "G"},
	}); !errors.Is(
		err, db.ErrForeign,
	) {
		t.Errorf("editing another origin's entry: %v", err)
	}
	if done := b.must(writing.Edit{
		ID: "f", Type: "pier", Origin: "office", OriginVersion: "1",
		Save: content.Fields{"name": "old"},
	}); done.Sequence != 0 {
		t.Error("an older state than is held was applied")
	}
	if _, err := b.Writer.Apply(t.Context(), b.m, b.v+1, []writing.Edit{pier("z", "Z")}, "x",
		content.Cause{}); !errors.Is(
		err, db.ErrModelMoved,
	) {
		t.Errorf("another version of the model: %v", err)
	}
}

// TestSequencesAreGaplessAndInCommitOrder has several writers at once, and a
// follower that must see every commit whole and in order.
func TestSequencesAreGaplessAndInCommitOrder(t *testing.T) {
	b := open(t)
	const writers, each = 6, 25
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	var wg sync.WaitGroup
	for w := range writers {
		wg.Go(func() {
			for i := range each {
				if _, err := b.Writer.Apply(ctx, b.m, b.v,
					[]writing.Edit{
						pier(fmt.Sprintf("w%d-%d", w, i), fmt.Sprintf("W%d N%d", w, i)),
						pier("shared", fmt.Sprintf("by %d at %d", w, i)),
					}, "w",
					content.Cause{Kind: "user"}); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	at := changelog.Mark{}
	commit, n := int64(0), 0
	for n < writers*each*4+1 { // two entries in two editions, and the model
		changes, err := b.Changes.ChangesAfter(ctx, at)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range changes {
			if c.Sequence != at.Sequence+1 {
				t.Fatalf("%d follows %d", c.Sequence, at.Sequence)
			}
			if c.Commit < commit || c.Commit > commit+1 {
				t.Fatalf("commit %d follows %d", c.Commit, commit)
			}
			at, commit = changelog.Mark{Sequence: c.Sequence, ID: c.ID}, c.Commit
			n++
		}
	}
	wg.Wait()
	if _, err := b.Changes.ChangesAfter(ctx, changelog.Mark{
		Sequence: at.Sequence,
		ID:       "00000000-0000-0000-0000-000000000000",
	}); !errors.Is(
		err, changelog.ErrGap,
	) {
		t.Errorf("another id at the same sequence: %v", err)
	}
	if _, err := b.Changes.ChangesAfter(ctx, changelog.Mark{Sequence: at.Sequence + 5, ID: at.ID}); !errors.Is(
		err, changelog.ErrGap,
	) {
		t.Errorf("a sequence that the log has not reached: %v", err)
	}
}

func TestListsSortAndPageStably(t *testing.T) {
	b := open(t)
	var edits []writing.Edit
	for i := range 23 {
		f := content.Fields{"name": map[string]any{"en": fmt.Sprintf("Route %02d", i)}}
		if i%4 != 0 {
			f["number"] = float64(i%5 + 1)
			f["price"] = map[string]any{"amount": float64(i % 3), "currency": "NOK"}
			f["open"] = i%2 == 0
			f["season"] = []string{"summer", "winter"}[i%2]
		}
		edits = append(edits, route(fmt.Sprintf("r%02d", i), f))
	}
	b.must(edits...)
	for _, sort := range [][]string{
		{"number"},
		{"-number", "name"},
		{"season", "-number"},
		{"-price"},
		{"open", "name"},
		{"-name"},
		{"published"},
		{"-updated", "season"},
	} {
		root := b.root("route", sort...)
		whole := b.list("published", root)
		if len(whole) != 23 {
			t.Fatalf("%v: %d entries", sort, len(whole))
		}
		var paged []string
		root.Limit = 4
		for {
			res, err := b.Reader.Read(
				t.Context(), b.v, &query.Query{Edition: "published", Roots: []query.Root{root}}, 1<<20,
			)
			if err != nil {
				t.Fatalf("%v: %v", sort, err)
			}
			for _, row := range res.Roots[0].Rows {
				paged = append(paged, row.ID)
			}
			if !res.Roots[0].More {
				break
			}
			last := res.Roots[0].Rows
			if root.After, err = root.ParseCursor("after", root.Cursor(last[len(last)-1].Position())); err != nil {
				t.Fatalf("%v: %v", sort, err)
			}
		}
		if !slices.Equal(paged, whole) {
			t.Errorf("%v: in pages %v\nas a whole %v", sort, paged, whole)
		}
		// And back again, from the end.
		root.After, root.Last = nil, true
		paged = nil
		for {
			res, err := b.Reader.Read(
				t.Context(), b.v, &query.Query{Edition: "published", Roots: []query.Root{root}}, 1<<20,
			)
			if err != nil {
				t.Fatalf("%v: %v", sort, err)
			}
			var page []string
			for _, row := range res.Roots[0].Rows {
				page = append(page, row.ID)
			}
			paged = append(page, paged...)
			prev, next := root.PageCursors(&res.Roots[0])
			if (next == "") != (root.Before == nil) {
				t.Errorf("%v: before %v, next is %q", sort, root.Before, next)
			}
			if prev == "" {
				break
			}
			if root.Before, err = root.ParseCursor("before", prev); err != nil {
				t.Fatalf("%v: %v", sort, err)
			}
		}
		if !slices.Equal(paged, whole) {
			t.Errorf("%v: in pages from the end %v\nas a whole %v", sort, paged, whole)
		}
	}
	if got := b.list("published", b.root("route", "number")); !slices.Equal(
		got[len(got)-6:], []string{"r00", "r04", "r08", "r12", "r16", "r20"},
	) {
		t.Errorf("those without a value do not come last, by id: %v", got)
	}
}

func TestLinksAreFilledInInTheEditorsOrder(t *testing.T) {
	b := open(t)
	draft := pier("c", "C")
	draft.Live = writing.KeepLive
	r := route(
		"r",
		content.Fields{"name": map[string]any{"en": "R"}, "piers": []any{"b", "gone", "a", "c", "b"}, "start": "c"},
	)
	r.Loose = true
	b.must(pier("a", "A"), pier("b", "B"), draft, r)
	read := func(edition string) *query.Row {
		sel, err := query.Selecting{
			Model:  b.m,
			Locale: "en",
		}.Fields(
			[]*model.Type{b.m.Type("route")}, "name,piers(name),start(name)",
		)
		if err != nil {
			t.Fatal(err)
		}
		res, err := b.Reader.Read(
			t.Context(),
			b.v,
			&query.Query{
				Edition: edition,
				Roots:   []query.Root{{By: query.BySlug, Type: "route", Locale: "nb", Value: "r", Selection: sel}},
			},
			1<<20,
		)
		if err != nil || len(res.Roots[0].Rows) != 1 {
			t.Fatalf("%v, %+v", err, res)
		}
		return res.Roots[0].Rows[0]
	}
	names := func(rows []*query.Row) (out []string) {
		for _, r := range rows {
			out = append(out, r.ID)
		}
		return out
	}
	row := read("published")
	if got := names(row.Linked[2]); !slices.Equal(got, []string{"b", "a", "b"}) || len(row.Linked[3]) != 0 {
		t.Errorf("published: piers %v, start %v", got, names(row.Linked[3]))
	}
	row = read("preview")
	if got := names(row.Linked[2]); !slices.Equal(got, []string{"b", "a", "c", "b"}) ||
		!slices.Equal(names(row.Linked[3]), []string{"c"}) {
		t.Errorf("preview: piers %v, start %v", got, names(row.Linked[3]))
	}
}

func TestModelChangeRendersDocumentsAgain(t *testing.T) {
	b := open(t)
	b.must(route("r", content.Fields{"name": map[string]any{"ja": "外回り"}, "slug": "outer"}))
	if got := b.list("published", b.root("route")); len(got) != 0 {
		t.Fatalf("in en: %v", got)
	}
	m := testkit.Model(t, strings.Replace(testkit.Ferries, "en: {}", "en: {fallback: [ja]}", 1))
	if err := b.Writer.ApplyModel(t.Context(), m, content.Cause{Kind: "model"}, writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Reader.Read(t.Context(), b.v,
		&query.Query{Edition: "published", Roots: []query.Root{b.root("route")}}, 1<<20); !errors.Is(
		err, db.ErrModelMoved,
	) {
		t.Errorf("a read planned with the old model: %v", err)
	}
	if err := b.Writer.ApplyModel(t.Context(), m, content.Cause{Kind: "model"}, writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	if b.m, b.v, _ = b.Changes.Model(t.Context()); b.v != 2 {
		t.Errorf("the same model again makes version %d", b.v)
	}
	if got := b.list("published", b.root("route")); !slices.Equal(got, []string{"r"}) {
		t.Errorf("in en, falling back to ja: %v", got)
	}
}

func TestEventsAreKeptOnce(t *testing.T) {
	b := open(t)
	enqueued := 0
	add := func(e api.Event) (string, bool) {
		t.Helper()
		duplicates, err := b.Events.Add(
			t.Context(),
			[]*api.Event{&e},
			func(pgx.Tx, string) error { enqueued++; return nil },
		)
		if err != nil {
			t.Fatal(err)
		}
		return e.ID, duplicates > 0
	}
	e := api.Event{Origin: "office", MessageID: "m1", State: events.EventWaiting, Body: []byte("{}")}
	first, _ := add(e)
	second, duplicate := add(e)
	if first != second || !duplicate || enqueued != 1 {
		t.Errorf("%s and %s, duplicate %t, enqueued %d times", first, second, duplicate, enqueued)
	}
	refused := e
	refused.State = events.EventRefused
	if _, err := b.Events.Add(t.Context(), []*api.Event{&refused}, nil); err != nil {
		t.Errorf("a refused one with the same message id: %v", err)
	}
	broken := errors.New("queue is down")
	e.MessageID = "m2"
	if _, err := b.Events.Add(t.Context(), []*api.Event{&e}, func(pgx.Tx, string) error { return broken }); !errors.Is(
		err, broken,
	) {
		t.Errorf("got %v", err)
	}
	if events, _ := b.Events.List(t.Context(), api.EventFilter{}, nil); len(events) != 2 {
		t.Errorf("%d events are kept, want the first and the refused one", len(events))
	}
	if _, err := b.Events.Get(t.Context(), "no-id"); !errors.Is(err, db.ErrNotFound) {
		t.Errorf("no such event: %v", err)
	}
}

func TestOneBuildRunsAndOneWaits(t *testing.T) {
	b := open(t)
	ctx := t.Context()
	call := &rebuild.Call{Quiet: strictyaml.Duration(time.Millisecond), AtMost: strictyaml.Duration(time.Second)}
	request := func(sequence int64) {
		t.Helper()
		if _, err := b.Builds.Request(ctx, "web", []rebuild.Cause{{Sequence: sequence}}, sequence, false); err != nil {
			t.Fatal(err)
		}
	}
	next := func() *rebuild.Build {
		t.Helper()
		var due *rebuild.Build
		testkit.Eventually(t, "a build is due", func() bool {
			var err error
			if due, _, err = b.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil {
				t.Fatal(err)
			}
			return due != nil
		})
		return due
	}
	request(5)
	request(7)
	first := next()
	if first.Number != 1 || len(first.Causes) != 2 || first.Sequence != 7 || first.State != rebuild.Running {
		t.Fatalf("first: %+v", first)
	}
	// Not confirmed, as after a crash: the same call again, later, with the same id.
	if again, wait, err := b.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); err != nil || again != nil ||
		wait <= 0 ||
		wait > rebuild.Backoff(1) {
		t.Fatalf("too early: %+v, %v, %v", again, wait, err)
	}
	if _, err := b.DB.Pool.Exec(ctx, `update build set not_before = clock_timestamp() where id =
		$1`, first.ID); err != nil {
		t.Fatal(err)
	}
	if again := next(); again.ID != first.ID || again.Attempts != 2 {
		t.Fatalf("again: %+v", again)
	}
	if err := b.Builds.Called(ctx, first, false, "", 0); err != nil {
		t.Fatal(err)
	}
	request(9)
	request(11)
	if due, _, _ := b.Builds.NextCall(ctx, "web", &rebuild.Site{Build: call}); due != nil {
		t.Fatalf("a second build runs beside the first: %+v", due)
	}
	if _, err := b.Builds.Report(ctx, first.ID, builds.Report{Started: true}); err != nil {
		t.Fatal(err)
	}
	if done, err := b.Builds.Report(ctx, first.ID, builds.Report{State: rebuild.Finished, Error: ""}); err != nil ||
		done.State != rebuild.Finished ||
		done.Started == nil {
		t.Fatalf("%+v, %v", done, err)
	}
	if _, err := b.Builds.Report(ctx, first.ID, builds.Report{State: rebuild.Finished, Error: ""}); !errors.Is(
		err,
		builds.ErrNotRunning,
	) {
		t.Errorf("a second end: %v", err)
	}
	second := next()
	if second.Number != 2 || second.Sequence != 11 || len(second.Causes) != 2 {
		t.Fatalf("second: %+v", second)
	}
	if failed, err := b.Builds.Report(ctx, second.ID, builds.Report{
		State: rebuild.Failed, Error: "out of paint",
	}); err != nil ||
		failed.Error != "out of paint" {
		t.Fatalf("%+v, %v", failed, err)
	}
	builds, err := b.Builds.List(ctx, api.BuildFilter{Site: "web"})
	if err != nil || len(builds) != 3 || builds[0].State != rebuild.Waiting || builds[0].Sequence != 11 ||
		builds[0].NotBefore == nil ||
		builds[0].Failures != 1 {
		t.Errorf("after a failure: %+v, %v", builds, err)
	}
}

func TestConsumeChangesHandsEachChangeToOneReader(t *testing.T) {
	b := open(t)
	b.must(pier("a", "A"), pier("b", "B"))
	broken := errors.New("broken")
	if _, _, err := b.Runs.ConsumeChanges(t.Context(), "r", false,
		func(pgx.Tx, []content.Change) error { return broken }); !errors.Is(
		err, broken,
	) {
		t.Fatalf("got %v", err)
	}
	var seen []int64
	for range 3 {
		if _, _, err := b.Runs.ConsumeChanges(t.Context(), "r", false, func(_ pgx.Tx, changes []content.Change) error {
			if claimed, _, _ := b.Runs.ConsumeChanges(t.Context(), "r", false, nil); claimed {
				t.Error("claimed twice at once")
			}
			for _, c := range changes {
				seen = append(seen, c.Sequence)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if !slices.Equal(seen, []int64{1, 2, 3, 4, 5}) {
		t.Errorf("seen %v", seen)
	}
}

func TestKeysChangeTheLog(t *testing.T) {
	b := open(t)
	k := &access.Key{
		Name:   "web",
		Grants: access.Grants{{Verb: "read", Edition: "published", Type: "*"}},
		Hash:   access.HashSecret("s"),
	}
	if err := b.Keys.AddKey(t.Context(), k, content.Cause{Kind: "user"}); err != nil {
		t.Fatal(err)
	}
	keys, err := b.Keys.Keys(t.Context())
	if err != nil || len(keys) != 1 || keys[0].Hash != k.Hash || !reflect.DeepEqual(keys[0].Grants, k.Grants) {
		t.Fatalf("%+v, %v", keys, err)
	}
	revoke := func(k *access.Key, now time.Time) error {
		k.Revoked = &now
		return nil
	}
	if _, err := b.Keys.ChangeKey(t.Context(), "none", "key revoke", content.Cause{}, revoke); !errors.Is(
		err, db.ErrNotFound,
	) {
		t.Errorf("revoking nothing: %v", err)
	}
	if _, err := b.Keys.ChangeKey(t.Context(), k.ID, "key revoke", content.Cause{}, revoke); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Keys.ChangeKey(t.Context(), k.ID, "key revoke", content.Cause{}, revoke); !errors.Is(
		err, access.ErrRevoked,
	) {
		t.Errorf("revoking twice: %v", err)
	}
	changes, err := b.Changes.ChangesAfter(t.Context(), changelog.Mark{})
	if src, _ := json.Marshal(changes); err != nil || len(changes) != 3 || changes[2].Kind != content.AccessChange ||
		strings.Contains(string(src), "hash") {
		t.Errorf("%+v, %v", changes, err)
	}
}

// object lays a row out as the surfaces do.
func object(sel *query.Selection, row *query.Row) string {
	out, _ := query.Render(1<<20, func(b *query.Buffer) { query.WriteObject(b, sel.Picks, 0, row) }) // it is small
	return string(out)
}
