package api

import (
	"encoding/json"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
)

// Problem is a problem document (RFC 9457), and the error that it stands for: the service
// returns it from handlers, the client from calls that were refused.
type Problem struct {
	// Kind is the last part of Type: a key of ProblemKinds.
	Kind string `json:"-"`
	// Type is the address of a page that describes the kind, relative to the service.
	Type      string `json:"type"`
	Title     string `json:"title"`
	Status    int    `json:"status"`
	Detail    string `json:"detail"`
	Parameter string `json:"parameter,omitempty"`
	// At is the character of the parameter's value, the first being 1, where it is wrong.
	At    int    `json:"at,omitempty"`
	Hint  string `json:"hint,omitempty"`
	Grant string `json:"grant,omitempty"`
	// Reason is the class of the reason that a token is not accepted.
	Reason   string           `json:"reason,omitempty"`
	Problems content.Problems `json:"problems,omitempty"`
	// Conflict is what was saved meanwhile, beside what was sent.
	Conflict     *Conflict           `json:"conflict,omitempty"`
	ReferredBy   []Referrer          `json:"referredBy,omitempty"`
	Consequences []Consequence       `json:"consequences,omitempty"`
	Mistakes     strictyaml.Mistakes `json:"mistakes,omitempty"`
	// Settings are what is wrong with a setting, each with its path.
	Settings []rule.Mistake `json:"settings,omitempty"`
}

// FailedLine is the last line of an NDJSON answer that could not be brought to its end.
type FailedLine struct {
	Problem Problem `json:"problem"`
}

// Conflict shows both sides of a lost update.
type Conflict struct {
	Entry string `json:"entry"`
	// Present is the newest revision, Yours what was to be written.
	Present     content.Revision          `json:"present"`
	Yours       content.Fields            `json:"yours"`
	Differences []content.FieldDifference `json:"differences"`
}

// Filled returns the problem with its type and title.
func (p Problem) Filled() Problem {
	p.Type = "/problems/" + p.Kind
	p.Title = ProblemKinds[p.Kind][0]
	return p
}

// Bytes returns the problem document.
func (p Problem) Bytes() []byte {
	src, _ := json.Marshal(p.Filled()) // text and numbers
	return append(src, '\n')
}

// Error implements error: the detail, with the parameter before and the hint on a line after
// it; of a model that is not valid, a line for each mistake.
func (p Problem) Error() string {
	text := p.Detail
	if p.Parameter != "" {
		text = p.Parameter + ": " + text
	}
	if len(p.Mistakes) > 0 {
		return p.Mistakes.Error()
	}
	if p.Hint != "" {
		text += "\n" + p.Hint
	}
	return text
}
