package why

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
)

// Reason is one thing that keeps a reader from seeing an entry.
type Reason struct {
	// Code names the kind of reason for programs, as in draft or no-grant.
	Code string `json:"code"`
	// Text says it in a sentence.
	Text string `json:"text"`
	// Mends are what would change it, the best first.
	Mends []Mend `json:"mends"`
}

// Mend is one way to change what keeps a reader from seeing an entry.
type Mend struct {
	// Says what it does, as on a button.
	Says    string `json:"says"`
	Command string `json:"command"`
	// Request of the control endpoints that does it at once, if one can.
	Request *Request `json:"request,omitempty"`
	// Page of the console on which it is done, if it takes more than one request.
	Page string `json:"page,omitempty"`
	// Link leads outside, to where the entry is edited.
	Link string `json:"link,omitempty"`
}

// Request is a request of the control endpoints.
type Request struct {
	Method string `json:"method"`
	Path   string `json:"path"`
	Body   any    `json:"body"`
}

// The codes of reasons.
const (
	NoEntry          = "no-entry"
	NotSent          = "not-sent"
	NotTaken         = "not-taken"
	Moved            = "moved"
	Retired          = "retired"
	Withheld         = "withheld"
	Draft            = "draft"
	InReview         = "in-review"
	Scheduled        = "scheduled"
	Unpublished      = "unpublished"
	KeyMalformed     = "key-malformed"
	KeyUnknown       = "key-unknown"
	KeyElsewhere     = "key-elsewhere"
	KeyExpired       = "key-expired"
	KeyRevoked       = "key-revoked"
	KeyRotated       = "key-rotated"
	NotOpen          = "not-open"
	NoGrant          = "no-grant"
	LocaleNotGranted = "locale-not-granted"
	UnknownLocale    = "unknown-locale"
	NotTranslated    = "not-translated"
	OtherLocales     = "other-locales"
	NoPath           = "no-path"
	AnotherList      = "another-list"
	OnlyTranslated   = "only-translated"
	FilteredOut      = "filtered-out"
	OnAnotherPage    = "on-another-page"
	ReferenceLeftOut = "reference-left-out"
)

// Explain returns every reason why the reader does not see the entry, none if it
// does; and what it does not see of an entry that it sees.
func Explain(f Facts) (reasons, remarks []Reason) {
	x := &explanation{Facts: f}
	x.entry()
	x.reader()
	x.locale()
	x.path()
	x.list()
	if len(x.reasons) == 0 {
		x.leftOut()
	}
	return x.reasons, x.remarks
}

type explanation struct {
	Facts
	reasons, remarks []Reason
}

