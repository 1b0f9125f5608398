package rule

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

const line = `
locales: {en: {name: English}, nb: {name: Norsk, fallback: [en]}}
types:
  pier:
    title: name
    fields: {name: {kind: text, required: true}, stepFree: {kind: boolean}}
  route:
    title: name
    fields:
      name: {kind: text, required: true}
      season: {kind: choice, options: {summer: Summer, winter: Winter}}
      piers: {kind: reference, types: [pier], several: true, inverse: routes}
  notice:
    title: title
    fields:
      title: {kind: text, required: true, translated: true}
      severity: {kind: choice, options: {delay: Delay, cancelled: Cancelled}}
      minutes: {kind: integer}
      routes: {kind: reference, types: [route], several: true, inverse: notices}
`

func words(t testing.TB) (*model.Model, *Vocabulary) {
	t.Helper()
	m, err := model.Read(map[string][]byte{"line.yaml": []byte(line)})
	if err != nil {
		t.Fatal(err)
	}
	v, err := NewVocabulary(m)
	if err != nil {
		t.Fatal(err)
	}
	return m, v
}

// around has everything that the rules of the tests refer to.
func around(v *Vocabulary) *Surroundings {
	return &Surroundings{
		Vocabulary: v, Builds: []string{"skerry-web"}, Refreshes: []string{"skerry-board"}, Targets: []string{"duty"},
		Secret: func(r string) error {
			if r != "secret:pager" {
				return fmt.Errorf("there is no secret %q", r)
			}
			return nil
		},
		Address: func(a string) error {
			if strings.Contains(a, "10.0.0.1") {
				return fmt.Errorf("%s is a private network", a)
			}
			return nil
		},
	}
}

func cancelled(severity string) *content.Change {
	return &content.Change{
		Sequence: 7, Kind: content.ContentChange, Edition: content.Published, What: Published, Type: "notice", Entry: "n1",
		Fields: map[string][]string{"en": {"about.updated", "severity", "title"}, "nb": {"title"}},
		Before: map[string]content.Fields{"en": {"title": "Fog", "severity": "delay"}, "nb": {"title": "Tåke"}},
		After: map[string]content.Fields{
			"en": {"title": "Fog", "severity": severity, "minutes": 20.0}, "nb": {"title": "Tjukk tåke"},
		},
		Cause: content.Cause{Kind: "event", Name: "harbour-office", Event: "e1"},
	}
}

func TestRuleFiresOnItsEventsTypesAndCondition(t *testing.T) {
	m, v := words(t)
	do := []Step{{Rebuild: &Rebuild{Site: "skerry-web"}}}
	on := []string{Published, Unpublish}
	for name, c := range map[string]struct {
		r    Rule
		o    func(*Occurrence)
		want string // "" for fires
	}{
		"event and type": {Rule{On: on, Types: []string{"notice"}}, nil, ""},
		"no types":       {Rule{On: on}, nil, ""},
		"another event":  {Rule{On: []string{Saved}}, nil, "event: it is on saved, this was published"},
		"another type": {
			Rule{On: on, Types: []string{"pier"}},
			nil,
			"type: it is for pier, this is a notice",
		},
		"off": {Rule{On: on, Off: true}, nil, "off: the rule is off"},
		"the clock's": {
			Rule{At: "0 6 * * *"},
			nil,
			"event: it fires by the clock (0 6 * * *), not on published",
		},
		"moved, as published": {Rule{On: on}, func(o *Occurrence) { o.Event = Moved }, ""},
		"moved, named":        {Rule{On: []string{Moved}}, func(o *Occurrence) { o.Event = Moved }, ""},
		"condition":           {Rule{On: on, When: "type = 'notice' AND entry.severity = 'cancelled'"}, nil, ""},
		"the first false part": {
			Rule{On: on, When: "entry.severity = 'delay' AND type = 'pier'"},
			nil,
			`when: entry.severity = 'delay' is not true: entry.severity is "cancelled"`,
		},
		"a later false part": {
			Rule{On: on, When: "type = 'notice' AND entry.minutes > 30"},
			nil,
			"when: entry.minutes > 30 is not true: entry.minutes is 20",
		},
		"another type's field": {Rule{On: on, When: "entry.season = 'summer'"}, nil, "when: notice has no property"},
		"before": {
			Rule{On: on, When: "before.severity <> entry.severity AND before.severity = 'delay'"},
			nil,
			"",
		},
		"what changed": {Rule{On: on, When: "A_CONTAINS(changed, ('severity', 'title'))"}, nil, ""},
		"what did not": {
			Rule{On: on, When: "A_CONTAINS(changed, ('minutes'))"},
			nil,
			`changed is ["severity","title"]`,
		},
		"about is no field": {Rule{On: on, When: "A_CONTAINS(changed, ('about'))"}, nil, "is not true"},
		"locales":           {Rule{On: on, When: "A_CONTAINS(locales, ('nb'))"}, nil, ""},
		"origin":            {Rule{On: on, When: "origin = 'harbour-office' AND by = 'harbour-office'"}, nil, ""},
		"no value":          {Rule{On: on, When: "role = 'editor'"}, nil, "role is NULL"},
		"role": {
			Rule{On: on, When: "role = 'editor'"},
			func(o *Occurrence) { o.Role = "editor" },
			"",
		},
		"gone by now": {
			Rule{On: on, When: "entry.severity = 'delay'"},
			func(o *Occurrence) { o.Event, o.After = Unpublish, nil },
			"",
		},
		"nothing before": {
			Rule{On: on, When: "before.severity IS NULL"},
			func(o *Occurrence) { o.Before = nil },
			"",
		},
		"its own consequence": {
			Rule{Name: "x", On: on},
			func(o *Occurrence) { o.Chain = []string{"a", "x"} },
			"chain: this is a consequence of the rule itself (a → x)",
		},
		"a long chain": {
			Rule{Name: "x", On: on},
			func(o *Occurrence) { o.Chain = strings.Split("abcdefgh", "") },
			"chain: 8 rules have followed",
		},
		"an event of the whole": {
			Rule{On: []string{BuildFails}, When: "subject = 'skerry-web'"},
			func(o *Occurrence) { *o = Occurrence{Event: BuildFails, Subject: "skerry-web"} },
			"",
		},
		"types of none": {
			Rule{On: []string{BuildFails}, Types: []string{"pier"}},
			func(o *Occurrence) { *o = Occurrence{Event: BuildFails} },
			"type: it is for pier, this is about no entry",
		},
	} {
		c.r.Do = do
		o := OccurrenceOf(m, cancelled("cancelled"))
		if c.o != nil {
			c.o(o)
		}
		compiled, err := Compile(c.r, 1, v)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		d := compiled.Decide(o, time.Now())
		if d.Fires != (c.want == "") || !strings.Contains(d.Reason, c.want) {
			t.Errorf("%s: fires %t, %q, want %q", name, d.Fires, d.Reason, c.want)
		}
	}
}

