package settings

import (
	"cmp"
	"fmt"
	"maps"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
)

// InvalidError is the error of a setting that is not sound, or on which others depend.
type InvalidError struct {
	// Of is what it is about, as in "rule Show cancelled crossings".
	Of       string
	Mistakes rule.Mistakes
}

// Error implements error.
func (e *InvalidError) Error() string {
	lines := strings.Split(e.Mistakes.Error(), "\n")
	for i := range lines {
		lines[i] = e.Of + ": " + lines[i]
	}
	return strings.Join(lines, "\n")
}

// surroundings of rules in a set.
func (s *Service) surroundings(set *Set, v *rule.Vocabulary) *rule.Surroundings {
	out := &rule.Surroundings{
		Vocabulary: v,
		Secret:     func(reference string) error { return s.checkReference(reference) },
		Address:    s.o.Address,
		SiteReads:  s.siteReads(),
		NoMail:     set.Mail == nil,
		Targets:    namesOf(set.Targets),
	}
	for name, site := range set.Sites {
		if site.Build != nil {
			out.Builds = append(out.Builds, name)
		}
		if site.Refresh != nil {
			out.Refreshes = append(out.Refreshes, name)
		}
	}
	return out
}

// problems returns everything that is wrong with a set under a model, by setting.
func (s *Service) problems(set *Set, m *model.Model, v *rule.Vocabulary) map[key]rule.Mistakes {
	out := map[key]rule.Mistakes{}
	around := s.surroundings(set, v)
	for _, k := range set.keys() {
		var wrong []string
		if text := checkName(k.kind, k.name); text != "" {
			wrong = append(wrong, text)
		}
		switch one := set.get(k.kind, k.name).(type) {
		case *rebuild.Site:
			wrong = append(wrong, one.Check()...)
			if one.Build != nil {
				wrong = append(wrong, s.callable("build.call", one.Build.Call)...)
			}
			if one.Refresh != nil {
				wrong = append(wrong, s.callable("refresh.call", one.Refresh.Call)...)
			}
		case *rule.Rule:
			one.Name = k.name
			if err := rule.Check(one, around); err != nil {
				out[k] = err.(rule.Mistakes)
			}
			continue // its secrets are checked with it
		default:
			wrong = append(wrong, checkOther(set, k, m)...)
		}
		for _, text := range wrong {
			out[k] = append(out[k], mistake(text))
		}
		for _, reference := range set.references(k.kind, k.name) {
			if err := s.checkReference(reference); err != nil {
				out[k] = append(out[k], rule.Mistake{Text: err.Error()})
			}
		}
	}
	return out
}

// checkOther checks what needs nothing but the model.
func checkOther(set *Set, k key, m *model.Model) (wrong []string) {
	switch k.kind {
	case KindOrigin:
		c := set.Origins[k.name]
		return c.Check(m)
	case KindDownstream:
		if err := set.Downstream[k.name].Check(); err != nil {
			wrong = append(wrong, err.Error())
		}
	case KindMail:
		return checkMail(set.Mail)
	case KindCORS:
		return checkCORS(&set.CORS)
	case KindTarget:
		return checkTarget(set.Targets[k.name])
	}
	return wrong
}

func checkTarget(t Target) (wrong []string) {
	if len(t.Mail) == 0 {
		wrong = append(wrong, "mail: there is no address")
	}
	for i, to := range t.Mail {
		if role, is := strings.CutPrefix(to, "role:"); is {
			if roles := access.RoleNames(); !slices.Contains(roles, role) {
				wrong = append(wrong, fmt.Sprintf("mail[%d]: there is no role %q%s", i, role,
					strictyaml.DidYouMean(role, roles)))
			}
		} else if _, err := mail.ParseAddress(to); err != nil {
			wrong = append(wrong, fmt.Sprintf("mail[%d]: %q is neither an e-mail address nor role:NAME", i, to))
		}
	}
	return wrong
}

// callable returns why an address may not be called.
func (s *Service) callable(path, address string) []string {
	if s.o.Address == nil {
		return nil
	}
	if err := s.o.Address(address); err != nil {
		return []string{path + ": " + err.Error()}
	}
	return nil
}

// mistake splits the path off what is wrong.
func mistake(text string) rule.Mistake {
	path, rest, ok := strings.Cut(text, ": ")
	if !ok || strings.ContainsAny(path, " \"") {
		return rule.Mistake{Text: text}
	}
	return rule.Mistake{Path: path, Text: rest}
}

