package servicecmd

import (
	"fmt"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/demo"
)

// Event returns the command event.
func (a *Commands) Event() *cobra.Command {
	var f api.EventFilter
	list := &cobra.Command{
		Use: "list", Short: "List events, and how long each took to reach visitors", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			events, err := s.Origins().Events(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": events}, func(t *command.Table) {
				t.Row("ID", "ACCEPTED", "WHAT", "STATE", "FRESH", "BUILT", "LIVE", "ENTRY")
				for _, e := range events {
					what := "–"
					if e.Decoded != nil {
						what = e.Decoded.Kind
					}
					t.Row(
						e.ID, command.When(&e.Received), what, e.State,
						command.Between(e.Trace.Published, e.Trace.Expired),
						command.Between(e.Trace.Published, e.Trace.Built),
						command.Between(e.Trace.Published, e.Trace.Live), t.Short(command.OrDash(e.Title), 16),
					)
				}
			})
		},
	}
	list.Flags().IntVar(&f.Limit, "limit", 20, "how many at most")
	list.Flags().StringVar(&f.State, "state", "", "only waiting, done, failed, refused or unknown ones")
	list.Flags().StringVar(&f.Entry, "entry", "", "only those about this entry")
	list.Flags().StringVar(
		&f.Filter, "filter", "",
		"a CQL2 filter on origin, state, kind, type, title, entry, detail, sequence and received",
	)

	show := &cobra.Command{
		Use: "show ID", Short: "Show one event: its freshness trace and all that came of it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			e, err := s.Origins().Event(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(e, func(t *command.Table) {
				t.Row("origin", e.Origin)
				t.Row("state", fmt.Sprintf("%s  %s", e.State, e.Detail))
				t.Row("entry", command.OrDash(e.Entry)+"  "+e.Title)
				if e.Sequence != nil {
					t.Row("sequence", *e.Sequence)
				}
				t.Line("")
				t.W.Flush()
				demo.WriteTrace(a.Out, e.Trace, "")
				if p := e.Pages; p != nil {
					t.Row("pages", fmt.Sprintf("seen by visitors on %d of %d that were looked at", p.Seen, p.Seen+p.Waiting))
				}
				t.Line("")
				for _, r := range e.Rules {
					mark := "did not fire"
					if r.Fired {
						mark = "fired"
					}
					t.Row("rule", r.Rule, mark, r.Reason)
				}
				for _, b := range e.Builds {
					t.Row("build", fmt.Sprintf("%s %d", b.Site, b.Number), b.State, b.Error)
				}
			})
		},
	}
	return command.Noun("event", "Show events: announcements of origins", list, show, a.eventReplay())
}

func (a *Commands) eventReplay() *cobra.Command {
	return &cobra.Command{
		Use: "replay ID", Short: "Process an event again", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			e, err := s.Origins().Replay(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(e, func(t *command.Table) { t.Line("Event " + e.ID + " is processed again.") })
		},
	}
}