func (x *explanation) say(code, text string, mends ...Mend) {
	x.reasons = append(x.reasons, Reason{Code: code, Text: text, Mends: append([]Mend{}, mends...)})
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

// named is how an entry is spoken of.
func (e *Entry) named() string {
	if e.Title != "" {
		return "“" + e.Title + "”"
	}
	return "entry " + e.ID
}

func edit(id, do string, more map[string]any) *Request {
	one := map[string]any{"id": id, "do": do}
	for name, v := range more {
		one[name] = v
	}
	return &Request{Method: "POST", Path: "/edits", Body: map[string]any{"edits": []any{one}}}
}

func (x *explanation) publish() Mend {
	e := x.Entry
	if e.Origin != content.Local {
		return Mend{
			Says:    "Publish it in " + e.Origin,
			Command: "ubiquon event list",
			Link:    e.EditAt,
			Page:    "/entries/" + e.ID,
		}
	}
	return Mend{Says: "Publish it", Command: "ubiquon entry publish " + e.ID, Request: edit(e.ID, "publish", nil)}
}

// entry says what about the entry itself keeps readers from it.
func (x *explanation) entry() {
	e := x.Entry
	if e == nil {
		if x.Asked != "" {
			x.absent()
		}
		return
	}
	switch {
	case e.Retired != nil:
		x.say(
			Retired,
			fmt.Sprintf("%s was retired at %s; it is kept, and shown to nobody", e.named(), moment(*e.Retired)),
			Mend{
				Says:    "Publish it again",
				Command: "ubiquon entry publish " + e.ID,
				Request: edit(e.ID, "publish", nil),
			},
		)
		return
	case e.Withheld:
		x.say(
			Withheld,
			fmt.Sprintf(
				"%s was handed in from outside; it is shown to nobody, not even in preview, before it is published",
				e.named(),
			),
			x.publish(),
		)
		return
	}
	if x.Edition != content.Published || e.PublishedRevision > 0 {
		return
	}
	if e.TakenBackAt != nil {
		by := ""
		if e.TakenBackBy != "" {
			by = " by " + e.TakenBackBy
		}
		x.say(
			Unpublished, fmt.Sprintf("%s was taken back%s at %s", e.named(), by, moment(*e.TakenBackAt)), x.publish(),
		)
	} else {
		x.say(Draft, fmt.Sprintf("%s is a draft: it was saved %s, and never published", e.named(),
			times(e.Revision)), x.publish())
	}
	if e.Review == content.Submitted {
		mend := Mend{
			Says:    "Approve it",
			Command: "ubiquon entry approve " + e.ID,
			Request: edit(e.ID, "approve", nil),
		}
		since := ""
		if e.ReviewAt != nil {
			since = fmt.Sprintf(" since %s, submitted by %s", moment(*e.ReviewAt), e.ReviewBy)
		}
		x.say(InReview, fmt.Sprintf("revision %d is in review%s; nobody has decided yet", e.Revision, since), mend)
	}
	if s := e.WillPublish; s != nil {
		x.say(
			Scheduled,
			fmt.Sprintf(
				"it is scheduled to be published at %s (in %s)", s.At.In(zone(s.Zone)).Format("2006-01-02 15:04:05"),
				s.Zone,
			),
			x.publish(),
			Mend{
				Says:    "Move the moment",
				Command: "ubiquon schedule move " + s.ID + " --at …",
				Page:    "/entries/" + e.ID,
			},
		)
	}
}

func zone(name string) *time.Location {
	if l, err := time.LoadLocation(name); err == nil {
		return l
	}
	return time.UTC
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

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
			Mend{Says: "Ask for " + now, Command: "ubiquon why " + now, Page: "/entries/" + m.ID},
		)
		return
	}
	text := fmt.Sprintf("there is no entry with the id, slug or path %s", x.Asked)
	var mends []Mend
	for _, n := range x.Near {
		mends = append(
			mends, Mend{Says: "Ask for " + n.Slug, Command: "ubiquon why " + n.Slug, Page: "/entries/" + n.ID},
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
			Mend{Says: "Look at what could not be taken over", Command: "ubiquon origin show " + u.Origin, Page: "/"},
		)
	}
	if len(x.Untaken) > 0 {
		return
	}
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
		x.say(
			NotSent,
			fmt.Sprintf(
				"the origin %s, where %s is written, has not sent it; %s", o.Name, strings.Join(o.Types, ", "), heard,
			),
			Mend{Says: "Look at what it sent", Command: "ubiquon event list", Page: "/events"},
		)
	}
}

