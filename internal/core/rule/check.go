package rule

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/strictyaml"
)

// Surroundings are what rules may refer to.
type Surroundings struct {
	Vocabulary *Vocabulary
	// Builds and Refreshes are the names of the sites that can be built, and refreshed.
	Builds, Refreshes []string
	// Secret returns what is wrong with a reference to a secret; nil: nothing is.
	Secret func(reference string) error
	// Address returns why an address may not be called; nil: it may.
	Address func(address string) error
	// SiteReads has, by site, the types that its key has read; a site is missing of which that
	// is not known.
	SiteReads map[string][]string
	// NoMail says that no mail can be sent. Targets are the names that mail may go to, written
	// target:NAME.
	NoMail  bool
	Targets []string
}

// Mistake is what is wrong with a rule, or odd about it.
type Mistake struct {
	// Path of what it is about, as in do[0].rebuild.site; empty for the rule as a whole.
	Path string `json:"path,omitempty"`
	Text string `json:"text"`
}

// Mistakes are an error: everything that is wrong with a rule.
type Mistakes []Mistake

// Error implements error.
func (m Mistakes) Error() string {
	lines := make([]string, len(m))
	for i, one := range m {
		lines[i] = one.Text
		if one.Path != "" {
			lines[i] = one.Path + ": " + one.Text
		}
	}
	return strings.Join(lines, "\n")
}

// longestWait bounds how long a step waits.
const longestWait = 30 * 24 * time.Hour

const (
	maxSteps = 20
	maxTo    = 50
	maxText  = 20_000
)

type checker struct {
	r     *Rule
	s     *Surroundings
	found Mistakes
}

func (c *checker) add(path, format string, args ...any) {
	c.found = append(c.found, Mistake{path, fmt.Sprintf(format, args...)})
}

// Check returns everything that is wrong with a rule, as Mistakes; nil if nothing is.
func Check(r *Rule, s *Surroundings) error {
	c := &checker{r: r, s: s}
	if r.Name == "" {
		c.add("name", "the rule has no name")
	}
	c.events()
	types := s.Vocabulary.typesOf(&Rule{})
	for i, t := range r.Types {
		if !slices.Contains(types, t) {
			c.add(fmt.Sprintf("types[%d]", i), "there is no type %q%s", t, strictyaml.DidYouMean(t, types))
		}
	}
	if r.When != "" && len(c.found) == 0 {
		if _, err := s.Vocabulary.compile(r.When, s.Vocabulary.typesOf(r)); err != nil {
			c.filter("when", err)
		}
	}
	switch {
	case len(r.Do) == 0:
		c.add("do", "the rule does nothing; add a step, as in {rebuild: {site: …}}")
	case len(r.Do) > maxSteps:
		c.add("do", "the rule has %d steps, at most %d are allowed", len(r.Do), maxSteps)
	}
	for i := range r.Do {
		c.step(fmt.Sprintf("do[%d]", i), &r.Do[i])
	}
	if len(c.found) == 0 && r.When == "" && r.leadsTo(r, s.Vocabulary) {
		c.add("do", "what the rule does sets it off again, always; give it a condition, or other events")
	}
	if len(c.found) > 0 {
		return c.found
	}
	return nil
}

func (c *checker) events() {
	r := c.r
	known := Events()
	for i, on := range r.On {
		if !slices.Contains(known, on) {
			c.add(fmt.Sprintf("on[%d]", i), "there is no event %q%s", on, strictyaml.DidYouMean(on, known))
		}
	}
	switch {
	case len(r.On) == 0 && r.At == "":
		c.add("on", "the rule has no events; add on: [published], or at: with a cron line")
	case len(r.On) > 0 && r.At != "":
		c.add("at", "the rule has events and times; make two rules of it")
	case r.At == "" && r.Zone != "":
		c.add("zone", "a time zone is for at: alone")
	case r.At != "":
		if len(r.Types) > 0 {
			c.add("types", "a rule that fires by the clock is about no entry; say in its steps which are meant")
		}
		if _, err := parseTimes(r.At, r.Zone); err != nil {
			path, text, ok := strings.Cut(err.Error(), ": ")
			if !ok {
				path, text = "at", err.Error()
			}
			c.add(path, "%s", text)
		}
	}
}

// filter adds what is wrong with a condition.
func (c *checker) filter(path string, err error) {
	var wrong *filter.Error
	if errors.As(err, &wrong) {
		text := fmt.Sprintf("at character %d: %s", wrong.At, wrong.Detail)
		if wrong.Hint != "" {
			text += "; " + wrong.Hint
		}
		c.add(path, "%s", text)
		return
	}
	c.add(path, "%s", err)
}

