package store_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
	"ubiquon/internal/testkit"
)

// islands is a model of pages in a tree, banners shown on them, and berths with
// a number that no other has.
const islands = `
locales: {en: {}, nb: {fallback: [en]}, ja: {}}
types:
  page:
    path: "/{parent.path}/{slug}"
    home: welcome
    approval: false
    fields:
      title: {kind: text, translated: true, required: true}
      slug: {kind: slug, madeFrom: title}
      parent: {kind: reference, types: [page], inverse: children}
      text: {kind: prose, translated: true}
      lead: {kind: text, translated: true}
      blocks: {kind: blocks, blocks: {banner: {fields: {banner: {kind: reference, types: [banner]}}}, note: {fields: {text: {kind: text, translated: true}}}}}
  banner:
    fields: {title: {kind: text, translated: true}}
  settings: {singleton: true, fields: {claim: {kind: text}}}
  berth:
    approval: true
    fields:
      name: {kind: text}
      number: {kind: integer, unique: true}
      depth: {kind: decimal, default: 2.5}
`

func openIslands(t *testing.T) bench {
	t.Helper()
	m := testkit.Model(t, islands)
	s := testkit.Store(t, m)
	_, v, err := s.Changes.Model(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return bench{t, s, m, v}
}

type per = map[string]any

func page(id string, fields content.Fields) writing.Edit {
	return writing.Edit{ID: id, Type: "page", Origin: content.Local, Save: fields, Live: writing.PublishNewest}
}

// read reads one entry's fields as a document shows them.
func (b bench) read(edition, locale, id, fields string) string {
	b.t.Helper()
	info, err := b.Entries.Get(b.t.Context(), id)
	if err != nil {
		return err.Error()
	}
	sel, err := query.Selecting{Model: b.m, Locale: locale}.Fields([]*model.Type{b.m.Type(info.Type)}, fields)
	if err != nil {
		b.t.Fatal(err)
	}
	q := &query.Query{
		Edition: edition,
		Roots:   []query.Root{{By: query.ByID, Value: id, Locale: locale, Selection: sel}},
	}
	res, err := b.Reader.Read(b.t.Context(), b.v, q, 1<<20)
	if err != nil {
		b.t.Fatal(err)
	}
	if len(res.Roots[0].Rows) == 0 {
		return "nothing"
	}
	return object(&sel, res.Roots[0].Rows[0])
}

func (b bench) state(id string) string {
	b.t.Helper()
	e, err := b.Entries.Get(b.t.Context(), id)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprint(e.State, " ", e.Live)
}

func TestLocalesArePublishedApart(t *testing.T) {
	b := openIslands(t)
	b.must(
		writing.Edit{
			ID:     "a",
			Type:   "page",
			Origin: content.Local,
			Save: content.Fields{
				"title": per{"en": "Fog", "nb": "Tåke", "ja": "霧"},
				"slug":  "fog",
				"lead":  per{"en": "Thick"},
			},
		},
	)
	if got := b.state("a"); got != "draft []" {
		t.Errorf("saved: %s", got)
	}
	publish := func(locales ...string) writing.Edit {
		return writing.Edit{ID: "a", Origin: content.Local, Live: writing.PublishNewest, Locales: locales}
	}
	b.must(publish("en"))
	if got := b.state("a"); got != "revised [en]" {
		t.Errorf("en published: %s", got)
	}
	// nb falls back to what is published of en, and does not leak.
	if got := b.read("published", "nb", "a", "title"); got != `{"id":"a","title":"Fog"}` {
		t.Errorf("nb is %s", got)
	}
	if got := b.read("published", "ja", "a", "title"); got != "nothing" {
		t.Errorf("ja is %s", got)
	}
	b.must(
		writing.Edit{
			ID:     "a",
			Type:   "page",
			Origin: content.Local,
			Save:   content.Fields{"title": per{"en": "Fog week", "nb": "Tåkeuka", "ja": "霧"}, "slug": "fog"},
		},
	)
	b.must(publish("nb"))
	if en, nb := b.read("published", "en", "a", "title,lead"), b.read("published", "nb", "a",
		"title,lead"); en != `{"id":"a","title":"Fog","lead":"Thick"}` ||
		nb != `{"id":"a","title":"Tåkeuka","lead":"Thick"}` {
		t.Errorf("nb published: en %s, nb %s", en, nb)
	}
	done := b.must(writing.Edit{ID: "a", Origin: content.Local, Live: writing.TakeBack, Locales: []string{"en"}})
	if got := b.read("published", "en", "a", "title"); got != "nothing" || len(done.Changes) == 0 ||
		done.Changes[0].What != "unpublished" {
		t.Errorf("en taken back: %s, %+v", got, done.Changes)
	}
	b.must(publish())
	if got := b.state("a"); got != "published [en ja nb]" {
		t.Errorf("all published: %s", got)
	}
	var p content.Problems
	if _, err := b.apply(publish("de")); !errors.As(err, &p) || p[0].Rule != "locale" {
		t.Errorf("an unknown locale: %v", err)
	}
	b.must(
		writing.Edit{
			ID:     "b",
			Type:   "page",
			Origin: content.Local,
			Save:   content.Fields{"title": per{"en": "Ice"}, "lead": per{"ja": "氷"}},
		},
	)
	if _, err := b.apply(writing.Edit{ID: "b", Origin: content.Local, Live: writing.PublishNewest}); !errors.As(
		err, &p,
	) ||
		p[0].Path != "fields.title.ja" ||
		p[0].Rule != "required" {
		t.Errorf("ja lacks its title: %v", err)
	}
	b.must(writing.Edit{ID: "b", Origin: content.Local, Live: writing.PublishNewest, Locales: []string{"en"}})
}

func TestPathsFollowTheirParents(t *testing.T) {
	b := openIslands(t)
	b.must(
		page("home", content.Fields{"title": per{"en": "Welcome"}}),
		page("about", content.Fields{"title": per{"en": "About"}}),
		page(
			"boats", content.Fields{"title": per{"en": "Boats"}, "parent": "about"},
		),
		page("steam", content.Fields{"title": per{"en": "Steam"}, "parent": "boats"}),
		page(
			"links",
			content.Fields{
				"title": per{"en": "Links"},
				"text":  per{"en": "See [steam](ref:steam) and [nobody](ref:nobody)."},
			},
		),
	)
	path := func(id string) string { return b.read("published", "en", id, "about(path)") }
	if a, c := path("home"), path("steam"); !strings.Contains(a, `"path":"/"`) ||
		!strings.Contains(c, `"path":"/about/boats/steam"`) {
		t.Errorf("home %s, steam %s", a, c)
	}
	if got := b.read("published", "nb", "links", "text(inline)"); !strings.Contains(
		got, `href=\"/about/boats/steam\"`,
	) ||
		strings.Contains(got, "ref:") {
		t.Errorf("links %s", got)
	}
	done := b.must(page("about", content.Fields{"title": per{"en": "About"}, "slug": "line"}))
	if got := path("steam"); !strings.Contains(got, `"/line/boats/steam"`) {
		t.Errorf("after the parent moved: %s", got)
	}
	if got := b.read("published", "en", "links", "text(inline)"); !strings.Contains(got, `/line/boats/steam`) {
		t.Errorf("what links there still shows %s", got)
	}
	moved := map[string]string{}
	for _, c := range done.Changes {
		if c.Edition == "published" {
			moved[c.Entry] = c.What
		}
	}
	if fmt.Sprint(moved) != "map[about:published boats:moved links:moved steam:moved]" {
		t.Errorf("changes %v", moved)
	}
	at := func(path, locale string) *query.RootResult {
		sel, err := query.Selecting{Model: b.m}.Fields(b.m.Types, "about(path,locale)")
		if err != nil {
			t.Fatal(err)
		}
		res, err := b.Reader.Read(
			t.Context(),
			b.v,
			&query.Query{
				Edition: "published",
				Roots: []query.Root{
					{By: query.ByPath, Value: path, Locale: locale, Locales: b.m.Tags(), Selection: sel},
				},
			},
			1<<20,
		)
		if err != nil {
			t.Fatal(err)
		}
		return &res.Roots[0]
	}
	if got := at("/line/boats", ""); len(got.Rows) != 1 || got.Rows[0].ID != "boats" || got.Locale != "en" {
		t.Errorf("at its path: %+v", got)
	}
	if got := at("/about/boats", ""); len(got.Rows) != 0 || got.MovedTo != "/line/boats" {
		t.Errorf("at its former path: %+v", got)
	}
	if got := at("/nowhere", "en"); len(got.Rows) != 0 || got.MovedTo != "" {
		t.Errorf("nowhere: %+v", got)
	}
	var p content.Problems
	if _, err := b.apply(page("about", content.Fields{
		"title": per{"en": "About"}, "slug": "line",
		"parent": "steam",
	})); !errors.As(
		err, &p,
	) ||
		p[0].Rule != "cycle" {
		t.Errorf("a page above itself: %v", err)
	}
	if _, err := b.apply(page("other", content.Fields{"title": per{"en": "Other"}, "slug": "line"})); !errors.As(
		err, &p,
	) ||
		p[0].Rule != "unique" {
		t.Errorf("a slug that is taken: %v", err)
	}
	// Two may swap what must be unique within one write.
	b.must(
		page("about", content.Fields{"title": per{"en": "About"}, "slug": "boats"}),
		page("boats", content.Fields{"title": per{"en": "Boats"}, "slug": "line"}),
	)
	if a, c := path("about"), path("boats"); !strings.Contains(a, `"/boats"`) || !strings.Contains(c, `"/line"`) {
		t.Errorf("swapped: %s %s", a, c)
	}
}

func TestUniqueValuesAndDefaults(t *testing.T) {
	b := openIslands(t)
	berth := func(id string, number float64) writing.Edit {
		return writing.Edit{
			ID:     id,
			Type:   "berth",
			Origin: content.Local,
			Save:   content.Fields{"name": id, "number": number},
		}
	}
	b.must(berth("a", 1), berth("b", 2))
	var p content.Problems
	if _, err := b.apply(berth("c", 2)); !errors.As(err, &p) || p[0].Path != "fields.number" || p[0].Entry != "c" {
		t.Errorf("a number that is taken: %v", err)
	}
	b.must(berth("a", 2), berth("b", 1))
	if got := b.read("preview", "en", "a", "depth"); got != `{"id":"a","depth":2.5}` {
		t.Errorf("the default is not there: %s", got)
	}
	if _, err := b.apply(writing.Edit{ID: "a", Origin: content.Local, Live: writing.PublishNewest}); !errors.As(
		err, &p,
	) ||
		p[0].Rule != "approval" {
		t.Errorf("published without approval: %v", err)
	}
	b.must(writing.Edit{ID: "a", Origin: content.Local, Review: content.Submitted})
	if got := b.state("a"); got != "in review []" {
		t.Errorf("submitted: %s", got)
	}
	b.must(writing.Edit{ID: "a", Origin: content.Local, Review: content.Returned, Remark: "deeper"})
	if _, err := b.apply(writing.Edit{ID: "a", Origin: content.Local, Review: content.Approved}); !errors.As(
		err, &p,
	) ||
		p[0].Rule != "review" {
		t.Errorf("approved what was sent back: %v", err)
	}
	b.must(writing.Edit{ID: "a", Origin: content.Local, Review: content.Submitted})
	if _, err := b.apply(writing.Edit{ID: "a", Origin: content.Local, Review: content.Approved}); !errors.As(
		err, &p,
	) ||
		!strings.Contains(p[0].Text, "somebody else must approve it") {
		t.Errorf("approved by who wrote it: %v", err)
	}
	if _, err := b.Writer.Apply(t.Context(), b.m, b.v,
		[]writing.Edit{{ID: "a", Origin: content.Local, Review: content.Approved}}, "another",
		content.Cause{Kind: "user", Name: "another"}); err != nil {
		t.Fatal(err)
	}
	b.must(writing.Edit{ID: "a", Origin: content.Local, Live: writing.PublishNewest})
	e, err := b.Entries.Get(t.Context(), "a")
	if err != nil || e.State != content.IsPublished || len(e.Reviews) != 4 || e.Reviews[2].Remark != "deeper" {
		t.Errorf("%v %+v", e.State, e.Reviews)
	}
	b.must(berth("a", 2), berth("b", 7))
	b.must(writing.Edit{ID: "s", Type: "settings", Origin: content.Local, Save: content.Fields{"claim": "One"}})
	if _, err := b.apply(writing.Edit{
		ID: "t", Type: "settings", Origin: content.Local,
		Save: content.Fields{"claim": "Two"},
	}); !errors.As(
		err, &p,
	) ||
		p[0].Rule != "singleton" {
		t.Errorf("a second entry of a singleton: %v", err)
	}
	b.must(writing.Edit{ID: "s", Type: "settings", Origin: content.Local, Save: content.Fields{"claim": "Two"}})
	if _, err := b.apply(writing.Edit{
		ID: "a", Type: "berth", Origin: content.Local,
		Save: content.Fields{"number": 3.0}, Live: writing.PublishNewest,
	}); !errors.As(
		err, &p,
	) {
		t.Errorf("a newer draft takes over the approval: %v", err)
	}
}

func TestReferencedEntriesCannotBeDeleted(t *testing.T) {
	b := openIslands(t)
	b.must(
		writing.Edit{
			ID:     "winter",
			Type:   "banner",
			Origin: content.Local,
			Save:   content.Fields{"title": per{"en": "Winter"}},
			Live:   writing.PublishNewest,
		},
		page(
			"a",
			content.Fields{
				"title": per{"en": "A"},
				"blocks": []any{
					per{"block": "banner", "banner": "winter"},
					per{"block": "note", "text": per{"en": "Hi", "nb": "Hei"}},
				},
			},
		),
	)
	var referred *writing.ReferredError
	if _, err := b.apply(writing.Edit{ID: "winter", Origin: content.Local, Delete: true}); !errors.As(
		err, &referred,
	) ||
		referred.By[0].Entry != "a" ||
		referred.By[0].Field != "blocks" {
		t.Errorf("deleting what a page shows: %v", err)
	}
	if _, err := b.apply(writing.Edit{ID: "winter", Origin: content.Local, Retire: true}); !errors.As(
		err, &referred,
	) {
		t.Errorf("retiring it: %v", err)
	}
	if got := b.read("published", "nb", "a",
		"blocks(banner(banner(title)),note(text))"); got != `{"id":"a","blocks":[{"block":"banner","banner":{"id":"winter","title":"Winter"}},{"block":"note","text":"Hei"}]}` {
		t.Errorf("the page shows %s", got)
	}
	var p content.Problems
	if _, err := b.apply(page("c", content.Fields{
		"title": per{"en": "C"}, "parent": "winter",
		"blocks": []any{per{"block": "banner", "banner": "nobody"}, per{"block": "bnner"}},
	})); !errors.As(
		err, &p,
	) ||
		len(p) != 1 ||
		p[0].Path != "fields.blocks[1]" {
		t.Errorf("an unknown kind of block: %v", err)
	}
	if _, err := b.apply(page("c", content.Fields{
		"title": per{"en": "C"}, "parent": "winter",
		"blocks": []any{per{"block": "banner", "banner": "nobody"}},
	})); !errors.As(
		err, &p,
	) ||
		len(p) != 2 ||
		p[0].Rule != "types" ||
		p[1].Path != "fields.blocks[0].banner" {
		t.Errorf("references to the wrong type, and to nothing: %v", err)
	}
	b.must(writing.Edit{ID: "winter", Origin: content.Local, Retire: true, EvenIfReferred: true})
	if got := b.state("winter"); got != "retired []" {
		t.Errorf("retired: %s", got)
	}
	if items, _, _ := b.Entries.List(t.Context(), api.EntryFilter{Type: "banner"}, nil); len(items) != 0 {
		t.Errorf("the list shows what is retired: %v", items)
	}
	if items, _, _ := b.Entries.List(t.Context(), api.EntryFilter{RefersTo: "winter"}, nil); len(items) != 1 ||
		items[0].ID != "a" {
		t.Errorf("who refers to it: %v", items)
	}
	b.must(writing.Edit{ID: "winter", Origin: content.Local, Restore: 1})
	if e, _ := b.Entries.Get(t.Context(), "winter"); e.State != content.Draft ||
		e.Revisions[0].Message != "restored revision 1" {
		t.Errorf("restored: %+v", e)
	}
	if all, err := b.Entries.Referrers(t.Context(), b.m, "winter"); err != nil || len(all) != 1 || all[0].Entry != "a" {
		t.Errorf("who refers to what is restored: %v %v", all, err)
	}
}

func TestDraftsAreDiscardedAndCompared(t *testing.T) {
	b := openIslands(t)
	b.must(page("a", content.Fields{"title": per{"en": "One"}}))
	draft := page("a", content.Fields{"title": per{"en": "Two"}})
	draft.Live, draft.Message = writing.KeepLive, "a better word"
	b.must(draft)
	if e, _ := b.Entries.Get(t.Context(), "a"); e.State != content.Revised ||
		e.Revisions[0].Message != "a better word" ||
		e.Revisions[0].By != "tester" {
		t.Errorf("%+v", e.Revisions)
	}
	b.must(writing.Edit{ID: "a", Origin: content.Local, Discard: true})
	if e, _ := b.Entries.Get(t.Context(), "a"); e.State != content.IsPublished ||
		e.Newest["title"].(per)["en"] != "One" ||
		e.Revision != 3 {
		t.Errorf("after discarding: %+v", e)
	}
	if r, err := b.Entries.Revision(t.Context(), "a", 2); err != nil || r.Fields["title"].(per)["en"] != "Two" {
		t.Errorf("the discarded draft is kept: %v %v", r, err)
	}
}

// TestConcurrentWritesShareACommit has many writers at once, some of them
// with something wrong: that is theirs alone.
func TestConcurrentWritesShareACommit(t *testing.T) {
	b := openIslands(t)
	b.must(page("taken", content.Fields{"title": per{"en": "Taken"}}))
	const n = 60
	var wg sync.WaitGroup
	errs := make([]error, n)
	sequences := make([]int64, n)
	for i := range n {
		wg.Go(func() {
			fields := content.Fields{"title": per{"en": fmt.Sprintf("Page %d", i)}}
			switch i % 10 {
			case 3:
				fields["slug"] = "taken"
			case 7:
				fields = content.Fields{"titel": "x"}
			}
			var done writing.Applied
			done, errs[i] = b.apply(page(fmt.Sprintf("p%d", i), fields))
			sequences[i] = done.Sequence
		})
	}
	wg.Wait()
	seen := map[int64]bool{}
	for i, err := range errs {
		if bad := i%10 == 3 || i%10 == 7; bad != (err != nil) {
			t.Errorf("writer %d: %v", i, err)
		} else if !bad && (sequences[i] == 0 || seen[sequences[i]]) {
			t.Errorf("writer %d got the sequence %d", i, sequences[i])
		}
		seen[sequences[i]] = true
	}
	if _, total, _ := b.Entries.List(t.Context(), api.EntryFilter{Type: "page"}, nil); total != n/10*8+1 {
		t.Errorf("%d entries", total)
	}
	changes, err := b.Changes.ChangesAfter(t.Context(), changelog.Mark{})
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range changes {
		if i > 0 && c.Commit == changes[i-1].Commit && c.Entry != changes[i-1].Entry {
			t.Errorf("entries %s and %s share the commit %d", c.Entry, changes[i-1].Entry, c.Commit)
		}
	}
	var left int
	if err := b.DB.Pool.QueryRow(t.Context(), `select count(*) from entry where environment = $1 and revision =
		0`, b.Environment).Scan(&left); err != nil ||
		left != 0 {
		t.Errorf("%d entries are half there, %v", left, err)
	}
}

func TestModelsConvertWhatIsStored(t *testing.T) {
	b := openIslands(t)
	b.must(
		page("about", content.Fields{"title": per{"en": "About", "nb": "Om"}, "lead": per{"en": "Lead"}}),
		page("boats", content.Fields{"title": per{"en": "Boats"}, "parent": "about"}),
		writing.Edit{
			ID:     "l",
			Type:   "page",
			Origin: content.Local,
			Save:   content.Fields{"title": per{"en": "L"}, "text": per{"en": "[boats](ref:boats)"}},
			Live:   writing.PublishNewest,
		},
	)
	apply := func(o writing.ModelOptions, replacements ...string) error {
		err := b.Writer.ApplyModel(
			t.Context(), testkit.Model(t, strings.NewReplacer(replacements...).Replace(islands)),
			content.Cause{Kind: "model"}, o,
		)
		b.m, b.v, _ = b.Changes.Model(t.Context())
		return err
	}
	var loss *writing.LossError
	if err := apply(writing.ModelOptions{}, "      lead: {kind: text, translated: true}\n", ""); !errors.As(
		err, &loss,
	) ||
		len(loss.Consequences) != 1 ||
		loss.Consequences[0].Entries != 1 {
		t.Errorf("a field with values goes: %v", err)
	}
	if b.v != 1 {
		t.Errorf("a refused model made version %d", b.v)
	}
	if err := apply(writing.ModelOptions{IfVersion: 9}); !errors.Is(err, db.ErrModelMoved) {
		t.Errorf("another version: %v", err)
	}
	told := 0
	if err := apply(writing.ModelOptions{Progress: func(done, total int) { told = done }}, "lead: {kind: text,",
		"standfirst: {was: lead, kind: text,", `path: "/{parent.path}/{slug}"`,
		`path: {en: "/{parent.path}/{slug}", nb: "/no/{slug}"}`); err != nil {
		t.Fatal(err)
	}
	if got := b.read("published", "en", "about", "standfirst"); got != `{"id":"about","standfirst":"Lead"}` ||
		told == 0 {
		t.Errorf("renamed: %s, progress %d", got, told)
	}
	if r, err := b.Entries.Revision(t.Context(), "about", 1); err != nil || r.Fields["standfirst"] == nil ||
		r.Fields["lead"] != nil {
		t.Errorf("the old revision has %v, %v", r.Fields, err)
	}
	if got := b.read("published", "nb", "l", "text(inline)"); !strings.Contains(got, `/no/boats`) {
		t.Errorf("a link after its target moved: %s", got)
	}
	e, err := b.Entries.Get(t.Context(), "boats")
	if err != nil || !slices.Contains(e.FormerPaths, "/about/boats") {
		t.Errorf("former paths %v, %v", e.FormerPaths, err)
	}
	all, err := b.Writer.Consequences(t.Context(), b.m, testkit.Model(t, islands))
	if err != nil || all[0].Severity != model.Loses || all[0].Entries != 1 {
		t.Errorf("%v %v", all, err)
	}
	if err := apply(writing.ModelOptions{AllowLoss: true}, "  page:\n", "  leaf:\n    was: "+
		"page\n", "types: [page]", "types: [leaf]"); err != nil {
		t.Fatal(err)
	}
	if e, err := b.Entries.Get(t.Context(), "boats"); err != nil || e.Type != "leaf" {
		t.Errorf("a renamed type: %v %v", e.Type, err)
	}
	if err := apply(writing.ModelOptions{}, "types:\n  page:", "types:\n  leaf:", "types: [page]", "types: [leaf]",
		"ja: {}", "ja: {retired: true}"); err != nil {
		t.Fatal(err)
	}
	if covered, err := b.Entries.Coverages(t.Context(), b.m.Tags()); err != nil || len(covered) != 2 ||
		covered[0].Translated != 3 ||
		covered[1].Locale != "nb" ||
		covered[1].FilledIn != 2 {
		t.Errorf("coverage %+v, %v", covered, err)
	}
}

func TestSchedulesAreCarriedOutOnce(t *testing.T) {
	b := openIslands(t)
	b.must(writing.Edit{ID: "a", Type: "page", Origin: content.Local, Save: content.Fields{"title": per{"en": "A"}}})
	if _, err := b.Schedules.Add(t.Context(), api.Schedule{
		Entry: "a", Action: "publish",
		At: time.Now().Add(-time.Hour), Zone: "UTC", By: "x",
	}); !errors.Is(
		err, entries.ErrPast,
	) {
		t.Errorf("a moment that is over: %v", err)
	}
	all, err := b.Schedules.Add(
		t.Context(),
		api.Schedule{Entry: "a", Action: "publish", At: time.Now().Add(time.Hour), Zone: "UTC", By: "x"},
	)
	if err != nil || len(all) != 1 || b.state("a") != "scheduled []" {
		t.Fatalf("%v, %s", err, b.state("a"))
	}
	s := all[0]
	edit := writing.Edit{
		ID:              "a",
		Origin:          content.Local,
		Live:            writing.PublishNewest,
		PublishRevision: s.Revision,
		Schedule:        s.ID,
	}
	var wg sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		wg.Go(func() { _, errs[i] = b.apply(edit) })
	}
	wg.Wait()
	gone := 0
	for _, err := range errs {
		if errors.Is(err, writing.ErrScheduleGone) {
			gone++
		} else if err != nil {
			t.Error(err)
		}
	}
	if gone != 3 || b.state("a") != "published [en]" {
		t.Errorf("%d of 4 came too late; %s", gone, b.state("a"))
	}
	if err := b.Schedules.End(t.Context(), s.ID, entries.ScheduleCancelled, ""); !errors.Is(
		err, writing.ErrScheduleGone,
	) {
		t.Errorf("cancelling what is done: %v", err)
	}
	if _, err := b.Schedules.Get(t.Context(), "nonsense"); !errors.Is(err, db.ErrNotFound) {
		t.Errorf("an id that is none: %v", err)
	}
}

