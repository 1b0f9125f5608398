package why

import (
	"fmt"

	"ubiquon/internal/core/access"
)

// reader says what about the reader keeps it from entries of the type.
func (x *explanation) reader() {
	r := &x.Reader
	key := r.Name
	again := Remedy{
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
			Remedy{
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
			Remedy{Says: "Rotate it again", Command: "ubiquon key rotate " + r.ID, Page: "/keys"},
		)
	}
	if x.Type == nil || r.Rights.Allows(x.need()) {
		return
	}
	missing, _ := r.Rights.Missing([]access.Need{x.need()})
	grant := missing.String()
	open := Remedy{
		Says:    "Open it to everyone",
		Command: access.OpenCommand(grant),
		Request: &Request{"PATCH", "/open", map[string]any{"add": []string{grant}}},
	}
	give := Remedy{
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

// forReader leaves out of the remedies what does not fit who reads.
func (x *explanation) forReader(give, open Remedy) []Remedy {
	var out []Remedy
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