func TestOnlyWhatReadersSeeOfAnEditionIsAnOccurrence(t *testing.T) {
	m, _ := words(t)
	for want, c := range map[string]*content.Change{
		Published: {Kind: content.ContentChange, Edition: content.Published, What: Published, Type: "pier"},
		Saved:     {Kind: content.ContentChange, Edition: content.Preview, What: Saved, Type: "pier"},
		"":        {Kind: content.ContentChange, Edition: content.Preview, What: Published, Type: "pier"},
		"model":   {Kind: content.ModelChange},
	} {
		o := OccurrenceOf(m, c)
		if (o != nil) != slices.Contains(ContentEvents, want) || o != nil && o.Event != want {
			t.Errorf("%q: %+v", want, o)
		}
	}
	o := OccurrenceOf(m, cancelled("cancelled"))
	if o.Title != "Fog" || o.Announced != "e1" || o.Differences(m) != "severity: delay → cancelled\ntitle changed" {
		t.Errorf("%+v: %q", o, o.Differences(m))
	}
}

func TestCheckFindsEverythingThatIsWrong(t *testing.T) {
	_, v := words(t)
	all := Rule{
		Name: "x", On: []string{"publishd", "ping"}, Zone: "Europe/Oslo", Types: []string{"notic"},
		Do: []Step{
			{Rebuild: &Rebuild{Site: "skery-web"}},
			{},
			{Rebuild: &Rebuild{Site: "skerry-web"}, Wait: &Wait{}},
			{Wait: &Wait{}, Else: "go"},
			{Refresh: &Refresh{Site: "skerry-web", Pages: []string{"x{entry.nam}"}}},
			{Purge: &Purge{Types: []string{"peer"}, Filter: "season = 'summer'"}},
			{Warm: &Warm{Requests: []string{"notices"}}},
			{Mail: &Mail{To: []string{"duty", "role:aprover", "target:dutty", "role:admin"}, Text: "{entry.titel}"}},
			{Call: &Call{Address: "http://10.0.0.1/", Secret: "secret:pagr", Body: `{"a": }`}},
			{Call: &Call{Address: "pager"}},
			{Publish: &Which{Filter: "type = 'rote'"}},
			{Schedule: &Schedule{Of: Which{Filter: "type = 'pier'"}, Action: "show"}},
		},
	}
	err := Check(&all, around(v))
	if err == nil {
		t.Fatal("accepted")
	}
	for _, want := range []string{
		`on[0]: there is no event "publishd"`, `did you mean "published"?`, `on[1]`, "zone: a time zone is for at: alone",
		`types[0]: there is no type "notic"; did you mean "notice"?`, `do[0].rebuild.site: there is no site "skery-web"`,
		"do[1]: a step is exactly one of", "this one is rebuild and wait", "do[3].wait.for", `"go" is neither stop nor continue`,
		"do[4].refresh.site", "do[4].refresh.pages[0]", "nothing is called {entry.nam}", "do[5].purge.types[0]",
		"do[5].purge.filter: say of which type the entries are", `"notices" is no request`, `"duty" is neither an e-mail address`,
		`there is no role "aprover"`, `there is no target "dutty"`, "the mail has no subject", "nothing is called {entry.titel}",
		"private network", `there is no secret "secret:pagr"`, "do[8].call.body: it is no JSON", `"pager" is no http address`,
		"do[10].publish", `"show" is neither publish nor unpublish`, "do[11].schedule.in",
	} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q is missing in\n%s", want, err)
		}
	}
	for name, c := range map[string]struct {
		r    Rule
		want string
	}{
		"no event":           {Rule{}, "the rule has no events"},
		"both":               {Rule{On: []string{Saved}, At: "0 6 * * *"}, "make two rules of it"},
		"no cron line":       {Rule{At: "at six"}, "at: \"at six\" is no cron line"},
		"seconds":            {Rule{At: "0 0 6 * * *"}, "at: \"0 0 6 * * *\" is no cron line of five fields"},
		"never":              {Rule{At: "0 6 30 2 *"}, "at: \"0 6 30 2 *\" never comes"},
		"a zone in the line": {Rule{At: "TZ=Europe/Oslo 0 6 * * *"}, "name the time zone with zone:"},
		"no zone": {
			Rule{At: "0 6 * * *", Zone: "Europe/Kvalholm"},
			"zone: \"Europe/Kvalholm\" is no time zone",
		},
		"local": {Rule{At: "0 6 * * *", Zone: "Local"}, "is no time zone"},
		"unknown property": {
			Rule{On: []string{Published}, Types: []string{"notice"}, When: "entry.severty = 'delay'"},
			`notice has no property "severty"; did you mean "severity"?`,
		},
		"unknown everywhere": {
			Rule{On: []string{Published}, When: "entry.colour = 'red'"},
			`has no property "colour"`,
		},
		"unknown of the event": {Rule{On: []string{Published}, When: "typ = 'notice'"}, `did you mean "type"?`},
		"another kind": {
			Rule{On: []string{Published}, Types: []string{"notice"}, When: "entry.minutes = 'ten'"},
			"when: at character",
		},
		"no condition": {Rule{On: []string{Published}, When: "entry.severity ="}, "when: at character 17"},
		"no such type": {Rule{On: []string{Published}, When: "type = 'notic'"}, "notic"},
		"too deep": {
			Rule{On: []string{Published}, Types: []string{"notice"}, When: "entry.routes.name = 'Outer Ring'"},
			"not at those that it refers to",
		},
		"this of none": {
			Rule{On: []string{BuildFails}, Do: []Step{{Publish: &Which{This: true}}}},
			"the event is about no entry",
		},
		"this of the deleted": {
			Rule{On: []string{Deleted}, Do: []Step{{Publish: &Which{This: true}}}},
			"an entry that was deleted",
		},
		"loop": {
			Rule{On: []string{Published}, Do: []Step{{Publish: &Which{This: true}}}},
			"sets it off again",
		},
		"nothing done":       {Rule{On: []string{Published}, Do: []Step{}}, "the rule does nothing"},
		"types of the clock": {Rule{At: "0 6 * * *", Types: []string{"pier"}}, "is about no entry"},
	} {
		c.r.Name = "x"
		if c.r.Do == nil {
			c.r.Do = []Step{{Rebuild: &Rebuild{Site: "skerry-web"}}}
		}
		if err := Check(&c.r, around(v)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	if err := Check(&Rule{}, around(v)); err == nil || !strings.Contains(err.Error(), "the rule has no name") {
		t.Errorf("no name: %v", err)
	}
}

func TestWarningsNameTypesLoopsAndDoubles(t *testing.T) {
	_, v := words(t)
	s := around(v)
	s.SiteReads = map[string][]string{"skerry-web": {"notice", "pier"}}
	rebuild := []Step{{Rebuild: &Rebuild{Site: "skerry-web"}}}
	all := []Rule{
		{Name: "all", On: []string{Published}, Do: rebuild},
		{Name: "notices", On: []string{Published}, Types: []string{"notice"}, Do: rebuild},
		{Name: "by condition", On: []string{Published}, When: "type = 'notice' AND entry.minutes > 3", Do: rebuild},
		{
			Name:  "open",
			On:    []string{Unpublish},
			Types: []string{"pier"},
			Do:    []Step{{Publish: &Which{Filter: "type = 'route'"}}},
		},
		{
			Name:  "close",
			On:    []string{Published},
			Types: []string{"route"},
			Do:    []Step{{Unpublish: &Which{Filter: "type = 'pier'"}}},
		},
	}
	for i, want := range []string{
		"is for every change", "is not for pier, which the site reads", "is not for pier, which the site reads",
		"the rules open → close → open set off one another", "the rules close → open → close set off one another",
	} {
		if err := Check(&all[i], s); err != nil {
			t.Errorf("%s: %v", all[i].Name, err)
		}
		if got := strings.Join(Warn(&all[i], all, s), "\n"); !strings.Contains(got, want) {
			t.Errorf("%s: %q lacks %q", all[i].Name, got, want)
		}
	}
	if got := strings.Join(Warn(&all[0], all, s), "\n"); !strings.Contains(
		got,
		`"all" and "notices" rebuild skerry-web`,
	) {
		t.Errorf("doubles: %q", got)
	}
	if got := Warn(&all[2], all[2:3], s); len(got) != 1 {
		t.Errorf("a rule with a condition: %q", got)
	}
}

func TestStepsAreFilledIn(t *testing.T) {
	m, _ := words(t)
	o := OccurrenceOf(m, cancelled("cancelled"))
	o.Paths = map[string]string{"en": "/notices/fog", "nb": "/varsler/fog"}
	o.Before["about.path"] = "/notices/mist"
	f := &Filling{Occurrence: o, Rule: "Show", Link: "http://gateway/console/main/entries/n1", Differences: "severity"}
	const text = "{rule}: {entry.title} {entry.severity} (was {before.severity}) by {by}, " +
		"{event} {entry.type}; {changed}; {unknown}"
	const want = "Show: Fog cancelled (was delay) by harbour-office, published notice; severity, title; "
	if got := f.Text(text); got != want {
		t.Errorf("%q, want %q", got, want)
	}
	body, err := f.JSON(`{"t": "{entry.title}\"", "n": [1, "{entry.minutes}"], "when": "{sequence}"}`)
	if err != nil || string(body) != `{"n":[1,"20"],"t":"Fog\"","when":"7"}` {
		t.Errorf("%s, %v", body, err)
	}
	if got := f.Pages(nil); !slices.Equal(got, []string{"/notices/fog", "/notices/mist", "/varsler/fog"}) {
		t.Errorf("pages: %q", got)
	}
	if got := f.Pages([]string{"/", "/{entry.type}s"}); !slices.Equal(got, []string{"/", "/notices"}) {
		t.Errorf("pages: %q", got)
	}
}

func TestCronLinesFireInTheirZone(t *testing.T) {
	_, v := words(t)
	c, err := Compile(Rule{Name: "x", At: "30 2 * * *", Zone: "Europe/Oslo"}, 1, v)
	if err != nil {
		t.Fatal(err)
	}
	for after, want := range map[string]string{
		"2026-11-29T00:00:00Z": "2026-11-29T01:30:00Z", // winter
		"2026-07-01T00:00:00Z": "2026-07-01T00:30:00Z", // summer
		"2026-03-29T00:00:00Z": "2026-03-30T00:30:00Z", // 02:30 does not exist on that day
	} {
		at, _ := time.Parse(time.RFC3339, after)
		if got := c.Next(at).UTC().Format(time.RFC3339); got != want {
			t.Errorf("after %s: %s, want %s", after, got, want)
		}
	}
	if c.Off = true; !c.Next(time.Now()).IsZero() {
		t.Error("a rule that is off has a next time")
	}
}

func TestSelectionNamesItsType(t *testing.T) {
	_, v := words(t)
	for text, want := range map[string]string{
		"type = 'route' AND season = 'summer'":                   "route: season = 'summer'",
		"season = 'summer' AND type = 'route' AND name = 'Ring'": "route: (name = 'Ring' AND season = 'summer')",
		"type = 'pier'": "pier: ", "piers.stepFree = true AND type = 'route'": "route: piers.stepFree = TRUE",
		"season = 'summer'":                     "say of which type",
		"type = 'pier' OR type = 'route'":       "say of which type",
		"type = 'pier' AND season = 'summer'":   `has no property "season"`,
		"type = 'route' AND season = 'autumn'":  "autumn",
		"type = 'route' AND type = 'pier' AND ": "at character",
	} {
		got, err := v.Select(text)
		said := got.Type + ": "
		if got.Filter != nil {
			said += got.Filter.String()
		}
		if err != nil {
			said = err.Error()
		}
		if !strings.Contains(said, want) {
			t.Errorf("%s: %q, want %q", text, said, want)
		}
	}
}
