// Package settings is the configuration of an environment that is managed while the service runs:
// rules, sites, origins, downstream caches, mail, targets of notifications, and CORS. They are
// records in the database, checked together, versioned, and in force on all nodes within the
// lease. Files seed them and bring them up to date. Secrets are kept encrypted beside them.
package settings

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
)

// The kinds of setting.
const (
	KindRule       = "rule"
	KindSite       = "site"
	KindOrigin     = "origin"
	KindDownstream = "downstream"
	KindTarget     = "target"
	KindMail       = "mail"
	KindCORS       = "cors"
)

// Kinds lists the kinds, in the order in which they are checked and written.
var Kinds = []string{KindSite, KindOrigin, KindDownstream, KindMail, KindTarget, KindCORS, KindRule}

// Single reports whether there is one record of the kind, which has the kind's name.
func Single(kind string) bool { return kind == KindMail || kind == KindCORS }

// Mail, Target and CORS are settings that the API describes.
type (
	Mail   = api.MailServer
	Target = api.NotificationTarget
	CORS   = api.CORS
)

// Set is the configuration as of one time. It is not changed; whoever has it may read it.
type Set struct {
	Rules      []rule.Rule // in the order in which they were made
	Sites      map[string]rebuild.Site
	Origins    map[string]origin.Config
	Downstream map[string]outbound.Target
	Targets    map[string]Target
	Mail       *Mail
	CORS       CORS
	// records are what it was made of, by kind and name.
	records map[key]api.Setting
}

type key struct{ kind, name string }

func (k key) String() string {
	if Single(k.kind) {
		return k.kind
	}
	return k.kind + " " + k.name
}

// NewSet returns a set without anything in it.
func NewSet() *Set {
	return &Set{
		Sites: map[string]rebuild.Site{}, Origins: map[string]origin.Config{},
		Downstream: map[string]outbound.Target{}, Targets: map[string]Target{}, records: map[key]api.Setting{},
	}
}

// Record returns the record of a setting.
func (s *Set) Record(kind, name string) (api.Setting, bool) {
	r, ok := s.records[key{kind, name}]
	return r, ok
}

// Version returns the version of a setting's record; 0 if there is none.
func (s *Set) Version(kind, name string) int64 { return s.records[key{kind, name}].Version }

// Empty reports whether there is no setting at all.
func (s *Set) Empty() bool { return len(s.records) == 0 }

// value is a record's place in the set, and what decodes into it.
func (s *Set) put(kind, name string, src []byte, file string) error {
	var err error
	switch kind {
	case KindRule:
		var r rule.Rule
		if err = strictyaml.Decode(file, src, &r); err == nil {
			if r.Name != "" && r.Name != name {
				return fmt.Errorf("%s: the rule calls itself %q; leave out its name", file, r.Name)
			}
			r.Name = name
			s.putRule(r)
		}
	case KindSite:
		err = decodeInto(file, src, name, s.Sites)
	case KindOrigin:
		err = decodeInto(file, src, name, s.Origins)
	case KindDownstream:
		err = decodeInto(file, src, name, s.Downstream)
	case KindTarget:
		err = decodeInto(file, src, name, s.Targets)
	case KindMail:
		s.Mail = &Mail{}
		err = strictyaml.Decode(file, src, s.Mail)
	case KindCORS:
		s.CORS = CORS{}
		err = strictyaml.Decode(file, src, &s.CORS)
	default:
		err = fmt.Errorf("there is no kind of setting %q%s", kind, strictyaml.DidYouMean(kind, Kinds))
	}
	return err
}

func decodeInto[T any](file string, src []byte, name string, into map[string]T) error {
	var v T
	if err := strictyaml.Decode(file, src, &v); err != nil {
		return err
	}
	into[name] = v
	return nil
}

func (s *Set) putRule(r rule.Rule) {
	if i := s.ruleAt(r.Name); i >= 0 {
		s.Rules[i] = r
		return
	}
	s.Rules = append(s.Rules, r)
}

func (s *Set) ruleAt(name string) int {
	return slices.IndexFunc(s.Rules, func(r rule.Rule) bool { return r.Name == name })
}

// drop takes a setting out.
func (s *Set) drop(kind, name string) {
	switch kind {
	case KindRule:
		if i := s.ruleAt(name); i >= 0 {
			s.Rules = slices.Delete(s.Rules, i, i+1)
		}
	case KindSite:
		delete(s.Sites, name)
	case KindOrigin:
		delete(s.Origins, name)
	case KindDownstream:
		delete(s.Downstream, name)
	case KindTarget:
		delete(s.Targets, name)
	case KindMail:
		s.Mail = nil
	case KindCORS:
		s.CORS = CORS{}
	}
	delete(s.records, key{kind, name})
}

