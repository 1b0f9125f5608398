package access

import (
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/core/strictyaml"
)

// The verbs of a grant.
const (
	Read    = "read"
	Submit  = "submit"  // hand in a draft from outside
	Write   = "write"   // save drafts, and what goes with it
	Publish = "publish" // decide on what readers see
	// Recompute has answers computed that are held; who manages everything may, too.
	Recompute = "recompute"
	Manage    = "manage" // everything else
)

// Verbs lists every verb.
var Verbs = []string{Read, Submit, Write, Publish, Recompute, Manage}

// Any stands for every edition or every type in a grant.
const Any = "*"

// editions are those that a grant may name.
var editions = []string{"published", "preview", Any}

// Grant is one thing that somebody may do: a verb in an edition on a type, in
// all locales or in some.
type Grant struct {
	Verb    string `json:"verb"`
	Edition string `json:"edition"`
	Type    string `json:"type"`
	// Locales that the grant is limited to; none means all.
	Locales []string `json:"locales,omitempty"`
}

// String writes a grant as people do, as in "read published notice" or "read
// preview * in nb,de".
func (g Grant) String() string {
	s := g.Verb + " " + g.Edition + " " + g.Type
	if len(g.Locales) > 0 {
		s += " in " + strings.Join(g.Locales, ",")
	}
	return s
}

// ParseGrant reads the form that String writes.
func ParseGrant(s string) (Grant, error) {
	parts := strings.Fields(s)
	limited := len(parts) >= 5 && parts[3] == "in"
	if len(parts) != 3 && !limited {
		return Grant{}, fmt.Errorf(
			"grant %q: write verb, edition and type, as in \"read published notice\" or \"read preview * in nb,de\"",
			s,
		)
	}
	g := Grant{Verb: parts[0], Edition: parts[1], Type: parts[2]}
	if !slices.Contains(Verbs, g.Verb) {
		return Grant{}, fmt.Errorf("grant %q: the verb %q is none of %s", s, g.Verb, strings.Join(Verbs, ", "))
	}
	if !slices.Contains(editions, g.Edition) {
		return Grant{}, fmt.Errorf("grant %q: the edition is published, preview or *", s)
	}
	if limited {
		g.Locales = strings.FieldsFunc(strings.Join(parts[4:], ","), func(r rune) bool { return r == ',' })
	}
	return g, nil
}

