// Package limits holds the budgets of one node: how much memory, processor time and how many
// connections work may take.
package limits

import (
	"fmt"
	"runtime"
	"time"

	"ubiquon/internal/core/strictyaml"
)

// Limits are the budgets of one node. A zero field means its default, which
// WithDefaults fills in. Bodies of requests are bounded by their routes.
type Limits struct {
	// Answer bounds the body of one computed answer, in bytes. Default 8MB. A larger
	// one is refused with the status 413 while it is rendered.
	Answer strictyaml.Bytes `yaml:"answer"`
	// GraphQLBody bounds the body of a GraphQL request. Default 256KB.
	GraphQLBody strictyaml.Bytes `yaml:"graphqlBody"`
	// GraphQLTokens bounds the tokens of a GraphQL document. Default 5,000.
	GraphQLTokens int `yaml:"graphqlTokens"`
	// GraphQLSteps bounds the selections that compiling one GraphQL request looks at,
	// fragments expanded and introspection included. Default 20,000.
	GraphQLSteps int `yaml:"graphqlSteps"`
	// GraphQLNesting bounds how deep the selections of a GraphQL document are nested.
	// Default 24.
	GraphQLNesting int `yaml:"graphqlNesting"`
	// Plans bounds the compiled requests that are remembered, in bytes. Default 32MB.
	Plans strictyaml.Bytes `yaml:"plans"`

	// Computing bounds the reads that are computed at once. Default 8.
	Computing int `yaml:"computing"`
	// ComputingPerPrincipal bounds those of one key, account, token, preview link or,
	// of readers without any, address. Default half of Computing.
	ComputingPerPrincipal int `yaml:"computingPerPrincipal"`
	// ComputingHeavy bounds those whose filters no index supports, or that ask for very
	// much. Default half the processors.
	ComputingHeavy int `yaml:"computingHeavy"`
	// Waiting bounds the reads that wait to be computed; WaitingPerPrincipal those of
	// one principal. Default 1,000 and 100.
	Waiting             int `yaml:"waiting"`
	WaitingPerPrincipal int `yaml:"waitingPerPrincipal"`
	// Patience is how long a read waits to be computed before it is answered with 503.
	// Default 3s.
	Patience strictyaml.Duration `yaml:"patience"`

	// Streams bounds the open event streams; StreamsPerPrincipal those of one principal.
	// Default 1,000 and 20.
	Streams             int `yaml:"streams"`
	StreamsPerPrincipal int `yaml:"streamsPerPrincipal"`

	// AnonymousPerMinute bounds the requests for content of one address without a key.
	// Default 0: no bound, since hits cost next to nothing.
	AnonymousPerMinute int `yaml:"anonymousPerMinute"`
	// AnonymousComputedPerMinute bounds those of them that must be computed. Default
	// 6,000.
	AnonymousComputedPerMinute int `yaml:"anonymousComputedPerMinute"`
	// RefusedHooksPerMinute bounds the announcements of one address that do not prove
	// where they come from. Default 60.
	RefusedHooksPerMinute int `yaml:"refusedHooksPerMinute"`
	// HooksPerMinute bounds the announcements of one origin that are proven. Default 6,000.
	HooksPerMinute int `yaml:"hooksPerMinute"`
	// RefusedHooksKept is how many of those are kept of each origin. Default 200.
	RefusedHooksKept int `yaml:"refusedHooksKept"`
	// SubmissionsFactor bounds what is handed in of one type from all addresses
	// together, as a multiple of the type's perMinute. Default 20.
	SubmissionsFactor int `yaml:"submissionsFactor"`
	// Refusals is how many of the reads that were refused last are remembered. Default 200.
	Refusals int `yaml:"refusals"`
	// PreviewLinks bounds the preview links that are good at the same time. Default
	// 10,000.
	PreviewLinks int `yaml:"previewLinks"`
}

// WithDefaults returns the limits with every zero field set to its default.
func (l Limits) WithDefaults() Limits {
	set := func(field *int, value int) {
		if *field == 0 {
			*field = max(1, value)
		}
	}
	size := func(field *strictyaml.Bytes, value strictyaml.Bytes) {
		if *field == 0 {
			*field = value
		}
	}
	size(&l.Answer, 8<<20)
	size(&l.GraphQLBody, 256<<10)
	set(&l.GraphQLTokens, 5_000)
	set(&l.GraphQLSteps, 20_000)
	set(&l.GraphQLNesting, 24)
	size(&l.Plans, 32<<20)
	set(&l.Computing, 8)
	set(&l.ComputingPerPrincipal, l.Computing/2)
	set(&l.ComputingHeavy, runtime.GOMAXPROCS(0)/2)
	set(&l.Waiting, 1_000)
	set(&l.WaitingPerPrincipal, 100)
	l.Patience = strictyaml.Duration(l.Patience.Or(3 * time.Second))
	set(&l.Streams, 1_000)
	set(&l.StreamsPerPrincipal, 20)
	set(&l.AnonymousComputedPerMinute, 6_000)
	set(&l.RefusedHooksPerMinute, 60)
	set(&l.HooksPerMinute, 6_000)
	set(&l.RefusedHooksKept, 200)
	set(&l.SubmissionsFactor, 20)
	set(&l.PreviewLinks, 10_000)
	set(&l.Refusals, 200)
	return l
}

// Check returns an error that names a limit that cannot be, nil if all can.
func (l Limits) Check() error {
	for name, v := range map[string]int{
		"graphqlTokens": l.GraphQLTokens, "graphqlSteps": l.GraphQLSteps, "graphqlNesting": l.GraphQLNesting,
		"computing":             l.Computing,
		"computingPerPrincipal": l.ComputingPerPrincipal, "computingHeavy": l.ComputingHeavy, "waiting": l.Waiting,
		"waitingPerPrincipal": l.WaitingPerPrincipal,
		"streams":             l.Streams, "streamsPerPrincipal": l.StreamsPerPrincipal,
		"anonymousPerMinute":         l.AnonymousPerMinute,
		"anonymousComputedPerMinute": l.AnonymousComputedPerMinute, "refusedHooksPerMinute": l.RefusedHooksPerMinute,
		"hooksPerMinute": l.HooksPerMinute, "refusedHooksKept": l.RefusedHooksKept, "submissionsFactor": l.SubmissionsFactor,
		"previewLinks": l.PreviewLinks, "refusals": l.Refusals,
	} {
		if v < 0 {
			return fmt.Errorf("limits.%s: %d is negative; give a number, or leave it out for the default", name, v)
		}
	}
	if l.Computing > 200 {
		return fmt.Errorf(
			"limits.computing: %d reads at once would take as many connections of PostgreSQL; give 1 to 200",
			l.Computing,
		)
	}
	return nil
}