func (c *checker) step(path string, s *Step) {
	kinds := s.Kinds()
	if len(kinds) != 1 {
		c.add(path, "a step is exactly one of %s, this one is %s", strings.Join(StepKinds, ", "),
			cmp.Or(strings.Join(kinds, " and "), "none"))
		return
	}
	if s.Else != "" && s.Else != Stop && s.Else != Continue {
		c.add(path+".else", "%q is neither %s nor %s", s.Else, Stop, Continue)
	}
	at := path + "." + kinds[0]
	switch {
	case s.Rebuild != nil:
		c.site(at, s.Rebuild.Site, c.s.Builds, "build")
	case s.Refresh != nil:
		c.site(at, s.Refresh.Site, c.s.Refreshes, "refresh")
		for i, p := range s.Refresh.Pages {
			if !strings.HasPrefix(p, "/") && (p != AllPages || len(s.Refresh.Pages) > 1) {
				c.add(fmt.Sprintf("%s.pages[%d]", at, i), "%q is no path; it begins with /, or is * alone", p)
			}
			c.text(fmt.Sprintf("%s.pages[%d]", at, i), p)
		}
		if len(s.Refresh.Pages) == 0 && !c.aboutEntries() {
			c.add(at+".pages", "name the pages: the event is about no entry")
		}
	case s.Purge != nil:
		types := c.s.Vocabulary.typesOf(&Rule{})
		for i, t := range s.Purge.Types {
			if !slices.Contains(types, t) {
				c.add(fmt.Sprintf("%s.types[%d]", at, i), "there is no type %q%s", t, strictyaml.DidYouMean(t, types))
			}
		}
		if s.Purge.Filter != "" {
			c.selection(at+".filter", s.Purge.Filter)
		}
	case s.Warm != nil:
		c.warm(at, s.Warm)
	case s.Mail != nil:
		c.mail(at, s.Mail)
	case s.Call != nil:
		c.call(at, s.Call)
	case s.Publish != nil:
		c.which(at, *s.Publish)
	case s.Unpublish != nil:
		c.which(at, *s.Unpublish)
	case s.Schedule != nil:
		c.schedule(at, s.Schedule)
	case s.Wait != nil:
		if d := time.Duration(s.Wait.For); d <= 0 || d > longestWait {
			c.add(at+".for", "write a span up to 30 days, as in 10m")
		}
	}
}

func (c *checker) site(path, name string, able []string, what string) {
	if !slices.Contains(able, name) {
		c.add(path+".site", "there is no site %q that says how to %s it%s", name, what,
			strictyaml.DidYouMean(name, able))
	}
}

func (c *checker) warm(at string, w *Warm) {
	if len(w.Requests) == 0 && w.Hottest == 0 {
		c.add(at, "name requests, as in [/notices?limit=3], or how many of the hottest")
	}
	for i, r := range w.Requests {
		if !strings.HasPrefix(r, "/") {
			c.add(fmt.Sprintf("%s.requests[%d]", at, i), "%q is no request; write it from the edition on, as in "+
				"/notices?limit=3", r)
		}
	}
}

func (c *checker) mail(at string, m *Mail) {
	switch {
	case len(m.To) == 0:
		c.add(at+".to", "the mail goes to nobody")
	case len(m.To) > maxTo:
		c.add(at+".to", "at most %d can be named; name a role", maxTo)
	}
	for i, to := range m.To {
		place := fmt.Sprintf("%s.to[%d]", at, i)
		if role, is := strings.CutPrefix(to, "role:"); is {
			if roles := access.RoleNames(); !slices.Contains(roles, role) {
				c.add(place, "there is no role %q%s", role, strictyaml.DidYouMean(role, roles))
			}
		} else if target, is := strings.CutPrefix(to, "target:"); is {
			if !slices.Contains(c.s.Targets, target) {
				c.add(place, "there is no target %q%s", target, strictyaml.DidYouMean(target, c.s.Targets))
			}
		} else if _, err := mail.ParseAddress(to); err != nil {
			c.add(place, "%q is neither an e-mail address, nor role:NAME or target:NAME", to)
		}
	}
	if strings.TrimSpace(m.Subject) == "" {
		c.add(at+".subject", "the mail has no subject")
	}
	c.text(at+".subject", m.Subject)
	c.text(at+".text", m.Text)
	if c.s.NoMail {
		c.add(at, "no mail can be sent: no mail server is set up")
	}
}

func (c *checker) call(at string, call *Call) {
	u, err := url.Parse(call.Address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		c.add(at+".address", "%q is no http address", call.Address)
	} else if c.s.Address != nil {
		if err := c.s.Address(call.Address); err != nil {
			c.add(at+".address", "%s", err)
		}
	}
	if call.Secret != "" && c.s.Secret != nil {
		if err := c.s.Secret(call.Secret); err != nil {
			c.add(at+".secret", "%s", err)
		}
	}
	if call.Body != "" {
		if !json.Valid([]byte(call.Body)) {
			var any any
			c.add(at+".body", "it is no JSON: %s", json.Unmarshal([]byte(call.Body), &any))
		}
		c.text(at+".body", call.Body)
	}
}

func (c *checker) schedule(at string, s *Schedule) {
	c.which(at+".of", s.Of)
	if s.Action != KindPublish && s.Action != KindUnpublish {
		c.add(at+".action", "%q is neither publish nor unpublish", s.Action)
	}
	if s.In <= 0 {
		c.add(at+".in", "write a span, as in 2h")
	}
}

// aboutEntries reports whether all events of the rule are about entries.
func (c *checker) aboutEntries() bool {
	return len(c.r.On) > 0 && !slices.ContainsFunc(c.r.On, func(on string) bool {
		return !slices.Contains(ContentEvents, on)
	})
}

func (c *checker) which(at string, w Which) {
	switch {
	case w.Filter != "":
		c.selection(at, w.Filter)
	case !w.This:
		c.add(at, "say which entries: this, or {filter: …}")
	case !c.aboutEntries():
		c.add(at, "the event is about no entry; say which are meant with {filter: …}")
	case slices.Contains(c.r.On, Deleted):
		c.add(at, "an entry that was deleted cannot be published or unpublished")
	}
}

func (c *checker) selection(at, text string) {
	if _, err := c.s.Vocabulary.Select(text); err != nil {
		c.filter(at, err)
	}
}

func (c *checker) text(path, text string) {
	if len(text) > maxText {
		c.add(path, "the text has %d bytes, at most %d are allowed", len(text), maxText)
	}
	_, fields := c.s.Vocabulary.Properties(c.s.Vocabulary.typesOf(c.r))
	for _, wrong := range checkText(text, fields) {
		c.add(path, "%s", wrong)
	}
}
