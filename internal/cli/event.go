package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"ubiquon/internal/demo"
	"ubiquon/internal/store/events"
)

func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func (a *app) event() *cobra.Command {
	var f events.EventFilter
	list := &cobra.Command{
		Use: "list", Short: "List what origins announced, and how fast it arrived", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			events, err := s.Origins().Events(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": events}, func(t *table) {
				t.row("ID", "ACCEPTED", "WHAT", "STATE", "FRESH", "BUILT", "ENTRY")
				for _, e := range events {
					what := "–"
					if e.Decoded != nil {
						what = e.Decoded.Kind
					}
					t.row(
						e.ID, when(&e.Received), what, e.State, between(e.Trace.Published, e.Trace.Expired),
						between(e.Trace.Published, e.Trace.Built), t.short(orDash(e.Title), 16),
					)
				}
			})
		},
	}
	list.Flags().IntVar(&f.Limit, "limit", 20, "how many at most")
	list.Flags().StringVar(&f.State, "state", "", "only waiting, done, failed or refused ones")
	list.Flags().StringVar(&f.Entry, "entry", "", "only those about this entry")

	show := &cobra.Command{
		Use: "show ID", Short: "Show one event: its freshness trace and all that came of it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			e, err := s.Origins().Event(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(e, func(t *table) {
				t.row("origin", e.Origin)
				t.row("state", fmt.Sprintf("%s  %s", e.State, e.Detail))
				t.row("entry", orDash(e.Entry)+"  "+e.Title)
				if e.Sequence != nil {
					t.row("sequence", *e.Sequence)
				}
				t.line("")
				t.w.Flush()
				demo.WriteTrace(a.out, e.Trace, "")
				t.line("")
				for _, r := range e.Rules {
					mark := "did not fire"
					if r.Fired {
						mark = "fired"
					}
					t.row("rule", r.Rule, mark, r.Detail)
				}
				for _, b := range e.Builds {
					t.row("build", fmt.Sprintf("%s %d", b.Site, b.Number), b.State, b.Error)
				}
			})
		},
	}
	return noun("event", "Look at what origins announced", list, show)
}
