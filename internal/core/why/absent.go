package why

import (
	"fmt"
	"strings"
)

// absent says why there may be no entry of that name.
func (x *explanation) absent() {
	if m := x.Moved; m != nil {
		what, now := "slug", m.Slug
		if strings.HasPrefix(x.Asked, "/") {
			what, now = "path", m.Path
		}
		x.say(
			Moved,
			fmt.Sprintf("the %s of “%s” is %s by now; %s was its %s before", what, m.Title, now, x.Asked, what),
			Remedy{Says: "Ask for " + now, Command: "ubiquon why " + now, Page: "/entries/" + m.ID},
		)
		return
	}
	text := fmt.Sprintf("there is no entry with the id, slug or path %s", x.Asked)
	var mends []Remedy
	for _, n := range x.Near {
		mends = append(
			mends, Remedy{Says: "Ask for " + n.Slug, Command: "ubiquon why " + n.Slug, Page: "/entries/" + n.ID},
		)
	}
	if len(x.Near) > 0 {
		text += fmt.Sprintf("; the nearest is %s (%s “%s”)", x.Near[0].Slug, x.Near[0].Type, x.Near[0].Title)
	}
	x.say(NoEntry, text, mends...)
	for _, u := range x.Untaken {
		x.say(
			NotTaken,
			fmt.Sprintf(
				"the origin %s has it, as %s %s, but since %s it could not be taken over: %s", u.Origin, u.Type,
				u.Key, moment(u.Since), u.Reason,
			),
			Remedy{Says: "Look at what could not be taken over", Command: "ubiquon origin show " + u.Origin, Page: "/"},
		)
	}
	if len(x.Untaken) > 0 {
		return
	}
	var texts []string
	for _, o := range x.Origins {
		heard := "it has announced nothing yet"
		if o.LastHeard != nil {
			heard = "its last announcement came at " + moment(*o.LastHeard)
		}
		if o.LastRefused != nil {
			heard += fmt.Sprintf(
				"; the last one that was refused came at %s: %s", moment(*o.LastRefused), o.RefusedBecause,
			)
		}
		texts = append(texts, fmt.Sprintf(
			"the origin %s, where %s is written, has not sent it; %s", o.Name, strings.Join(o.Types, ", "), heard,
		))
	}
	if len(texts) > 0 {
		x.say(
			NotSent, strings.Join(texts, "; "),
			Remedy{Says: "Look at what it sent", Command: "ubiquon event list", Page: "/events"},
		)
	}
}