// reader says what about the reader keeps it from entries of the type.
func (x *explanation) reader() {
	r := &x.Reader
	key := r.Name
	again := Mend{
		Says:    "Make a new key",
		Command: "ubiquon key create NAME --grant \"" + x.grant() + "\"",
		Page:    "/keys",
	}
	when := func() string {
		if r.Since == nil {
			return ""
		}
		return " at " + moment(*r.Since)
	}
	switch r.Problem {
	case "malformed":
		x.say(KeyMalformed, "this is no key of ours: its form or its checksum is wrong; was it copied whole?", again)
		return
	case "unknown":
		x.say(KeyUnknown, "the key is not known here", again)
		return
	case "elsewhere":
		x.say(KeyElsewhere, fmt.Sprintf("the key belongs to the environment %s", r.Environment), again)
		return
	case "expired":
		x.say(
			KeyExpired,
			fmt.Sprintf("the key %s expired%s", key, when()),
			Mend{
				Says:    "Extend it by 90 days",
				Command: "ubiquon key extend " + r.ID + " --days 90",
				Request: &Request{"PATCH", "/keys/" + r.ID, map[string]any{"days": 90}},
			},
			again,
		)
	case "revoked":
		x.say(KeyRevoked, fmt.Sprintf("the key %s was revoked%s", key, when()), again)
	case "rotated":
		x.say(
			KeyRotated,
			fmt.Sprintf(
				"the key %s was rotated, and its former secret ended%s; the front end must take the new one", key,
				when(),
			),
			Mend{Says: "Rotate it again", Command: "ubiquon key rotate " + r.ID, Page: "/keys"},
		)
	}
	if x.Type == nil || r.Rights.Allows(x.need()) {
		return
	}
	missing, _ := r.Rights.Missing([]access.Need{x.need()})
	grant := missing.String()
	open := Mend{
		Says:    "Open it to everyone",
		Command: access.OpenCommand(grant),
		Request: &Request{"PATCH", "/open", map[string]any{"add": []string{grant}}},
	}
	give := Mend{
		Says:    "Give the grant to the key",
		Command: fmt.Sprintf("ubiquon key grant %s %q", r.ID, grant),
		Request: &Request{"PATCH", "/keys/" + r.ID, map[string]any{"add": []string{grant}}},
	}
	switch {
	case missing.Locale != "":
		x.say(
			LocaleNotGranted,
			fmt.Sprintf(
				"%s may %s %s %s, but not in %s", x.who(), missing.Verb, missing.Edition, missing.Type,
				missing.Locale,
			),
			x.forReader(give, open)...)
	case r.Kind == access.Everyone:
		x.say(
			NotOpen,
			fmt.Sprintf("%s %s are not open to everyone, and no key was sent", x.Edition, x.Type.Plural),
			append(x.forReader(give, open), again)...)
	default:
		x.say(NoGrant, fmt.Sprintf("%s lacks the grant “%s”", x.who(), grant), x.forReader(give, open)...)
	}
}

// forReader leaves out of the mends what does not fit who reads.
func (x *explanation) forReader(give, open Mend) []Mend {
	var out []Mend
	if x.Reader.Kind == access.ByKey && x.Reader.ID != "" {
		out = append(out, give)
	}
	if open.Command != "" {
		out = append(out, open)
	}
	return out
}

func (x *explanation) who() string {
	switch x.Reader.Kind {
	case access.Everyone:
		return "everyone"
	case access.ByKey:
		return "the key " + x.Reader.Name
	}
	return x.Reader.Name
}

// grant is what a new key would need.
func (x *explanation) grant() string {
	need := x.need()
	need.Locale = ""
	return need.String()
}

func (x *explanation) need() access.Need {
	typ := access.Any
	if x.Type != nil {
		typ = x.Type.Name
	}
	locale := x.Locale
	if x.UnknownLocale {
		locale = ""
	}
	return access.Need{Verb: access.Read, Edition: x.Edition, Type: typ, Locale: locale}
}

