package client

import (
	"errors"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/writing"
)

// Problem is the error of a request that the service refused (RFC 9457).
type Problem struct {
	Status    int    `json:"status,omitempty"`
	Type      string `json:"type,omitempty"`
	Title     string `json:"title,omitempty"`
	Detail    string `json:"detail,omitempty"`
	Parameter string `json:"parameter,omitempty"`
	Hint      string `json:"hint,omitempty"`
	Grant     string `json:"grant,omitempty"`
	// Problems of an entry's content, Mistakes of a model's files, ReferredBy of a
	// deletion, Consequences of a model that would lose content, Conflict of a lost
	// update.
	Problems     content.Problems      `json:"problems,omitempty"`
	Mistakes     strictyaml.Mistakes   `json:"mistakes,omitempty"`
	ReferredBy   []writing.Referrer    `json:"referredBy,omitempty"`
	Consequences []writing.Consequence `json:"consequences,omitempty"`
	Conflict     *Conflict             `json:"conflict,omitempty"`
}

// ErrUnreachable is the error of a service that does not answer.
var ErrUnreachable = errors.New("no service answers")

// Conflict shows both sides of a lost update.
type Conflict struct {
	Entry       string                    `json:"entry"`
	Present     content.Revision          `json:"present"`
	Yours       content.Fields            `json:"yours"`
	Differences []content.FieldDifference `json:"differences"`
}

// Error implements error.
func (p *Problem) Error() string {
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