// ParseGrants reads several.
func ParseGrants(texts []string) (Grants, error) {
	var out Grants
	for _, text := range texts {
		g, err := ParseGrant(text)
		if err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, nil
}

// Need is one thing that a request takes.
type Need struct {
	Verb, Edition, Type string
	// Locale that it is about; empty where that does not matter.
	Locale string
}

// String writes a need as the grant that would do, as in "read published
// notice".
func (n Need) String() string {
	s := n.Verb + " " + n.Edition + " " + n.Type
	if n.Locale != "" {
		s += " in " + n.Locale
	}
	return s
}

// Administer is what it takes to see to the service itself.
var Administer = Need{Verb: Manage, Edition: Any, Type: Any}

// GrantRemedy says which commands give a missing grant.
func GrantRemedy(grant string) string {
	text := fmt.Sprintf("give it to a key: ubiquon key grant KEY %q", grant)
	// That everything is opened is nobody's hint.
	if open := OpenCommand(grant); open != "" && !strings.Contains(open, " all") {
		text += "; or open it to everyone: " + open
	}
	return text
}

// OpenCommand is the command that opens a grant to everyone, "" if it is one that
// nobody would: drafts are not for everyone.
func OpenCommand(grant string) string {
	g, err := ParseGrant(grant)
	if err != nil || g.Verb != Read || g.Edition != "published" {
		return ""
	}
	s := "ubiquon open " + strings.Replace(g.Type, Any, "all", 1)
	if len(g.Locales) > 0 {
		s += " --locale " + strings.Join(g.Locales, ",")
	}
	return s
}

// covers tells whether the grant is for the need, but perhaps not in its locale.
func (g *Grant) covers(n *Need) bool {
	return g.Verb == n.Verb && (g.Type == n.Type || g.Type == Any) && (g.Edition == n.Edition || g.Edition == Any)
}

func (g *Grant) speaks(locale string) bool {
	return len(g.Locales) == 0 || locale != "" && slices.Contains(g.Locales, locale)
}

// Grants is a list of them.
type Grants []Grant

// Check says what the grants name that the model does not have.
func (g Grants) Check(types, locales []string) error {
	for _, one := range g {
		if one.Type != Any && !slices.Contains(types, one.Type) {
			return fmt.Errorf(
				"grant %q: there is no type %q%s", one, one.Type, strictyaml.DidYouMean(one.Type, types),
			)
		}
		for _, tag := range one.Locales {
			if !slices.Contains(locales, tag) {
				return fmt.Errorf("grant %q: there is no locale %q%s", one, tag, strictyaml.DidYouMean(tag, locales))
			}
		}
	}
	return nil
}

// Allows tells whether one of the grants is enough for the need.
func (g Grants) Allows(n Need) bool {
	for i := range g {
		if g[i].covers(&n) && g[i].speaks(n.Locale) {
			return true
		}
	}
	return false
}

// Reach tells whether the grants are for the need in any locale at all, and, if
// not in every, in which.
func (g Grants) Reach(n Need) (any bool, locales []string) {
	for i := range g {
		if !g[i].covers(&n) {
			continue
		}
		if len(g[i].Locales) == 0 {
			return true, nil
		}
		any, locales = true, append(locales, g[i].Locales...)
	}
	return any, locales
}

// Texts writes every grant as people do.
func (g Grants) Texts() []string {
	out := make([]string, len(g))
	for i := range g {
		out[i] = g[i].String()
	}
	return out
}

// Rights is all that somebody may do: what is open to everyone, and what is
// their own beyond it.
type Rights struct{ Open, Own Grants }

// Allows tells whether the rights are enough for the need.
func (r Rights) Allows(n Need) bool { return r.Open.Allows(n) || r.Own.Allows(n) }

// Missing returns the first need that the rights do not cover. It names a locale
// only if it is the locale that is missing.
func (r Rights) Missing(needs []Need) (Need, bool) {
	for _, need := range needs {
		if r.Allows(need) {
			continue
		}
		elsewhere := func(g Grant) bool { return g.covers(&need) }
		if !slices.ContainsFunc(r.Open, elsewhere) && !slices.ContainsFunc(r.Own, elsewhere) {
			need.Locale = ""
		}
		return need, true
	}
	return Need{}, false
}

// AllowsAny tells whether the rights cover the verb in the edition on any type
// at all, in whatever locale.
func (r Rights) AllowsAny(verb, edition string) bool {
	fits := func(g Grant) bool { return g.Verb == verb && (g.Edition == Any || g.Edition == edition) }
	return slices.ContainsFunc(r.Open, fits) || slices.ContainsFunc(r.Own, fits)
}

// AllowsWhole tells whether the rights cover the verb in the edition on any type at
// all, in every locale.
func (r Rights) AllowsWhole(verb, edition string) bool {
	fits := func(g Grant) bool {
		return g.Verb == verb && (g.Edition == Any || g.Edition == edition) && len(g.Locales) == 0
	}
	return slices.ContainsFunc(r.Open, fits) || slices.ContainsFunc(r.Own, fits)
}

// Some tells whether the rights allow the verb on a type in the edition, in some locale at least.
func (r Rights) Some(verb, edition, typ string) bool {
	need := Need{Verb: verb, Edition: edition, Type: typ}
	for _, grants := range []Grants{r.Open, r.Own} {
		for i := range grants {
			if grants[i].covers(&need) {
				return true
			}
		}
	}
	return false
}

// Types returns those of the types on which the rights allow the verb in the
// edition, in whatever locale.
func (r Rights) Types(verb, edition string, all []string) []string {
	return r.types(Need{Verb: verb, Edition: edition}, all, func(*Grant) bool { return true })
}

// WholeTypes is Types for every locale.
func (r Rights) WholeTypes(verb, edition string, all []string) []string {
	return r.types(Need{Verb: verb, Edition: edition}, all, func(g *Grant) bool { return len(g.Locales) == 0 })
}

func (r Rights) types(need Need, all []string, counts func(*Grant) bool) []string {
	var out []string
	for _, t := range all {
		need.Type = t
		fits := func(g Grant) bool { return g.covers(&need) && counts(&g) }
		if slices.ContainsFunc(r.Open, fits) || slices.ContainsFunc(r.Own, fits) {
			out = append(out, t)
		}
	}
	return out
}

// Intersect returns what both allow.
func (g Grants) Intersect(other Grants) Grants {
	var out Grants
	for _, a := range g {
		for _, b := range other {
			one := Grant{
				Verb:    a.Verb,
				Edition: narrower(a.Edition, b.Edition),
				Type:    narrower(a.Type, b.Type),
				Locales: a.Locales,
			}
			if a.Verb != b.Verb || one.Edition == "" || one.Type == "" {
				continue
			}
			if len(a.Locales) == 0 {
				one.Locales = b.Locales
			} else if len(b.Locales) > 0 {
				one.Locales = slices.DeleteFunc(slices.Clone(a.Locales),
					func(tag string) bool { return !slices.Contains(b.Locales, tag) })
				if len(one.Locales) == 0 {
					continue
				}
			}
			if !slices.ContainsFunc(out, func(o Grant) bool { return o.String() == one.String() }) {
				out = append(out, one)
			}
		}
	}
	return out
}

// narrower is what both mean, "" if that is nothing.
func narrower(a, b string) string {
	switch {
	case a == Any:
		return b
	case b == Any || a == b:
		return a
	}
	return ""
}