// locale says what about the locale keeps the entry from readers.
func (x *explanation) locale() {
	if x.UnknownLocale {
		text := fmt.Sprintf("there is no locale %s", x.Locale)
		if x.NearLocale != "" {
			text += "; did you mean " + x.NearLocale + "?"
		}
		x.say(UnknownLocale, text, Mend{Says: "See the locales", Command: "ubiquon locale list", Page: "/settings"})
		return
	}
	e := x.Entry
	if e == nil || !e.HasTranslations || e.HasDocument || e.Retired != nil || e.Withheld {
		return
	}
	shown := e.Live
	if x.Edition != content.Published {
		shown = e.Written
	} else if e.PublishedRevision == 0 {
		shown = e.Written // it would be, once it is published
	}
	reaches := func(tags []string) bool {
		return slices.ContainsFunc(x.Chain, func(tag string) bool { return slices.Contains(tags, tag) })
	}
	if reaches(shown) {
		return
	}
	if e.PublishedRevision > 0 && x.Edition == content.Published && reaches(e.Written) {
		x.say(
			OtherLocales,
			fmt.Sprintf(
				"it is published in %s only; what is written in %s is saved, and not published",
				strings.Join(e.Live, ", "), x.Locale,
			),
			Mend{
				Says:    "Publish it in " + x.Locale,
				Command: fmt.Sprintf("ubiquon entry publish %s --locale %s", e.ID, x.Locale),
				Request: edit(e.ID, "publish", map[string]any{"locales": []string{x.Locale}}),
			},
		)
		return
	}
	falls := "falls back to nothing"
	if len(x.Chain) > 1 {
		falls = "falls back to " + strings.Join(x.Chain[1:], ", ") + ", where nothing is written either"
	}
	x.say(
		NotTranslated,
		fmt.Sprintf("nothing of it is written in %s, and %s %s", x.Locale, x.Locale, falls),
		Mend{
			Says:    "Translate it",
			Command: fmt.Sprintf("ubiquon entry edit %s", e.ID),
			Page:    "/entries/" + e.ID + "?beside=" + x.Locale,
		},
		Mend{
			Says:    "Have " + x.Locale + " fall back",
			Command: fmt.Sprintf("ubiquon locale change %s --fallback %s", x.Locale, x.DefaultLocale),
			Page:    "/settings",
		},
	)
}

// path says why nothing is found at the path of an entry that is there.
func (x *explanation) path() {
	e := x.Entry
	if e == nil || !e.AskedByPath || !e.HasDocument || e.Path != "" {
		return
	}
	text := "it has no path in this edition and locale"
	var mends []Mend
	if p := e.Parent; p != nil {
		text += fmt.Sprintf(", since “%s”, below which it lives, is not published", p.Title)
		mends = append(
			mends,
			Mend{
				Says:    "Publish " + p.Title,
				Command: "ubiquon entry publish " + p.ID,
				Request: edit(p.ID, "publish", nil),
			},
		)
	}
	x.say(NoPath, text, mends...)
}

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
			Mend{
				Says:    "Translate it",
				Command: fmt.Sprintf("ubiquon entry edit %s", x.Entry.ID),
				Page:    "/entries/" + x.Entry.ID + "?beside=" + x.Locale,
			},
			Mend{
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
				Mend{
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
			Mend{Says: "Ask for the next page", Command: "ubiquon read '" + l.Asked + "' --headers"},
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
				Mend{
					Says:    "Give the grant to the key",
					Command: fmt.Sprintf("ubiquon key grant %s %q", x.Reader.ID, l.Grant),
					Request: &Request{"PATCH", "/keys/" + x.Reader.ID, map[string]any{"add": []string{l.Grant}}},
				},
				Mend{
					Says:    "Open it to everyone",
					Command: access.OpenCommand(l.Grant),
					Request: &Request{"PATCH", "/open", map[string]any{"add": []string{l.Grant}}},
				},
			)
		} else {
			r.Text = fmt.Sprintf("in %s, “%s” (%s) is left out: it is not published", l.Field, l.Title, l.Type)
			r.Mends = []Mend{{Says: "Ask why", Command: "ubiquon why " + l.ID, Page: "/entries/" + l.ID}}
			if l.Local {
				r.Mends = append([]Mend{{Says: "Publish it", Command: "ubiquon entry publish " + l.ID,
					Request: edit(l.ID, "publish", nil)}}, r.Mends...)
			}
		}
		x.remarks = append(x.remarks, r)
	}
}