// keys lists what the set has, in the order of Kinds, then by name; rules in their own order.
func (s *Set) keys() (out []key) {
	add := func(kind string, names []string) {
		slices.Sort(names)
		for _, name := range names {
			out = append(out, key{kind, name})
		}
	}
	add(KindSite, namesOf(s.Sites))
	add(KindOrigin, namesOf(s.Origins))
	add(KindDownstream, namesOf(s.Downstream))
	if s.Mail != nil {
		add(KindMail, []string{KindMail})
	}
	add(KindTarget, namesOf(s.Targets))
	if len(s.CORS.Allow) > 0 {
		add(KindCORS, []string{KindCORS})
	}
	for i := range s.Rules {
		out = append(out, key{KindRule, s.Rules[i].Name})
	}
	return out
}

func namesOf[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for name := range m {
		out = append(out, name)
	}
	return out
}

// get returns a pointer to a copy of a setting; nil if the set has none.
func (s *Set) get(kind, name string) any {
	switch kind {
	case KindRule:
		if i := s.ruleAt(name); i >= 0 {
			r := s.Rules[i]
			r.Name = ""
			return &r
		}
	case KindSite:
		return copyOf(s.Sites, name)
	case KindOrigin:
		return copyOf(s.Origins, name)
	case KindDownstream:
		return copyOf(s.Downstream, name)
	case KindTarget:
		return copyOf(s.Targets, name)
	case KindMail:
		if s.Mail != nil {
			m := *s.Mail
			return &m
		}
	case KindCORS:
		if len(s.CORS.Allow) > 0 {
			c := s.CORS
			return &c
		}
	}
	return nil
}

func copyOf[T any](m map[string]T, name string) any {
	if v, ok := m[name]; ok {
		return &v
	}
	return nil
}

// spec writes a setting in its canonical form.
func (s *Set) spec(kind, name string) (json.RawMessage, error) {
	v := s.get(kind, name)
	if v == nil {
		return nil, nil
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return json.RawMessage(bytes.TrimSpace(b.Bytes())), err
}

// clone returns a set that can be changed.
func (s *Set) clone() *Set {
	out := NewSet()
	out.Rules = slices.Clone(s.Rules)
	copyAll(out.Sites, s.Sites)
	copyAll(out.Origins, s.Origins)
	copyAll(out.Downstream, s.Downstream)
	copyAll(out.Targets, s.Targets)
	copyAll(out.records, s.records)
	if s.Mail != nil {
		m := *s.Mail
		out.Mail = &m
	}
	out.CORS = s.CORS
	return out
}

func copyAll[K comparable, V any](to, from map[K]V) {
	for k, v := range from {
		to[k] = v
	}
}

// secrets calls f with every text in a setting that may be a secret, and what it is called; f
// may change it.
func (s *Set) secrets(kind, name string, f func(place string, text *string)) {
	each := func(place string, text *string) {
		if *text != "" {
			f(place, text)
		}
	}
	switch kind {
	case KindSite:
		site := s.Sites[name]
		if b := site.Build; b != nil {
			call := *b
			call.Headers = map[string]string{}
			copyAll(call.Headers, b.Headers)
			each("build", &call.Secret)
			site.Build = &call
		}
		if r := site.Refresh; r != nil {
			refresh := *r
			each("refresh", &refresh.Secret)
			site.Refresh = &refresh
		}
		s.Sites[name] = site
	case KindOrigin:
		o := s.Origins[name].Clone()
		o.Secrets(each)
		s.Origins[name] = o
	case KindDownstream:
		d := s.Downstream[name]
		each("call", &d.Secret)
		s.Downstream[name] = d
	case KindMail:
		if s.Mail != nil {
			each("password", &s.Mail.Password)
		}
	case KindRule:
		if i := s.ruleAt(name); i >= 0 {
			s.Rules[i].Do = slices.Clone(s.Rules[i].Do)
			for j := range s.Rules[i].Do {
				if call := s.Rules[i].Do[j].Call; call != nil {
					own := *call
					each(fmt.Sprint("step-", j+1), &own.Secret)
					s.Rules[i].Do[j].Call = &own
				}
			}
		}
	}
}

// references lists the secrets and variables that a setting refers to.
func (s *Set) references(kind, name string) (out []string) {
	s.secrets(kind, name, func(_ string, text *string) { out = append(out, *text) })
	if site, ok := s.Sites[name]; ok && kind == KindSite && site.Build != nil {
		for _, v := range site.Build.Headers {
			if isReference(v) {
				out = append(out, v)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

const (
	secretPrefix   = "secret:"
	variablePrefix = "env:"
)

func isReference(text string) bool {
	return strings.HasPrefix(text, secretPrefix) || strings.HasPrefix(text, variablePrefix)
}

var settingName = regexp.MustCompile(`^[^\x00-\x1f/"<>]{1,100}$`)

var plainName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// checkName returns what is wrong with the name of a setting.
func checkName(kind, name string) string {
	switch {
	case Single(kind) && name != kind:
		return fmt.Sprintf("there is one setting of the kind %s, named %s", kind, kind)
	case kind == KindRule && (!settingName.MatchString(name) || strings.TrimSpace(name) != name):
		return "the name of a rule has 1 to 100 characters, and no / \" < >"
	case kind != KindRule && !plainName.MatchString(name) || len(name) > 100:
		return fmt.Sprintf("%q is no name; write it in a-z, 0-9 and -, as in skerry-web", name)
	}
	return ""
}
