// Package contentapi is the surface under /content/: it parses REST and GraphQL requests
// into plans of delivery, and writes their answers with the headers that caches need.
package contentapi

import (
	"log/slog"
	"strconv"
	"sync/atomic"

	"ubiquon/internal/environment"
	"ubiquon/internal/server/guard"
)

// API answers the requests under /content/ of one environment. It is safe for concurrent
// use. Create it with New.
type API struct {
	env   *environment.Environment
	guard *guard.Guard
	log   *slog.Logger
	// batch and trustedOnly are those of Options.
	batch       int
	trustedOnly bool
	// sequence is the header that was written last: until something changes it is that of most answers.
	sequence atomic.Pointer[sequenceHeader]
}

// sequenceHeader is a sequence as a header has it.
type sequenceHeader struct {
	number int64
	values []string
}

// sequenceValues is a sequence as a header has it. Nobody changes it.
func (s *API) sequenceValues(number int64) []string {
	last := s.sequence.Load()
	if last == nil || last.number != number {
		last = &sequenceHeader{number, []string{strconv.FormatInt(number, 10)}}
		s.sequence.Store(last)
	}
	return last.values[:1:1]
}

// Options of New.
type Options struct {
	Environment *environment.Environment
	Guard       *guard.Guard
	// Batch is how many GraphQL requests may come in one; 0: lists are refused.
	Batch int
	// TrustedOnly answers no GraphQL documents but the trusted ones, except to those
	// who administer.
	TrustedOnly bool
	Log         *slog.Logger
}

// New returns the surface, and lets delivery compile requests again by their text.
func New(o Options) *API {
	s := &API{env: o.Environment, guard: o.Guard, log: o.Log, batch: o.Batch, trustedOnly: o.TrustedOnly}
	o.Environment.Delivery.SetRecompile(s.recompile)
	return s
}
