package why

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/content"
)

// Reason is one thing that keeps a reader from seeing an entry.
type Reason struct {
	// Code names the kind of reason for programs, as in draft or no-grant.
	Code string `json:"code"`
	// Text says it in a sentence.
	Text string `json:"text"`
	// Mends are what would change it, the best first.
	Mends []Remedy `json:"mends"`
}

// Remedy is one way to change what keeps a reader from seeing an entry.
type Remedy struct {
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

func (x *explanation) say(code, text string, mends ...Remedy) {
	x.reasons = append(x.reasons, Reason{Code: code, Text: text, Mends: append([]Remedy{}, mends...)})
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

func (x *explanation) publish() Remedy {
	e := x.Entry
	if e.Origin != content.Local {
		return Remedy{
			Says:    "Publish it in " + e.Origin,
			Command: "ubiquon event list",
			Link:    e.EditAt,
			Page:    "/entries/" + e.ID,
		}
	}
	return Remedy{Says: "Publish it", Command: "ubiquon entry publish " + e.ID, Request: edit(e.ID, "publish", nil)}
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
			Remedy{
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
		mend := Remedy{
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
			Remedy{
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

// locale says what about the locale keeps the entry from readers.
func (x *explanation) locale() {
	if x.UnknownLocale {
		text := fmt.Sprintf("there is no locale %s", x.Locale)
		if x.NearLocale != "" {
			text += "; did you mean " + x.NearLocale + "?"
		}
		x.say(UnknownLocale, text, Remedy{Says: "See the locales", Command: "ubiquon locale list", Page: "/settings"})
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
			Remedy{
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
		Remedy{
			Says:    "Translate it",
			Command: fmt.Sprintf("ubiquon entry edit %s", e.ID),
			Page:    "/entries/" + e.ID + "?beside=" + x.Locale,
		},
		Remedy{
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
	var mends []Remedy
	if p := e.Parent; p != nil {
		text += fmt.Sprintf(", since “%s”, below which it lives, is not published", p.Title)
		mends = append(
			mends,
			Remedy{
				Says:    "Publish " + p.Title,
				Command: "ubiquon entry publish " + p.ID,
				Request: edit(p.ID, "publish", nil),
			},
		)
	}
	x.say(NoPath, text, mends...)
}
