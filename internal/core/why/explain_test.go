package why

import (
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/filter"
)

var at = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// visible is an entry that everyone sees; each case spoils something.
func visible() Facts {
	return Facts{
		Asked: "fog", Edition: "published", Locale: "nb", DefaultLocale: "en", Chain: []string{"nb", "en"}, Now: at,
		Reader: Reader{
			Kind:   access.ByKey,
			Name:   "web",
			ID:     "k1",
			Rights: access.Rights{Own: access.Grants{{Verb: "read", Edition: "published", Type: "notice"}}},
		},
		Type: &Type{Name: "notice", Plural: "notices", Label: "Notice"},
		Entry: &Entry{
			ID:                "e1",
			Title:             "Fog",
			Slug:              "fog",
			Origin:            "local",
			Revision:          2,
			PublishedRevision: 2,
			Written:           []string{"en"},
			Live:              []string{"en"},
			HasTranslations:   true,
			HasDocument:       true,
			FilledIn:          true,
			Path:              "/notices/fog",
		},
	}
}

func TestEveryReason(t *testing.T) {
	unpublish := func(f *Facts) { f.Entry.PublishedRevision, f.Entry.Live, f.Entry.HasDocument = 0, nil, false }
	absent := func(f *Facts) { f.Entry, f.Type = nil, nil }
	for name, c := range map[string]struct {
		spoil   func(*Facts)
		codes   string
		says    string
		command string
	}{
		"nothing wrong": {func(*Facts) {}, "", "", ""},
		"no such entry": {func(f *Facts) {
			absent(f)
			f.Near = []Near{{
				ID: "e2", Type: "notice", Slug: "frog",
				Title: "Frog",
			}}
		}, NoEntry, "the nearest is frog", "ubiquon why frog"},
		"not sent": {func(f *Facts) {
			absent(f)
			f.Origins = []Origin{{
				Name: "office", Types: []string{"page"}, LastHeard: &at, LastRefused: &at,
				RefusedBecause: "not proven",
			}}
		}, NoEntry + " " + NotSent, "no entry", ""},
		"the slug changed": {func(f *Facts) {
			absent(f)
			f.Moved = &Near{
				ID: "e1", Slug: "fog-lifts",
				Title: "Fog",
			}
		}, Moved, "is fog-lifts by now", "ubiquon why fog-lifts"},
		"the path changed": {func(f *Facts) {
			absent(f)
			f.Asked = "/a"
			f.Moved = &Near{
				ID: "e1", Path: "/b",
				Title: "Fog",
			}
		}, Moved, "the path", "ubiquon why /b"},
		"retired": {
			func(f *Facts) { unpublish(f); f.Entry.Retired = &at }, Retired,
			"2026-11-23 08:00:00 UTC", "ubiquon entry publish e1",
		},
		"handed in": {
			func(f *Facts) { unpublish(f); f.Entry.Withheld = true }, Withheld,
			"not even in preview", "ubiquon entry publish e1",
		},
		"a draft": {unpublish, Draft, "saved 2 times, and never published", "ubiquon entry publish e1"},
		"an outside draft": {func(f *Facts) {
			unpublish(f)
			f.Entry.Origin, f.Entry.EditAt = "office", "http://office"
		}, Draft, "draft", "ubiquon event list"},
		"in review": {func(f *Facts) {
			unpublish(f)
			f.Entry.Review, f.Entry.ReviewAt, f.Entry.ReviewBy = "submitted", &at, "tilda"
		}, Draft + " " + InReview, "", ""},
		"scheduled": {func(f *Facts) {
			unpublish(f)
			f.Entry.WillPublish = &Schedule{
				ID: "s1", At: at,
				Zone: "Europe/Oslo",
			}
		}, Draft + " " + Scheduled, "", ""},
		"taken back": {
			func(f *Facts) { unpublish(f); f.Entry.TakenBackAt, f.Entry.TakenBackBy = &at, "tilda" },
			Unpublished, "taken back by tilda at 2026-11-23", "ubiquon entry publish e1",
		},
		"no key, not open": {
			func(f *Facts) { f.Reader = Reader{Kind: access.Everyone, Name: "everyone"} },
			NotOpen, "notices are not open", "ubiquon open notice",
		},
		"a grant is missing": {
			func(f *Facts) { f.Reader.Rights.Own[0].Type = "route" }, NoGrant,
			"lacks the grant “read published notice”", `ubiquon key grant k1 "read published notice"`,
		},
		"another edition": {
			func(f *Facts) { f.Edition = "preview" }, NoGrant, "read preview notice",
			`ubiquon key grant k1 "read preview notice"`,
		},
		"limited to locales": {
			func(f *Facts) { f.Reader.Rights.Own[0].Locales = []string{"en"} }, LocaleNotGranted,
			"but not in nb", `ubiquon key grant k1 "read published notice in nb"`,
		},
		"expired": {
			func(f *Facts) { f.Reader.Problem, f.Reader.Since = "expired", &at }, KeyExpired,
			"the key web expired at 2026", "ubiquon key extend k1 --days 90",
		},
		"revoked": {
			func(f *Facts) { f.Reader.Problem, f.Reader.Since = "revoked", &at }, KeyRevoked,
			"revoked at", "ubiquon key create",
		},
		"rotated": {
			func(f *Facts) { f.Reader.Problem, f.Reader.Since = "rotated", &at }, KeyRotated,
			"take the new one", "ubiquon key rotate k1",
		},
		"unknown": {
			func(f *Facts) { f.Reader.Problem = "unknown" }, KeyUnknown, "not known here",
			"ubiquon key create",
		},
		"from elsewhere": {
			func(f *Facts) { f.Reader.Problem, f.Reader.Environment = "elsewhere", "trial" },
			KeyElsewhere, "trial", "ubiquon key create",
		},
		"not copied whole": {
			func(f *Facts) { f.Reader.Problem = "malformed" }, KeyMalformed, "copied whole",
			"ubiquon key create",
		},
		"no such locale": {func(f *Facts) {
			f.Locale, f.UnknownLocale, f.NearLocale, f.Chain = "no", true, "nb", nil
		}, UnknownLocale, "did you mean nb?", "ubiquon locale list"},
		"not translated": {
			func(f *Facts) { f.Locale, f.Chain, f.Entry.HasDocument = "ja", []string{"ja"}, false },
			NotTranslated, "ja falls back to nothing", "ubiquon entry edit e1",
		},
		"published in others": {func(f *Facts) {
			f.Locale, f.Chain, f.Entry.HasDocument, f.Entry.Written = "ja", []string{"ja"}, false, []string{"en", "ja"}
		}, OtherLocales, "published in en only", "ubiquon entry publish e1 --locale ja"},
		"below a draft": {func(f *Facts) {
			f.Entry.AskedByPath, f.Entry.Path, f.Entry.Parent = true, "", &Near{ID: "p1", Title: "Piers"}
		}, NoPath, "“Piers”, below which it lives", "ubiquon entry publish p1"},
		"another list": {
			func(f *Facts) { f.List = &List{Asked: "/routes", Type: "route"} }, AnotherList,
			"is a notice", "",
		},
		"only what is translated": {func(f *Facts) {
			f.List = &List{Asked: "/notices?translated=only", Type: "notice", OnlyTranslated: true}
		}, OnlyTranslated, "filled in from en", "ubiquon entry edit e1"},
		"on another page": {func(f *Facts) {
			f.List = &List{Asked: "/notices", Type: "notice", Place: 21, Limit: 20, Sort: "-published"}
		}, OnAnotherPage, "number 21", "ubiquon read '/notices' --headers"},
		"filtered out": {func(f *Facts) {
			f.List = &List{
				Asked: "/notices?filter=…", Type: "notice",
				Untrue: []filter.Part{{Text: "severity = 'delay'", Values: []string{"severity is \"cancelled\""}}},
			}
		}, FilteredOut, "severity = 'delay' is not true, for severity is \"cancelled\"", "ubiquon entry edit e1"},
		"draft, and the key": {func(f *Facts) {
			unpublish(f)
			f.Reader.Rights.Own = nil
			f.Locale, f.Chain = "ja", []string{"ja"}
		}, Draft + " " + NoGrant + " " + NotTranslated, "", ""},
	} {
		f := visible()
		f.Reader.Rights.Own = append(access.Grants{}, f.Reader.Rights.Own...)
		c.spoil(&f)
		reasons, _ := Explain(f)
		var codes []string
		for _, r := range reasons {
			codes = append(codes, r.Code)
		}
		if got := strings.Join(codes, " "); got != c.codes {
			t.Errorf("%s: %q, want %q", name, got, c.codes)
			continue
		}
		if len(reasons) == 0 {
			continue
		}
		if !strings.Contains(reasons[0].Text, c.says) {
			t.Errorf("%s says %q", name, reasons[0].Text)
		}
		if c.command != "" &&
			(len(reasons[0].Mends) == 0 || !strings.HasPrefix(reasons[0].Mends[0].Command, c.command)) {
			t.Errorf("%s is mended by %+v", name, reasons[0].Mends)
		}
	}
}

func TestExplainNamesOmittedMembers(t *testing.T) {
	f := visible()
	f.Entry.LeftOut = []LeftOut{
		{Field: "routes", Near: Near{ID: "r1", Type: "route", Title: "North Line"}, Local: true},
		{Field: "routes", Near: Near{ID: "r2", Type: "route", Title: "Ring"}, Grant: "read published route"},
	}
	reasons, remarks := Explain(f)
	if len(reasons) != 0 || len(remarks) != 2 ||
		!strings.Contains(remarks[0].Text, "“North Line” (route) is left out: it is not published") ||
		remarks[0].Mends[0].Command != "ubiquon entry publish r1" ||
		!strings.Contains(remarks[1].Text, "lacks the grant") ||
		remarks[1].Mends[0].Command != `ubiquon key grant k1 "read published route"` {
		t.Errorf("%+v %+v", reasons, remarks)
	}
}