func TestPresence(t *testing.T) {
	b := openIslands(t)
	see := func(session, who, field string) string {
		others, err := b.Entries.RecordPresence(t.Context(), "a", session, who, field)
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(others)
	}
	see("s1", "ada", "")
	if got := see("s1", "ada", "title"); got != "[]" {
		t.Errorf("ada alone sees %s", got)
	}
	if got := see("s2", "bo", ""); got != "[{ada title}]" {
		t.Errorf("bo sees %s", got)
	}
	see("s1", "", "")
	if got := see("s2", "bo", ""); got != "[]" {
		t.Errorf("after ada has left, bo sees %s", got)
	}
}

func TestBackReferencesAreListsOfTheirOwn(t *testing.T) {
	b := openIslands(t)
	b.must(page("a", content.Fields{"title": per{"en": "A"}}), page("z", content.Fields{"title": per{"en": "Z"}}))
	for i := range 5 {
		b.must(
			page(
				fmt.Sprintf("c%d", i),
				content.Fields{"title": per{"en": fmt.Sprintf("C%d", i)}, "parent": []string{"a", "z"}[i%2]},
			),
		)
	}
	for selection, want := range map[string]string{
		"children[limit=2,sort=-title](title)": `{"id":"a","children":[{"id":"c4","title":"C4"},{"id":"c2","title":"C2"}]}`,
		"children[sort=title]":                 `{"id":"a","children":[{"id":"c0","about":{"type":"page"},"slug":"c0"},{"id":"c2","about":{"type":"page"},"slug":"c2"},{"id":"c4","about":{"type":"page"},"slug":"c4"}]}`,
		"children[limit=1,sort=title](parent(children[limit=1,sort=title](title)))": `{"id":"a","children":[{"id":"c0","parent":{"id":"a","children":[{"id":"c0","title":"C0"}]}}]}`,
	} {
		if got := b.read("published", "nb", "a", selection); got != want {
			t.Errorf("%s: %s", selection, got)
		}
	}
	if got := b.read("published", "en", "z", "children(title,children(title))"); !strings.Contains(got, `"C1"`) ||
		!strings.Contains(got, `"children":[]`) {
		t.Errorf("z: %s", got)
	}
	src, _ := json.Marshal(b.m) // it was read from text
	if m, err := model.FromJSON(src); err != nil || len(m.Backs("page")) != 1 {
		t.Errorf("the stored model loses its ways back: %v", err)
	}
}