// checkReference returns what is wrong with secret:NAME or env:NAME.
func (s *Service) checkReference(reference string) error {
	if name, is := strings.CutPrefix(reference, secretPrefix); is {
		known := s.State().secrets
		if _, ok := known[name]; !ok {
			return fmt.Errorf("there is no secret %q%s; set it with ubiquon secret set %s", name,
				strictyaml.DidYouMean(name, slices.Collect(maps.Keys(known))), name)
		}
		return nil
	}
	if name, is := strings.CutPrefix(reference, variablePrefix); is {
		if !s.variables[name] {
			return fmt.Errorf(
				"the variable %s is not among those that the files of this node name; keep the value as a secret "+
					"(ubiquon secret set NAME), and write secret:NAME", name,
			)
		}
		return nil
	}
	return fmt.Errorf("a secret stands here in plain text; keep it with ubiquon secret set NAME, and write secret:NAME")
}

// compare returns the first problems of a set that concern a change of some settings: those of
// the settings themselves, and those that others have got by it.
func (s *Service) compare(next *Set, touched []key, m *model.Model, v *rule.Vocabulary) error {
	st := s.State()
	before := s.problems(st.Set, m, v)
	after := s.problems(next, m, v)
	var wrong []error
	for _, k := range slices.SortedFunc(maps.Keys(after), func(a, b key) int {
		return strings.Compare(a.String(), b.String())
	}) {
		if slices.Contains(touched, k) || before[k] == nil {
			wrong = append(wrong, &InvalidError{k.String(), after[k]})
		}
	}
	return joined(wrong)
}

// joined returns one error as it is, several together.
func joined(wrong []error) error {
	switch len(wrong) {
	case 0:
		return nil
	case 1:
		return wrong[0]
	}
	all := &InvalidError{Of: "the configuration"}
	for _, err := range wrong {
		one := err.(*InvalidError)
		for _, m := range one.Mistakes {
			m.Path = strings.TrimSuffix(one.Of+": "+m.Path, ": ")
			all.Mistakes = append(all.Mistakes, m)
		}
	}
	return all
}

// warnings are what is odd about settings that are sound.
func (s *Service) warnings(set *Set, touched []key, v *rule.Vocabulary) []string {
	out := []string{}
	around := s.surroundings(set, v)
	for _, k := range touched {
		if i := set.ruleAt(k.name); k.kind == KindRule && i >= 0 {
			out = append(out, rule.Warn(&set.Rules[i], set.Rules, around)...)
		}
	}
	return out
}

// checkMail returns what is wrong with the mail server.
func checkMail(m *Mail) (wrong []string) {
	if host, port, ok := strings.Cut(m.Server, ":"); !ok || host == "" || port == "" {
		wrong = append(wrong, fmt.Sprintf("server: %q is not host:port, as in mail.skerry.example:587", m.Server))
	}
	if _, err := mail.ParseAddress(m.From); err != nil {
		wrong = append(wrong, fmt.Sprintf("from: %q is no e-mail address", m.From))
	}
	if tls := cmp.Or(m.TLS, "starttls"); !slices.Contains([]string{"starttls", "tls", "none"}, tls) {
		wrong = append(wrong, fmt.Sprintf("tls: %q is none of starttls, tls and none", m.TLS))
	}
	if (m.User == "") != (m.Password == "") {
		wrong = append(wrong, "password: user and password go together")
	}
	if m.DigestAt != "" {
		if _, err := time.Parse("15:04", m.DigestAt); err != nil {
			wrong = append(wrong, fmt.Sprintf("digestAt: %q is no time of day, as in 07:00", m.DigestAt))
		}
	}
	if _, err := time.LoadLocation(m.Zone); err != nil || m.Zone == "Local" {
		wrong = append(wrong, fmt.Sprintf("zone: %q is no time zone; name one as in Europe/Oslo", m.Zone))
	}
	return wrong
}

func checkCORS(c *CORS) (wrong []string) {
	for _, o := range c.Allow {
		if u, err := url.Parse(o); o != "*" &&
			(err != nil || u.Host == "" || u.Path != "" || u.Scheme != "http" && u.Scheme != "https") {
			wrong = append(wrong, fmt.Sprintf("allow: %q is no web origin; write it as in https://skerry.example", o))
		}
	}
	return wrong
}
