package writing

import (
	"fmt"
	"reflect"
	"slices"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/db"
)

func (a *advancing) publish(revision int, live content.Fields) {
	n := &a.next
	now := a.tx.now
	n.PublishedRevision, n.live, n.Published, n.Retired, n.Withheld = revision, live, &now, nil, false
	if a.e.PublishedAt != nil {
		n.Published = a.e.PublishedAt
	}
	if n.FirstPublished == nil {
		n.FirstPublished = n.Published
		if a.e.FirstPublishedAt != nil {
			n.FirstPublished = a.e.FirstPublishedAt
		}
	}
	n.Review = ""
}

func (a *advancing) publishNewest() error {
	e, n := a.e, &a.next
	revision, newest := n.Revision, n.newest
	if e.PublishRevision != 0 && e.PublishRevision != n.Revision {
		if revision, newest = e.PublishRevision, n.revisions[e.PublishRevision]; newest == nil {
			return fmt.Errorf("revision %d of entry %s: %w", revision, e.ID, db.ErrNotFound)
		}
	}
	if a.t.Approval && n.Origin == content.Local && e.Origin == content.Local && e.Schedule == "" &&
		n.Review != content.Approved {
		return content.Problems{
			{
				Entry: e.ID,
				Path:  "do",
				Rule:  "approval",
				Text: fmt.Sprintf(
					"revision %d is not approved, and %s is published only after approval; submit it for review",
					revision, a.t.Label,
				),
			},
		}
	}
	locales := e.Locales
	var p content.Problems
	if locales != nil {
		written := content.WrittenIn(a.t, newest)
		for _, tag := range locales {
			if a.t.HasTranslations() && !slices.Contains(written, tag) {
				p = append(
					p,
					content.Problem{
						Entry: e.ID,
						Path:  "locales",
						Rule:  "locale",
						Text:  fmt.Sprintf("nothing is written in %s yet", tag),
					},
				)
			}
		}
		if !a.t.HasTranslations() {
			locales = nil
		}
	}
	live := content.Publish(a.t, n.live, newest, locales)
	want := content.For{Publish: true}
	if e.Origin == content.Local {
		if want.Locales = locales; locales == nil {
			want.Locales = a.active(content.WrittenIn(a.t, newest))
		}
	}
	if p = append(p, content.Check(a.tx.m, a.t, e.ID, live, want)...); len(p) > 0 {
		return p
	}
	if n.PublishedRevision == 0 || !reflect.DeepEqual(live, n.live) || n.PublishedRevision != revision {
		a.publish(revision, live)
	}
	return nil
}

// active are those of the locales that are not retired.
func (a *advancing) active(tags []string) []string {
	return slices.DeleteFunc(slices.Clone(tags), func(tag string) bool { _, ok := a.tx.m.Locale(tag); return !ok })
}

func (a *advancing) takeBack(locales []string) {
	n := &a.next
	if n.live = content.TakeBack(a.t, n.live, locales); n.live == nil {
		n.PublishedRevision, n.Published = 0, nil
	}
}

// review notes what is said of the newest revision.
func (a *advancing) review() error {
	n, e := &a.next, a.e
	refuse := func(text string) error {
		return content.Problems{{Entry: e.ID, Path: "do", Rule: "review", Text: text}}
	}
	switch {
	case e.Review == content.Submitted && n.PublishedRevision == n.Revision && !n.Behind:
		return refuse("there is nothing new to review: what was last saved is published")
	case e.Review != content.Submitted && n.Review != content.Submitted && n.Review != content.Approved:
		return refuse("it is not in review; submit it first")
	case e.Review == content.Approved && a.t.Approval && n.writer == a.w.by:
		return refuse(
			fmt.Sprintf("revision %d was written by %s too; somebody else must approve it", n.Revision, a.w.by),
		)
	}
	n.Review = e.Review
	a.tx.out.reviews = append(
		a.tx.out.reviews,
		reviewRow{
			Entry:  e.ID,
			Review: api.Review{Revision: n.Revision, At: a.tx.now, By: a.w.by, What: e.Review, Remark: e.Remark},
		},
	)
	return nil
}
