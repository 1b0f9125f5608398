package why

import (
	"fmt"
	"strings"

	"ubiquon/internal/core/access"
)

// list says what about a list keeps the entry out of it.
func (x *explanation) list() {
	l := x.List
	if l == nil || x.Entry == nil || x.Type == nil {
		return
	}
	switch {
	case l.Type != x.Type.Name:
		x.say(
			AnotherList,
			fmt.Sprintf("%s lists entries of type %s, and this one is a %s", l.Asked, l.Type, x.Type.Name),
		)
	case len(x.reasons) > 0 || l.Shown:
	case l.OnlyTranslated && x.Entry.FilledIn:
		x.say(
			OnlyTranslated,
			fmt.Sprintf(
				"the list asks for translated=only, and in %s all of it is filled in from %s", x.Locale,
				strings.Join(x.Chain[1:], ", "),
			),
			Remedy{
				Says:    "Translate it",
				Command: fmt.Sprintf("ubiquon entry edit %s", x.Entry.ID),
				Page:    "/entries/" + x.Entry.ID + "?beside=" + x.Locale,
			},
			Remedy{
				Says: "Ask with translated=fallback",
				Command: "ubiquon read '" + strings.Replace(
					l.Asked, "translated=only", "translated=fallback", 1,
				) + "'",
			},
		)
	case len(l.Untrue) > 0:
		for _, p := range l.Untrue {
			x.say(
				FilteredOut,
				fmt.Sprintf(
					"the list's own filter leaves it out: %s is not true, for %s", p.Text,
					strings.Join(p.Values, ", "),
				),
				Remedy{
					Says:    "Change the entry",
					Command: "ubiquon entry edit " + x.Entry.ID,
					Page:    "/entries/" + x.Entry.ID,
				},
			)
		}
	case l.Place > 0:
		x.say(
			OnAnotherPage,
			fmt.Sprintf(
				"the list is sorted by %s, and the entry is number %d of it; this page has %d at most", l.Sort,
				l.Place, l.Limit,
			),
			Remedy{Says: "Ask for the next page", Command: "ubiquon read '" + l.Asked + "' --headers"},
		)
	}
}

// leftOut remarks on what of the entry the reader does not see.
func (x *explanation) leftOut() {
	if x.Entry == nil {
		return
	}
	for _, l := range x.Entry.LeftOut {
		r := Reason{Code: ReferenceLeftOut}
		if l.Grant != "" {
			r.Text = fmt.Sprintf(
				"in %s, “%s” (%s) is left out: %s lacks the grant “%s”", l.Field, l.Title, l.Type, x.who(), l.Grant,
			)
			r.Mends = x.forReader(
				Remedy{
					Says:    "Give the grant to the key",
					Command: fmt.Sprintf("ubiquon key grant %s %q", x.Reader.ID, l.Grant),
					Request: &Request{"PATCH", "/keys/" + x.Reader.ID, map[string]any{"add": []string{l.Grant}}},
				},
				Remedy{
					Says:    "Open it to everyone",
					Command: access.OpenCommand(l.Grant),
					Request: &Request{"PATCH", "/open", map[string]any{"add": []string{l.Grant}}},
				},
			)
		} else {
			r.Text = fmt.Sprintf("in %s, “%s” (%s) is left out: it is not published", l.Field, l.Title, l.Type)
			r.Mends = []Remedy{{Says: "Ask why", Command: "ubiquon why " + l.ID, Page: "/entries/" + l.ID}}
			if l.Local {
				r.Mends = append([]Remedy{{
					Says: "Publish it", Command: "ubiquon entry publish " + l.ID,
					Request: edit(l.ID, "publish", nil),
				}}, r.Mends...)
			}
		}
		x.remarks = append(x.remarks, r)
	}
}
